// Package container looks inside compressed files. It streams: nothing is
// unpacked to disk, and an input that expands without end is stopped.
package container

import (
	"compress/bzip2"
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

const (
	// freely is how much may come out whatever went in.
	freely = 1 << 30
	// ratio bounds the expansion beyond that.
	ratio = 200
	// zstdMemory bounds the window of one zstd stream.
	zstdMemory = 256 << 20
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
		r, err = xz.NewReader(counted)
	case Zstd:
		var d *zstd.Decoder
		if d, err = zstd.NewReader(counted, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(zstdMemory)); err == nil {
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
