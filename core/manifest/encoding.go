package manifest

import (
	"bufio"
	"bytes"
	"io"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"
)

// decode returns the text in UTF-8: as it is when it is UTF-8, with or without
// a byte-order mark; from UTF-16 of either byte order, by its mark or by the
// zeros between its letters; from Latin-1 when the first part is not UTF-8.
func decode(r *bufio.Reader) io.Reader {
	head, _ := r.Peek(4096)
	switch {
	case bytes.HasPrefix(head, []byte("\xef\xbb\xbf")):
		r.Discard(3) //nolint:errcheck // it was peeked
		return r
	case bytes.HasPrefix(head, []byte("\xff\xfe")), bytes.HasPrefix(head, []byte("\xfe\xff")):
		return transform.NewReader(r, unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewDecoder())
	case zerosAt(head, 1):
		return transform.NewReader(r, unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM).NewDecoder())
	case zerosAt(head, 0):
		return transform.NewReader(r, unicode.UTF16(unicode.BigEndian, unicode.IgnoreBOM).NewDecoder())
	case !validHead(head):
		return transform.NewReader(r, charmap.ISO8859_1.NewDecoder())
	}
	return r
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
