package manifest

import (
	"bufio"
	"bytes"
	"io"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"
)

// decode returns the text in UTF-8: as it is when it is UTF-8, with or without
// a byte-order mark; from UTF-16 of either byte order, by its mark or by the
// zeros between its letters; from Latin-1 when the first part is not UTF-8, which latin
// tells.
func decode(r *bufio.Reader) (text io.Reader, latin bool) {
	head, _ := r.Peek(4096)
	switch {
	case bytes.HasPrefix(head, []byte("\xef\xbb\xbf")):
		r.Discard(3) //nolint:errcheck // it was peeked
		return r, false
	case bytes.HasPrefix(head, []byte("\xff\xfe")), bytes.HasPrefix(head, []byte("\xfe\xff")):
		return transform.NewReader(r, unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewDecoder()), false
	case zerosAt(head, 1):
		return transform.NewReader(r, unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM).NewDecoder()), false
	case zerosAt(head, 0):
		return transform.NewReader(r, unicode.UTF16(unicode.BigEndian, unicode.IgnoreBOM).NewDecoder()), false
	case !validHead(head):
		return transform.NewReader(r, charmap.ISO8859_1.NewDecoder()), true
	}
	return r, false
}

// beginsInASCII reports whether the first part of a text is of ASCII alone.
func beginsInASCII(text string) bool {
	head := text[:min(len(text), 4096)]
	for i := 0; i < len(head); i++ {
		if head[i] == 0 || head[i] >= 0x80 {
			return false
		}
	}
	return true
}

// asItIs reports whether a text needs neither decoding nor other line ends.
func asItIs(text string) bool {
	return beginsInASCII(text) && strings.IndexByte(text, '\r') < 0
}

// IsText reports whether the beginning of a file is that of a text: in Unicode, or in
// Latin-1 without signs that no text has.
func IsText(head []byte) bool { //nolint:cyclop // one case for each range of bytes that text has or has not
	if bytes.HasPrefix(head, []byte("\xff\xfe")) || bytes.HasPrefix(head, []byte("\xfe\xff")) || zerosAt(head, 0) ||
		zerosAt(head, 1) {
		return true
	}
	odd := 0
	for _, c := range head {
		if c == 0 {
			return false
		}
		if c < ' ' && c != '\t' && c != '\n' && c != '\r' && c != '\f' && c != 0x1b {
			odd++
		}
	}
	if !validHead(head) {
		for _, c := range head {
			if c >= 0x80 {
				odd++
			}
		}
		return odd*5 < len(head)
	}
	return odd*50 <= len(head)
}

// zerosAt reports whether nearly every second byte, from the given parity, is
// zero, as in UTF-16 of Latin letters.
func zerosAt(head []byte, parity int) bool {
	if len(head) < 8 {
		return false
	}
	zeros, others := 0, 0
	for i, c := range head {
		if c == 0 && i%2 == parity {
			zeros++
		} else if c == 0 {
			others++
		}
	}
	return others == 0 && zeros*10 >= len(head)/2*9
}

// validHead reports whether head is UTF-8, but for a character cut at its end.
func validHead(head []byte) bool {
	for cut := range min(utf8.UTFMax, len(head)+1) {
		if utf8.Valid(head[:len(head)-cut]) {
			return true
		}
	}
	return false
}

// lineEnds passes text on with an LF in the place of each CR that has none behind it:
// old systems, and programs that mix texts, end lines so.
type lineEnds struct {
	r io.Reader
	// held is set while a CR at the end of what came last waits for what follows.
	held bool
}

// Read implements [io.Reader]. p has room for two bytes at least.
func (l *lineEnds) Read(p []byte) (int, error) {
	for {
		from := 0
		if l.held {
			p[0], from, l.held = '\r', 1, false
		}
		n, err := l.r.Read(p[from:])
		n += from
		l.convert(p[:n], err != nil)
		if l.held {
			n--
		}
		if n > 0 || err != nil {
			return n, err
		}
	}
}

// convert replaces what it can in b, and holds back a CR at its end unless that is the
// last.
func (l *lineEnds) convert(b []byte, last bool) {
	for at := bytes.IndexByte(b, '\r'); at >= 0; {
		switch {
		case at+1 < len(b) && b[at+1] != '\n', at+1 == len(b) && last:
			b[at] = '\n'
		case at+1 == len(b):
			l.held = true
			return
		}
		next := bytes.IndexByte(b[at+1:], '\r')
		if next < 0 {
			return
		}
		at += 1 + next
	}
}
