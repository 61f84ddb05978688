package diagnose

import (
	"bytes"

	"endeixis/core/digest"
	"endeixis/core/manifest"
)

// A prefix hashes the first bytes of a stream and looks at what follows.
type prefix struct {
	set  *digest.Set
	left int64
	tail int64
	// zeros and ones count the bytes 0x00 and 0xff of the tail.
	zeros, ones int64
}

func (p *prefix) Write(b []byte) (int, error) {
	n := len(b)
	own := b[:min(int64(len(b)), p.left)]
	for _, w := range p.set.Writers() {
		w.Write(own) //nolint:errcheck // hashes do not fail
	}
	p.left -= int64(len(own))
	rest := b[len(own):]
	p.tail += int64(len(rest))
	p.zeros += int64(bytes.Count(rest, []byte{0}))
	p.ones += int64(bytes.Count(rest, []byte{0xff}))
	return n, nil
}

// holds says what the tail is made of.
func (p *prefix) holds() string {
	switch p.tail {
	case p.zeros:
		return "all of them zero"
	case p.ones:
		return "all of them FF"
	}
	return "with content of their own"
}

// A converter hashes a stream after converting it.
type converter struct {
	set     *digest.Set
	convert func(b []byte) []byte
}

func (c *converter) Write(b []byte) (int, error) {
	converted := c.convert(b)
	for _, w := range c.set.Writers() {
		w.Write(converted) //nolint:errcheck // hashes do not fail
	}
	return len(b), nil
}

// zeroRuns finds the longest run of zeros in steps of a page.
type zeroRuns struct {
	at        int64
	current   int64
	best      Range
	remainder []byte
}

const page = 4096

var zeroPage = make([]byte, page)

func (z *zeroRuns) Write(b []byte) (int, error) {
	n := len(b)
	if len(z.remainder) > 0 {
		take := min(page-len(z.remainder), len(b))
		z.remainder = append(z.remainder, b[:take]...)
		b = b[take:]
		if len(z.remainder) < page {
			return n, nil
		}
		z.page(z.remainder)
		z.remainder = z.remainder[:0]
	}
	for len(b) >= page {
		z.page(b[:page])
		b = b[page:]
	}
	z.remainder = append(z.remainder, b...)
	return n, nil
}

func (z *zeroRuns) page(b []byte) {
	if !bytes.Equal(b, zeroPage[:len(b)]) {
		z.current = 0
	} else {
		z.current += int64(len(b))
		if z.current > z.best.Length {
			z.best = Range{Offset: z.at + int64(len(b)) - z.current, Length: z.current}
		}
	}
	z.at += int64(len(b))
}

// longest returns the longest run, and whether it reaches the end of a file of
// the given size.
func (z *zeroRuns) longest(size int64) (Range, bool) {
	if len(z.remainder) > 0 {
		z.page(z.remainder)
		z.remainder = nil
	}
	return z.best, z.best.Length > 0 && z.best.Offset+z.best.Length == size
}

// damaged returns the parts whose digests are not those expected, neighbours
// joined.
func damaged(computed, expected *manifest.Pieces, size int64) []Range {
	var out []Range
	for n, v := range computed.Digests {
		if n < len(expected.Digests) && bytes.Equal(v, expected.Digests[n]) {
			continue
		}
		offset := int64(n) * expected.Length
		length := min(expected.Length, size-offset)
		if last := len(out) - 1; last >= 0 && out[last].Offset+out[last].Length == offset {
			out[last].Length += length
			continue
		}
		out = append(out, Range{Offset: offset, Length: length})
	}
	return out
}

// A tail keeps the last bytes of a stream.
type tail struct {
	last []byte
}

// tailSize holds the end record of a zip archive with the longest comment.
const tailSize = 64<<10 + 22

func (t *tail) Write(b []byte) (int, error) {
	n := len(b)
	if len(b) >= tailSize {
		t.last = append(t.last[:0], b[len(b)-tailSize:]...)
		return n, nil
	}
	t.last = append(t.last, b...)
	if over := len(t.last) - tailSize; over > 0 {
		t.last = append(t.last[:0], t.last[over:]...)
	}
	return n, nil
}

// endsEarly reports whether an archive lacks its closing part: the end record
// of zip, the footer of xz, the two empty blocks of tar.
func (t *tail) endsEarly(head []byte) bool {
	switch {
	case bytes.HasPrefix(head, []byte("PK\x03\x04")):
		return !bytes.Contains(t.last, []byte("PK\x05\x06"))
	case bytes.HasPrefix(head, []byte("\xfd7zXZ\x00")):
		return !bytes.HasSuffix(bytes.TrimRight(t.last, "\x00"), []byte("YZ"))
	case len(head) > 262 && string(head[257:262]) == "ustar":
		return len(t.last) < 1024 || !bytes.Equal(t.last[len(t.last)-1024:], make([]byte, 1024))
	}
	return false
}
