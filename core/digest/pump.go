package digest

import (
	"context"
	"io"
	"sync"
	"sync/atomic"
)

const (
	// blockSize is how much is read at once: large enough that the cost of
	// handing a block over vanishes, small enough to stay in the cache.
	blockSize = 256 << 10
	// blocksInFlight bounds the memory of one pump to a few blocks however
	// many writers it feeds.
	blocksInFlight = 4
)

// block is a piece of the stream on its way through all writers.
type block struct {
	data    []byte
	n       int
	pending atomic.Int32
}

var blockPool = sync.Pool{New: func() any { return &block{data: make([]byte, blockSize)} }}

// Pump reads r once to its end and writes every byte to each of the writers,
// which run side by side. It returns the number of bytes read.
//
// The writers must not fail and must not keep the slice they are given: hashes
// are what they are. progress, when not nil, is called from the reading
// goroutine with the total so far after every block.
//
// Pump returns the error of r, or the context's cause when it is cancelled.
// Memory is bounded by a few blocks of 256 KiB, whatever the length of r.
func Pump(ctx context.Context, r io.Reader, writers []io.Writer, progress func(total int64)) (int64, error) {
	first := blockPool.Get().(*block)
	n, err := fill(r, first.data)
	first.n = n
	if err != nil || len(writers) == 0 {
		// All of it fitted in one block, or nobody listens: no need for
		// goroutines.
		defer blockPool.Put(first)
		return pumpHere(ctx, r, writers, progress, first, err)
	}

	free := make(chan *block, blocksInFlight)
	for range blocksInFlight - 1 {
		free <- blockPool.Get().(*block)
	}
	lanes := make([]chan *block, len(writers))
	var wg sync.WaitGroup
	for i, w := range writers {
		lane := make(chan *block, blocksInFlight)
		lanes[i] = lane
		wg.Go(func() {
			for b := range lane {
				w.Write(b.data[:b.n]) //nolint:errcheck // documented: writers do not fail
				if b.pending.Add(-1) == 0 {
					free <- b
				}
			}
		})
	}

	total := int64(0)
	current := first
	for {
		if current.n > 0 {
			total += int64(current.n)
			current.pending.Store(int32(len(writers)))
			for _, lane := range lanes {
				lane <- current
			}
			if progress != nil {
				progress(total)
			}
		} else {
			free <- current
		}
		if err != nil {
			break
		}
		if ctx.Err() != nil {
			err = context.Cause(ctx)
			break
		}
		current = <-free
		current.n, err = fill(r, current.data)
	}
	for _, lane := range lanes {
		close(lane)
	}
	wg.Wait()
	close(free)
	for b := range free {
		blockPool.Put(b)
	}
	if err == io.EOF { //nolint:errorlint // readers return it as it is
		err = nil
	}
	return total, err
}

// fill reads until the block is full or the reader has an error. That a stream was cut off,
// which readers report as [io.ErrUnexpectedEOF], is not its end.
func fill(r io.Reader, block []byte) (n int, err error) {
	for n < len(block) && err == nil {
		var more int
		more, err = r.Read(block[n:])
		n += more
	}
	return n, err
}

// pumpHere is Pump without goroutines. The first block has been read, with err
// as the result of that read.
func pumpHere(
	ctx context.Context, r io.Reader, writers []io.Writer, progress func(int64), b *block, err error,
) (int64, error) {
	total := int64(0)
	for {
		if b.n > 0 {
			total += int64(b.n)
			for _, w := range writers {
				w.Write(b.data[:b.n]) //nolint:errcheck // documented: writers do not fail
			}
			if progress != nil {
				progress(total)
			}
		}
		if err == io.EOF { //nolint:errorlint // readers return it as it is
			return total, nil
		}
		if err != nil {
			return total, err
		}
		if ctx.Err() != nil {
			return total, context.Cause(ctx)
		}
		b.n, err = fill(r, b.data)
	}
}
