// Package lineend converts line endings in a stream that comes in parts. A
// converter is for one stream; what it returns is valid until its next call.
package lineend

import (
	"bytes"
	"io"
	"slices"
	"unicode/utf8"
)

// ToLF returns a converter that drops every CR before an LF. A CR at the end of one
// part is kept back until the next.
func ToLF() func([]byte) []byte {
	held := false
	return func(b []byte) []byte {
		if held {
			b = append([]byte{'\r'}, b...)
			held = false
		}
		if n := len(b); n > 0 && b[n-1] == '\r' {
			held = true
			b = b[:n-1]
		}
		return bytes.ReplaceAll(b, []byte("\r\n"), []byte("\n"))
	}
}

// ToCRLF returns a converter that puts a CR before every LF that has none.
func ToCRLF() func([]byte) []byte {
	last := byte(0)
	var out []byte
	return func(b []byte) []byte {
		out = out[:0]
		for len(b) > 0 {
			at := bytes.IndexByte(b, '\n')
			if at < 0 {
				out = append(out, b...)
				last = b[len(b)-1]
				break
			}
			if at > 0 {
				last = b[at-1]
			}
			out = append(out, b[:at]...)
			if last != '\r' {
				out = append(out, '\r')
			}
			out = append(out, '\n')
			last = '\n'
			b = b[at+1:]
		}
		return out
	}
}

// A Text passes text on with CR LF at the end of each line, and notices what is
// no text.
type Text struct {
	to       io.Writer
	convert  func([]byte) []byte
	controls bool
	invalid  bool
	// begun is the start of a character whose other bytes have not come yet.
	begun []byte
}

// NewText returns a Text that writes to w.
func NewText(w io.Writer) *Text { return &Text{to: w, convert: ToCRLF()} }

// Write passes p on.
func (t *Text) Write(p []byte) (int, error) {
	if !t.controls && !t.invalid {
		t.look(p)
	}
	if _, err := t.to.Write(t.convert(p)); err != nil {
		return 0, err
	}
	return len(p), nil
}

// look notices what is no text, in the characters that have all come.
func (t *Text) look(p []byte) {
	if len(t.begun) > 0 {
		p = append(t.begun, p...)
		t.begun = nil
	}
	for len(p) > 0 {
		if c := p[0]; c < utf8.RuneSelf {
			t.controls = t.controls || c < ' ' && c != '\n' && c != '\r' && c != '\t' && c != '\f' || c == 0x7f
			p = p[1:]
			continue
		}
		if !utf8.FullRune(p) {
			t.begun = slices.Clone(p)
			return
		}
		r, size := utf8.DecodeRune(p)
		switch {
		case r == utf8.RuneError && size == 1,
			r&0xfffe == 0xfffe,
			r >= 0xfdd0 && r <= 0xfdef: // the last are no characters
			t.invalid = true
			return
		case r < 0xa0 && r != 0x85:
			t.controls = true
		}
		p = p[size:]
	}
}

// Binary reports whether all that was written is no text: it has control characters,
// or bytes that are no UTF-8, or ends within a character.
func (t *Text) Binary() bool { return t.controls || t.invalid || len(t.begun) > 0 }

// Controls reports whether a control character was written, whatever the encoding of
// the rest.
func (t *Text) Controls() bool { return t.controls }
