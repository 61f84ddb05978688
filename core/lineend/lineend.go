// Package lineend converts line endings in a stream that comes in parts. A
// converter is for one stream; what it returns is valid until its next call.
package lineend

import (
	"bytes"
	"io"
	"slices"
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
	return func(b []byte) []byte {
		out := make([]byte, 0, len(b)+len(b)/16)
		for _, c := range b {
			if c == '\n' && last != '\r' {
				out = append(out, '\r')
			}
			out = append(out, c)
			last = c
		}
		return out
	}
}

// A Text passes text on with CR LF at the end of each line, and notices what is
// no text.
type Text struct {
	to      io.Writer
	convert func([]byte) []byte
	binary  bool
}

// NewText returns a Text that writes to w.
func NewText(w io.Writer) *Text { return &Text{to: w, convert: ToCRLF()} }

// Write passes p on.
func (t *Text) Write(p []byte) (int, error) {
	t.binary = t.binary || slices.ContainsFunc(p, func(c byte) bool { return c < ' ' && c != '\n' && c != '\r' && c != '\t' && c != '\f' })
	if _, err := t.to.Write(t.convert(p)); err != nil {
		return 0, err
	}
	return len(p), nil
}

// Binary reports whether something was written that is no text.
func (t *Text) Binary() bool { return t.binary }
