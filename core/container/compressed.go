// Package container looks inside compressed files, zip and tar archives and
// ISO 9660 disc images. Nothing is unpacked to disk: [List] tells where the
// members lie, and a [Splitter] hands each of them on while the container is
// streamed once. Whatever expands, nests or repeats without end is stopped.
package container

import (
	"bufio"
	"compress/bzip2"
	"compress/flate"
	"compress/gzip"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"maps"
	"path"
	"slices"
	"strings"
	"unicode"

	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"
)

// A Compression is a way of compressing one file.
type Compression string

// The compressions that are read.
const (
	Gzip  Compression = "gzip"  // RFC 1952
	Bzip2 Compression = "bzip2" //
	XZ    Compression = "xz"    //
	Zstd  Compression = "zstd"  // RFC 8878
	// Deflate is what members of a zip archive are packed with, RFC 1951.
	Deflate Compression = "deflate"
)

var endings = map[string]Compression{".gz": Gzip, ".bz2": Bzip2, ".xz": XZ, ".zst": Zstd}

// Endings returns the endings of compressed files' names, in order.
func Endings() []string { return slices.Sorted(maps.Keys(endings)) }

// OfName returns the compression that a name's ending states, and the name of
// the uncompressed form: "fw.tar" for "fw.tar.xz".
func OfName(name string) (c Compression, uncompressed string, ok bool) {
	ext := path.Ext(name)
	c, ok = endings[strings.ToLower(ext)]
	return c, strings.TrimSuffix(name, ext), ok
}

// An ExpansionError reports compressed data that expands beyond all measure.
type ExpansionError struct {
	// In and Out are the bytes read and produced when it was stopped.
	In, Out int64
}

// Error says how far it went.
func (e *ExpansionError) Error() string {
	return fmt.Sprintf("%d bytes expanded to more than %d; it was stopped", e.In, e.Out)
}

// A MemoryError reports compressed data that asks for more memory than is
// given to one stream.
type MemoryError struct {
	// Need is what it asks for, in bytes.
	Need int64
}

// Error says how much.
func (e *MemoryError) Error() string {
	return fmt.Sprintf("expanding it would take %d MiB of memory, and %d are given", e.Need>>20, windowMemory>>20)
}

// xzMemory returns the dictionary size that the first block of an xz stream
// states, or 0 when head is not one. The layout is: 12 bytes of stream header;
// then the block's header size, its flags, optional sizes, and the filters, of
// which LZMA2 has the number 0x21 and one byte of properties.
func xzMemory(head []byte) int64 {
	if len(head) < 32 || string(head[:6]) != xzMagic {
		return 0
	}
	at := 14
	number := func() uint64 { // seven bits a byte, the lowest first
		value, shift := uint64(0), 0
		for at < len(head) && shift < 63 {
			b := head[at]
			at++
			value |= uint64(b&0x7f) << shift
			if b&0x80 == 0 {
				break
			}
			shift += 7
		}
		return value
	}
	flags := head[13]
	for _, present := range []byte{0x40, 0x80} {
		if flags&present != 0 {
			number()
		}
	}
	for range int(flags&3) + 1 {
		id, size := number(), number()
		if id == 0x21 && size == 1 && at < len(head) {
			bits := head[at] & 0x3f
			if bits >= 40 {
				return 4 << 30
			}
			return int64(2|bits&1) << (bits/2 + 11)
		}
		if size > uint64(len(head)) {
			break
		}
		at += int(size)
	}
	return 0
}

const (
	// freely is how much may come out whatever went in.
	freely = 1 << 30
	// ratio bounds the expansion beyond that.
	ratio = 200
	// windowMemory bounds the window or dictionary of one stream.
	windowMemory = 256 << 20
)

// An Expansion is what came of expanding a compressed file.
type Expansion struct {
	// Size is the number of bytes of the uncompressed form.
	Size int64
	// Surplus says in a few words what the compressed form has that is no part of
	// the uncompressed one, or nothing: who has vouched for that has not vouched for
	// this. A name and a time in the header of gzip are none.
	Surplus string
}

// Decompress writes the uncompressed form of in to out. It returns the
// decompressor's error for damaged data, an [*ExpansionError], or the context's
// cause. Data that stands behind the end is no error but surplus, unless it looks like
// more of the same that was cut short.
func Decompress(ctx context.Context, c Compression, in io.Reader, out io.Writer) (Expansion, error) {
	d := &decompressor{ctx: ctx, in: &counter{r: in}, out: out, buf: make([]byte, 128<<10)}
	var err error
	switch c {
	case Gzip:
		err = d.gzip()
	case Bzip2:
		// The library tells data behind the end from damage by this alone.
		if err = d.copy(bzip2.NewReader(d.in)); errors.Is(
			err, bzip2.StructuralError("bad magic value in continuation file"),
		) {
			d.note("data behind its end")
			err = nil
		}
	case XZ:
		err = d.xz()
	case Deflate:
		err = d.copy(flate.NewReader(d.in))
	case Zstd:
		err = d.zstd()
	default:
		err = fmt.Errorf("the compression %q is not known", c)
	}
	return Expansion{Size: d.total, Surplus: strings.Join(d.surplus, ", and ")}, err
}

// A decompressor expands the parts of one file.
type decompressor struct {
	ctx     context.Context
	in      *counter
	out     io.Writer
	buf     []byte
	total   int64
	surplus []string
}

// note keeps what the compressed form has beyond the content, the first few kinds.
func (d *decompressor) note(format string, args ...any) {
	if text := fmt.Sprintf(format, args...); len(d.surplus) < 3 && !slices.Contains(d.surplus, text) {
		d.surplus = append(d.surplus, text)
	}
}

// copy expands one part.
func (d *decompressor) copy(r io.Reader) error {
	for {
		n, err := r.Read(d.buf)
		if n > 0 {
			d.total += int64(n)
			if d.total > freely && d.total > ratio*d.in.n {
				return &ExpansionError{In: d.in.n, Out: d.total}
			}
			if _, err := d.out.Write(d.buf[:n]); err != nil {
				return err
			}
		}
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		if d.ctx.Err() != nil {
			return context.Cause(d.ctx)
		}
	}
}

// rest notes what stands behind the end of the last part.
func (d *decompressor) rest(r io.Reader) error {
	n, err := io.CopyBuffer(io.Discard, r, d.buf)
	if n > 0 {
		d.note("%d bytes behind its end", n)
	}
	return err
}

// plainName bounds a name in a header that is nothing but a name.
const plainName = 255

// gzip expands the members of RFC 1952, section 2.2, one by one: each has a header of
// its own.
func (d *decompressor) gzip() error {
	in := bufio.NewReader(d.in)
	flags, _ := in.Peek(4)
	z, err := gzip.NewReader(in)
	if err != nil {
		return err
	}
	for first := true; ; first = false {
		z.Multistream(false)
		if len(flags) == 4 && flags[3]&0xe0 != 0 {
			d.note("reserved flags in a header")
		}
		if n := len(z.Extra); n > 0 {
			d.note("an extra field of %d bytes in its header", n)
		}
		if n := len(z.Comment); n > 0 {
			d.note("a comment of %d bytes in its header", n)
		}
		if n := len(z.Name); n > 0 && (!first || n > plainName || strings.ContainsFunc(z.Name, unicode.IsControl)) {
			d.note("a name of %d bytes in a header", n)
		}
		before := d.total
		if err := d.copy(z); err != nil {
			return err
		}
		next, _ := in.Peek(4)
		if d.total == before && (!first || len(next) > 0) {
			d.note("an empty part")
		}
		if len(next) == 0 {
			return nil
		}
		if len(next) < 2 || next[0] != 0x1f || next[1] != 0x8b {
			return d.rest(in)
		}
		flags = slices.Clone(next)
		if err := z.Reset(in); err != nil {
			return err
		}
	}
}

const xzMagic = "\xfd7zXZ\x00"

// xz expands streams one behind the other, and the padding between them.
func (d *decompressor) xz() error {
	in := bufio.NewReader(d.in)
	for first := true; ; first = false {
		head, _ := in.Peek(64)
		if need := xzMemory(head); need > windowMemory {
			return &MemoryError{Need: need}
		}
		r, err := xz.ReaderConfig{SingleStream: true}.NewReader(in)
		if err != nil {
			return err
		}
		before := d.total
		err = d.copy(r)
		if err == nil {
			if d.total == before && !first {
				d.note("an empty part")
			}
			return nil
		}
		if err.Error() != "xz: unexpected data after stream" || in.UnreadByte() != nil {
			return err
		}
		if d.total == before {
			d.note("an empty part")
		}
		padding := 0
		next, _ := in.Peek(len(xzMagic))
		for ; len(next) > 0 && next[0] == 0; next, _ = in.Peek(len(xzMagic)) {
			_, _ = in.Discard(1)
			padding++
		}
		if padding > 0 {
			d.note("padding behind a part")
		}
		switch {
		case len(next) == 0:
			return nil
		case string(next) != xzMagic:
			return d.rest(in)
		}
	}
}

// zstd expands the frames of RFC 8878, section 3.1, and passes over those that hold
// something else.
func (d *decompressor) zstd() error {
	frames := &zstdFrames{in: bufio.NewReader(d.in), note: d.note}
	z, err := zstd.NewReader(frames, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(windowMemory))
	if err != nil {
		return err
	}
	defer z.Close()
	if err := d.copy(z); err != nil {
		return err
	}
	return d.rest(frames.in)
}

// zstdFrames is the stream of a zstd file's frames without what is between them: it
// follows the lengths of their blocks.
type zstdFrames struct {
	in   *bufio.Reader
	note func(format string, args ...any)
	// left is how much of the present piece is to be passed on as it is.
	left int64
	// then is what comes behind that piece.
	then  func() error
	begun bool
	sum   bool // whether a checksum ends the frame
}

const (
	zstdMagic     = 0xfd2fb528
	skippable     = 0x184d2a50 // and the fifteen numbers behind it
	skippableMask = 0xfffffff0
)

// Read implements [io.Reader].
func (z *zstdFrames) Read(p []byte) (int, error) {
	for z.left == 0 {
		next := z.then
		if next == nil {
			next = z.frame
		}
		if err := next(); err != nil {
			return 0, err
		}
	}
	n, err := z.in.Read(p[:min(int64(len(p)), z.left)])
	z.left -= int64(n)
	if err == io.EOF {
		err = io.ErrUnexpectedEOF
	}
	return n, err
}

// pass lets a number of bytes through, and something be done behind them.
func (z *zstdFrames) pass(n int64, next func() error) {
	z.left, z.then = n, next
}

// frame looks at what begins here.
func (z *zstdFrames) frame() error {
	for {
		head, _ := z.in.Peek(8)
		if len(head) < 4 {
			if len(head) > 0 && !z.begun {
				return io.ErrUnexpectedEOF
			}
			return io.EOF // the rest is told by the caller
		}
		magic := binary.LittleEndian.Uint32(head)
		switch {
		case magic == zstdMagic:
			z.begun = true
			return z.header()
		case magic&skippableMask == skippable && len(head) == 8:
			n, err := io.CopyN(io.Discard, z.in, 8+int64(binary.LittleEndian.Uint32(head[4:])))
			z.note("a frame of %d bytes that is not content", max(0, n-8))
			if err != nil {
				return io.ErrUnexpectedEOF
			}
		case !z.begun:
			z.pass(int64(len(head)), z.frame) // the library says what is wrong
			return nil
		default:
			return io.EOF
		}
	}
}

// header passes a frame's header on (section 3.1.1.1).
func (z *zstdFrames) header() error {
	head, err := z.in.Peek(5)
	if err != nil {
		return io.ErrUnexpectedEOF
	}
	d := head[4]
	single := d&0x20 != 0
	size := 5 + []int64{0, 1, 2, 4}[d&3] + []int64{0, 2, 4, 8}[d>>6]
	if single && d>>6 == 0 {
		size++
	}
	if !single {
		size++ // the window
	}
	z.sum = d&4 != 0
	z.pass(size, z.block)
	return nil
}

// block passes one block on, with its header (section 3.1.1.2).
func (z *zstdFrames) block() error {
	head, err := z.in.Peek(3)
	if err != nil {
		return io.ErrUnexpectedEOF
	}
	h := uint32(head[0]) | uint32(head[1])<<8 | uint32(head[2])<<16
	size := int64(h >> 3)
	if h>>1&3 == 1 { // one byte, repeated
		size = 1
	}
	next := z.block
	if h&1 != 0 {
		next = z.frame
		if z.sum {
			size += 4
		}
	}
	z.pass(3+size, next)
	return nil
}

type counter struct {
	r io.Reader
	n int64
}

func (c *counter) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
}
