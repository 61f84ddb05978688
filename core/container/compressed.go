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
	"fmt"
	"io"
	"maps"
	"path"
	"slices"
	"strings"

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
	if len(head) < 32 || string(head[:6]) != "\xfd7zXZ\x00" {
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

// Decompress writes the uncompressed form of in to out. It returns the number
// of bytes written, and the decompressor's error for damaged data, an
// [*ExpansionError], or the context's cause.
func Decompress(ctx context.Context, c Compression, in io.Reader, out io.Writer) (int64, error) {
	counted := &counter{r: in}
	var r io.Reader
	var err error
	switch c {
	case Gzip:
		r, err = gzip.NewReader(counted)
	case Bzip2:
		r = bzip2.NewReader(counted)
	case XZ:
		buffered := bufio.NewReader(counted)
		head, _ := buffered.Peek(64)
		if need := xzMemory(head); need > windowMemory {
			return 0, &MemoryError{Need: need}
		}
		r, err = xz.NewReader(buffered)
	case Deflate:
		r = flate.NewReader(counted)
	case Zstd:
		var d *zstd.Decoder
		if d, err = zstd.NewReader(counted, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(windowMemory)); err == nil {
			defer d.Close()
			r = d
		}
	default:
		err = fmt.Errorf("the compression %q is not known", c)
	}
	if err != nil {
		return 0, err
	}
	buf := make([]byte, 128<<10)
	total := int64(0)
	for {
		n, err := r.Read(buf)
		if n > 0 {
			total += int64(n)
			if total > freely && total > ratio*counted.n {
				return total, &ExpansionError{In: counted.n, Out: total}
			}
			if _, err := out.Write(buf[:n]); err != nil {
				return total, err
			}
		}
		if err == io.EOF {
			return total, nil
		}
		if err != nil {
			return total, err
		}
		if ctx.Err() != nil {
			return total, context.Cause(ctx)
		}
	}
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
