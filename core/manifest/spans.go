package manifest

import (
	"bufio"
	"encoding/base64"
	"encoding/hex"
	"slices"
	"strings"
	"unicode/utf16"
	"unicode/utf8"

	"endeixis/core/digest"
)

// A Span is a place in a text as it was given, in bytes from 0. The zero span is nowhere.
type Span struct {
	Start int `json:"start"`
	End   int `json:"end"`
}

// Locate finds where in a text the entries, the problems and what was left aside stand: the
// text that the manifest was read from, or one that has its lines. A value that stands
// there in other characters, such as one with entities in it, is told as its line.
func (m *Manifest) Locate(text string) {
	l := newLocator(text)
	for i := range m.Entries.rest {
		e := &m.Entries.rest[i]
		e.span = l.find(e.Line, e.Digest)
	}
	l.rewind()
	problems := slices.Clone(m.Problems)
	slices.SortStableFunc(problems, func(a, b Problem) int { return a.Line - b.Line })
	for i := range problems {
		problems[i].Span = l.line(problems[i].Line)
	}
	m.Problems = problems
	l.rewind()
	for i := range m.LeftAside {
		a := &m.LeftAside[i]
		a.Span = l.part(a.Line, a.Column-1, a.Length)
	}
	if m.Entries.plain != nil {
		located := *m.Entries.plain
		located.located, located.shift = true, l.shift
		m.Entries.plain = &located
	}
}

// Span returns where the value of an entry stands, once [Manifest.Locate] was called.
func (e Entry) Span() Span { return e.span }

// A locator finds places in a text, line after line.
type locator struct {
	text string
	// given tells places in the text as it was given.
	given func(offset int) int
	// shift is how many bytes of a mark stand before a text in UTF-8.
	shift int
	// no is the number of the line at hand, from and to its place, and at how far values in
	// it were found.
	no, from, to, at int
	// misses counts the values that were not found.
	misses int
}

// maxMisses bounds the values that are looked for without being found.
const maxMisses = 1000

func newLocator(raw string) *locator {
	decoded, _, err := inUnicode(raw)
	if err != nil {
		decoded = raw
	}
	l := &locator{text: decoded, given: func(offset int) int { return offset }}
	r := bufio.NewReader(strings.NewReader(raw[:min(len(raw), 4096)]))
	head, _ := r.Peek(4096)
	switch {
	case strings.HasPrefix(raw, "\xef\xbb\xbf"):
		l.shift = 3
		l.given = func(offset int) int { return offset + 3 }
	case len(decoded) == len(raw): // the same bytes, but for line ends
	case inUTF16(head):
		mark := 0
		if strings.HasPrefix(raw, "\xff\xfe") || strings.HasPrefix(raw, "\xfe\xff") {
			mark = 2
		}
		l.given = l.counted(func(r rune) int { return 2 * max(1, utf16.RuneLen(r)) }, mark)
	case !validHead(head):
		l.given = l.counted(func(rune) int { return 1 }, 0)
	}
	l.rewind()
	return l
}

func inUTF16(head []byte) bool {
	text := string(head)
	return strings.HasPrefix(text, "\xff\xfe") || strings.HasPrefix(text, "\xfe\xff") || zerosAt(head, 0) ||
		zerosAt(head, 1)
}

// counted returns what tells places in a text of another encoding, in which a character
// has so many bytes.
func (l *locator) counted(width func(rune) int, mark int) func(int) int {
	offset, out := 0, mark
	return func(to int) int {
		if to < offset {
			offset, out = 0, mark
		}
		for offset < to {
			r, n := utf8.DecodeRuneInString(l.text[offset:])
			offset, out = offset+n, out+width(r)
		}
		return out
	}
}

// rewind goes back to the first line.
func (l *locator) rewind() {
	l.no, l.from = 1, 0
	l.end()
}

func (l *locator) end() {
	l.at, l.to = l.from, len(l.text)
	if n := strings.IndexByte(l.text[l.from:], '\n'); n >= 0 {
		l.to = l.from + n
	}
}

// goTo goes to a line, and reports whether there is one.
func (l *locator) goTo(no int) bool {
	if no < l.no {
		l.rewind()
	}
	for l.no < no {
		if l.to >= len(l.text) {
			return false
		}
		l.no, l.from = l.no+1, l.to+1
		l.end()
	}
	return no > 0
}

// line returns the place of a line without the blanks around it.
func (l *locator) line(no int) Span {
	if !l.goTo(no) {
		return Span{}
	}
	text := l.text[l.from:l.to]
	start := l.from + len(text) - len(strings.TrimLeft(text, " \t\r"))
	return l.span(start, max(start, l.from+len(strings.TrimRight(text, " \t\r"))))
}

// part returns the place of a part of a line.
func (l *locator) part(no, column, length int) Span {
	if !l.goTo(no) {
		return Span{}
	}
	start := min(l.from+column, l.to)
	return l.span(start, min(start+length, l.to))
}

func (l *locator) span(start, end int) Span { return Span{l.given(start), l.given(end)} }

// find returns the place of a value that begins in a line, behind those found before.
func (l *locator) find(no int, v digest.Value) Span {
	if !l.goTo(no) {
		return Span{}
	}
	if l.misses < maxMisses {
		for _, from := range []int{l.at, l.from} {
			if start, end, ok := l.valueAt(from, v); ok {
				l.at = start + 1
				return l.span(start, end)
			}
			if from == l.from {
				break
			}
		}
		l.misses++
	}
	return l.line(no)
}

// valueAt looks for a value in the line at hand from a place on: in hexadecimal, which may
// be in groups and go on in further lines, or in base64.
func (l *locator) valueAt(from int, v digest.Value) (start, end int, ok bool) {
	digits := hex.EncodeToString(v)
	for i := from; i < l.to; i++ {
		if !isHex(l.text[i]) || l.text[i]|0x20 != digits[0] && l.text[i] != digits[0] {
			continue
		}
		if end := digitsAt(l.text, i, digits); end > 0 {
			return i, end, true
		}
	}
	line := l.text[from:l.to]
	for _, encoding := range []*base64.Encoding{base64.RawStdEncoding, base64.RawURLEncoding} {
		if at := strings.Index(line, encoding.EncodeToString(v)); at >= 0 {
			end := from + at + encoding.EncodedLen(len(v))
			for end < l.to && l.text[end] == '=' {
				end++
			}
			return from + at, end, true
		}
	}
	return 0, 0, false
}

// maxGap bounds what stands between two groups of digits.
const maxGap = 64

// digitsAt returns where digits end that begin at a place, in whatever groups, or 0.
func digitsAt(text string, at int, digits string) int {
	gap := 0
	for n := 0; n < len(digits); at++ {
		switch {
		case at >= len(text):
			return 0
		case text[at] == digits[n] || text[at]|0x20 == digits[n] && isLetter(digits[n]):
			n++
			gap = 0
			continue
		case n == 0, isAlnum(text[at]) && text[at] != 'x' && text[at] != '0', gap == maxGap:
			return 0
		}
		gap++
	}
	return at
}
