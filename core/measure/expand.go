package measure

import (
	"context"
	"io"

	"endeixis/core/container"
)

// An expander is a writer of a compressed stream that feeds hashes with its
// uncompressed form, in the same read that hashes the stream itself.
type expander struct {
	ctx         context.Context
	compression container.Compression
	hashes      []io.Writer
	in          *io.PipeReader
	out         *io.PipeWriter
	done        chan error
}

func newExpander(ctx context.Context, c container.Compression) *expander {
	e := &expander{ctx: ctx, compression: c, done: make(chan error, 1)}
	e.in, e.out = io.Pipe()
	return e
}

func (e *expander) add(h io.Writer) { e.hashes = append(e.hashes, h) }

// start begins to expand. What follows the compressed data, or comes after an
// error, is read and dropped, so that the one who writes never waits.
func (e *expander) start() {
	go func() {
		_, err := container.Decompress(e.ctx, e.compression, e.in, io.MultiWriter(e.hashes...))
		io.Copy(io.Discard, e.in) //nolint:errcheck // the error is in err
		e.done <- err
	}()
}

// Write takes a part of the compressed stream; it never fails.
func (e *expander) Write(p []byte) (int, error) {
	e.out.Write(p) //nolint:errcheck // the reader takes everything
	return len(p), nil
}

// finish waits for the end and says whether the stream could be expanded.
func (e *expander) finish() error {
	e.out.Close()
	return <-e.done
}
