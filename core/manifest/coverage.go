package manifest

import (
	"bytes"
	"encoding/hex"
	"strings"

	"endeixis/core/digest"
)

// An Aside is a part of the text that has the form of a digest and was used for
// nothing.
type Aside struct {
	// Line and Column say where it stands; both count from 1, and columns count bytes.
	Line   int `json:"line"`
	Column int `json:"column"`
	// Length is how many bytes of the line it is.
	Length int `json:"length"`
	// Span is its place in the whole text, once [Manifest.Locate] was called.
	Span Span `json:"span,omitzero"`
	// Text is the part itself.
	Text string `json:"text"`
	// Why says why it was left aside.
	Why string `json:"why"`
}

// asides collects, while a text is read, what [parser.checkCoverage] needs: why values were left
// aside, and which parts of the text became part of a value.
type asides struct {
	// why says it by line.
	why map[int]string
	// covered holds parts of values that are written in pieces, in small letters.
	covered map[string]bool
}

func newAsides() asides { return asides{why: map[int]string{}, covered: map[string]bool{}} }

// note says why the values of a line are left aside.
func (a *asides) note(line int, why string) { a.why[line] = why }

// leastPart is the length of the shortest word that the coverage of a text asks about.
const leastPart = 22

// cover takes the words of a text for parts of a value.
func (a *asides) cover(text string) {
	if len(text) < leastPart {
		return
	}
	for word := range strings.FieldsFuncSeq(text, func(r rune) bool { return r > 0x7f || !isAlnum(byte(r)) }) {
		if len(word) >= leastPart {
			a.covered[strings.ToLower(strings.TrimPrefix(word, "0x"))] = true
		}
	}
}

// covered takes the pieces of a value that became an entry for parts of it.
func (p *parser) covered(r *laidRow, v value) {
	if v.grouped && v.to <= len(r.text) {
		p.aside.cover(r.text[v.from:v.to])
	}
	p.aside.cover(v.pieces)
}

// checkCoverage goes through a text once more that has so many lines before it, and notes each
// part in the form of a digest that became neither an entry nor a problem.
func (p *parser) checkCoverage(text string, before int) {
	k := coverage{parser: p, rest: p.out.Entries.rest, told: map[int]bool{}}
	for _, problem := range p.out.Problems {
		k.told[problem.Line] = true
	}
	no := before
	for len(text) > 0 {
		var line string
		if end := strings.IndexByte(text, '\n'); end >= 0 {
			line, text = text[:end], text[end+1:]
		} else {
			line, text = text, ""
		}
		no++
		if k.told[no] {
			continue
		}
		k.line(line, no)
	}
}

// A coverage goes through the lines of a text. It gives entries of its own to the parser
// where the text was handed over.
type coverage struct {
	*parser
	// rest are the entries in the order of their lines, up to when the check began, and next
	// is the first of those that are not above the line at hand.
	rest []Entry
	next int
	// told are the lines with problems, and values those that became entries, once they were
	// asked for.
	told   map[int]bool
	values map[string]bool
}

// ahead is how many entries of one line are looked at before all values are: they mostly
// come in the order of the line.
const ahead = 8

// used reports whether a value of a line became an entry, there or elsewhere.
func (k *coverage) used(no int, value []byte) bool {
	for k.next < len(k.rest) && k.rest[k.next].Line < no {
		k.next++
	}
	for i := k.next; i < min(len(k.rest), k.next+ahead) && k.rest[i].Line == no; i++ {
		if bytes.Equal(k.rest[i].Digest, value) {
			k.next = i
			return true
		}
	}
	if k.values == nil {
		k.values = make(map[string]bool, k.out.Entries.Len())
		for _, e := range k.out.Entries.All() {
			k.values[string(e.Digest)] = true
			if e.Pieces != nil {
				for _, v := range e.Pieces.Digests {
					k.values[string(v)] = true
				}
			}
		}
	}
	return k.values[string(value)]
}

// line accounts for one line.
func (k *coverage) line(line string, no int) {
	for i := 0; i < len(line); {
		if !isAlnum(line[i]) {
			i++
			continue
		}
		from := i
		hexes := 0
		for i < len(line) &&
			(isAlnum(line[i]) || line[i] == '+' || line[i] == '/' || line[i] == '_' || line[i] == '-') {
			if isHex(line[i]) {
				hexes++
			}
			i++
		}
		word := line[from:i]
		if len(word) < 22 {
			continue
		}
		if hexes < len(word) {
			padded := i < len(line) && line[i] == '='
			k.word(from, word, padded, no)
			continue
		}
		k.hex(from, word, no)
	}
}

// word accounts for a word that is not all digits: it may be base64, as it is where
// an equals sign fills it up, or have digits within it.
//
//nolint:cyclop // one pass over the characters of a word, in which each bound is a branch
func (k *coverage) word(from int, word string, padded bool, no int) {
	found := false
	for at := 0; at < len(word); {
		if !isHex(word[at]) {
			at++
			continue
		}
		end := at
		for end < len(word) && isHex(word[end]) {
			end++
		}
		if end-at >= 32 {
			k.hex(from+at, word[at:end], no)
			found = true
		}
		at = end
	}
	if found || !mixed(word) && !padded || len(word) > 100 {
		return
	}
	body := word
	if at := strings.IndexByte(body, '-'); at > 0 && at < 8 {
		if _, ok := algorithmOf(body[:at]); ok {
			body = body[at+1:]
		}
	}
	if value := decodeBase64(body); len(value) >= 16 && digest.OfSize(len(value)) != nil && !k.used(no, value) {
		k.leaveAside(no, from+len(word)-len(body), body)
	}
}

// hex accounts for a word of digits.
func (k *coverage) hex(from int, word string, no int) {
	if len(word) < 32 || len(word)%2 != 0 || len(word) > maxHex || digest.OfSize(len(word)/2) == nil {
		return
	}
	var room [maxHex / 2]byte
	value := room[:len(word)/2]
	if _, err := hex.Decode(value, []byte(word)); err != nil || k.used(no, value) ||
		k.aside.covered[strings.ToLower(word)] {
		return
	}
	k.leaveAside(no, from, word)
}

// untied say of values only that no name is theirs, not that they are of something else.
var untied = map[string]bool{
	notTied:  true,
	notSaid:  true,
	notNamed: true,
	"nothing says that it is a digest of a file":    true,
	"it stands in a remark":                         true,
	"no file is named with it":                      true,
	"what it stands with is not the name of a file": true,
}

const (
	notTied  = "nothing here ties it to a file"
	notSaid  = "nothing says of which file it is, or that it is a digest"
	notNamed = "it is of a package, and no file of that is named"
)

// give makes an entry without a name of a value that was left aside in a text that was
// handed over. It returns false for one that no digest can be.
func (p *parser) give(line, from int, text, why string) bool {
	v, ok := decodeHex(text)
	if !ok {
		v = decodeBase64(text)
	}
	if len(v) == 0 {
		v, _ = valueOfBody(digest.Unknown, text)
	}
	if len(v) == 0 {
		return false
	}
	if p.seen == nil {
		p.seen = map[string]bool{}
	}
	if p.seen[string(v)] {
		return true
	}
	p.seen[string(v)] = true
	e := entryOf("", v, digest.OfSize(len(v)), Bare)
	if p.hint.Size() == len(v) {
		e.Algorithm = p.hint
	}
	e.at(line, from+1)
	if !untied[why] {
		e.Question = why
	}
	p.add(e)
	return true
}

func (p *parser) leaveAside(line, from int, text string) {
	why := p.aside.why[line]
	if why == "" {
		why = notTied
	}
	if p.opts.Given && p.give(line, from, text, why) {
		return
	}
	if len(p.out.LeftAside) >= p.opts.MaxAsides {
		p.out.MoreLeftAside++
		return
	}
	p.out.LeftAside = append(
		p.out.LeftAside, Aside{Line: line, Column: from + 1, Length: len(text), Text: clip([]byte(text)), Why: why},
	)
}
