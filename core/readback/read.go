package readback

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"

	"endeixis/core/digest"
)

const (
	// usualBlock is what is given up at a time where a medium cannot be read and does not
	// say in which blocks it is: the smallest that is usual.
	usualBlock = 512
	// tries is how often a block is tried.
	tries = 3
	// maxSkip bounds what is given up at once in the midst of much that cannot be
	// read, so that a dead medium ends before long.
	maxSkip = 64 << 20
)

// A GoneError reports a medium that is not there any more.
type GoneError struct{ Err error }

// Error says what that means.
func (e *GoneError) Error() string {
	return fmt.Sprintf("the medium is gone: %v; nothing more of it can be read", e.Err)
}

// Unwrap returns what the system said.
func (e *GoneError) Unwrap() error { return e.Err }

// A Blocked medium says in which blocks it is read, in bytes: one that cannot be read costs
// no more.
type Blocked interface{ BlockSize() int64 }

// A Source is a part of a medium as a stream that goes on behind what cannot be read: zeros
// stand there, and the place is noted.
type Source struct {
	medium io.ReaderAt
	at     int64
	end    int64
	block  int64
	// window bounds one read behind a place that could not be read, and is 0 elsewhere.
	window int64
	// skip is how much the next place that cannot be read costs, and dead how much of
	// the last one is still to be passed over.
	skip, dead int64
	// Unreadable are the parts that could not be read.
	Unreadable []Range
	// Steadied counts the blocks that could be read only when they were tried again.
	Steadied int
}

// NewSource returns the length bytes of a medium from an offset on. A medium may be
// [Blocked].
func NewSource(medium io.ReaderAt, offset, length int64) *Source {
	block := int64(usualBlock)
	if m, ok := medium.(Blocked); ok && m.BlockSize() > 0 {
		block = m.BlockSize()
	}
	return &Source{medium: medium, at: offset, end: offset + length, block: block, skip: block}
}

// Read fails with [io.EOF] at the end, and with a [*GoneError] when the medium is gone.
func (s *Source) Read(p []byte) (int, error) {
	if s.at >= s.end {
		return 0, io.EOF
	}
	p = p[:min(int64(len(p)), s.end-s.at)]
	if s.dead > 0 {
		return s.pass(p), nil
	}
	for {
		want := int64(len(p))
		if s.window > 0 {
			want = min(want, s.upTo(s.window))
		}
		n, err := s.medium.ReadAt(p[:want], s.at)
		switch {
		case gone(err):
			s.at += int64(n)
			return n, err
		case errors.Is(err, io.EOF):
			s.at += int64(n)
			s.end = s.at
			return n, io.EOF
		case n > 0:
			s.went(int64(n))
			return n, nil
		case err == nil:
			return 0, io.ErrNoProgress
		case want > s.upTo(s.block):
			// More than a block was asked for, of which all but one may be readable.
			s.window = max(s.block, want/2/s.block*s.block)
		default:
			return s.salvage(p[:want])
		}
	}
}

// upTo returns how many bytes there are up to a multiple of a length.
func (s *Source) upTo(length int64) int64 { return length - s.at%length }

// went notes that bytes could be read, and that more can be tried at once.
func (s *Source) went(n int64) {
	s.at += n
	s.skip = s.block
	if s.window *= 2; s.window > maxSkip {
		s.window = 0
	}
}

// salvage tries a block again that could not be read, and gets past it.
func (s *Source) salvage(p []byte) (int, error) {
	for range tries - 1 {
		n, err := s.medium.ReadAt(p, s.at)
		switch {
		case gone(err):
			return 0, err
		case errors.Is(err, io.EOF):
			s.at += int64(n)
			s.end = s.at
			return n, io.EOF
		case n > 0:
			s.Steadied++
			s.went(int64(n))
			return n, nil
		}
	}
	// One block the first time; in the midst of many, ever more, if those cannot be read
	// either.
	s.dead = s.upTo(s.block)
	if s.skip > s.block {
		s.dead += s.beyond(s.at+s.dead, min(s.skip, s.end-s.at)/s.block-1) * s.block
	}
	s.dead = min(s.dead, s.end-s.at)
	s.skip = min(2*s.skip, maxSkip)
	return s.pass(p), nil
}

// beyond returns how many of the blocks from a place on cannot be read, in one piece: all
// of them where the last cannot.
func (s *Source) beyond(from, blocks int64) int64 {
	buffer := make([]byte, s.block)
	readable := func(i int64) bool {
		n, _ := s.medium.ReadAt(buffer, from+i*s.block)
		return n > 0
	}
	if blocks < 1 || !readable(blocks-1) {
		return max(blocks, 0)
	}
	bad, good := int64(-1), blocks-1
	for good-bad > 1 {
		if middle := (bad + good) / 2; readable(middle) {
			good = middle
		} else {
			bad = middle
		}
	}
	return good
}

// pass passes over what cannot be read, as zeros.
func (s *Source) pass(p []byte) int {
	n := min(int64(len(p)), s.dead)
	clear(p[:n])
	s.lose(span(s.at, n))
	s.at, s.dead = s.at+n, s.dead-n
	return int(n)
}

func (s *Source) lose(r Range) {
	if last := len(s.Unreadable) - 1; last >= 0 && s.Unreadable[last].Offset+s.Unreadable[last].Length == r.Offset {
		s.Unreadable[last].Length += r.Length
		return
	}
	s.Unreadable = append(s.Unreadable, r)
}

func gone(err error) bool {
	var g *GoneError
	return errors.As(err, &g)
}

// A Beginning is what came of reading the first part of a medium.
type Beginning struct {
	// Size is how many bytes there were, at most as many as were asked for.
	Size int64
	// Digests are of these bytes; there are none when some could not be read.
	Digests    map[digest.Algorithm]digest.Value
	Unreadable []Range
	Steadied   int
}

// Read reads the first length bytes of a medium, and computes digests of them. progress
// may be nil. It fails only when ctx ends or the medium is gone, with a [*GoneError].
func Read(
	ctx context.Context, medium io.ReaderAt, length int64, algorithms []digest.Algorithm, progress func(total int64),
) (Beginning, error) {
	all, err := ReadTo(ctx, medium, []int64{length}, algorithms, progress)
	if err != nil {
		return Beginning{}, err
	}
	return all[0], nil
}

// ReadTo reads the beginning of a medium once, up to each of some lengths, which are in
// order; the beginnings are in the same order. It is otherwise as [Read].
func ReadTo(
	ctx context.Context, medium io.ReaderAt, lengths []int64, algorithms []digest.Algorithm, progress func(total int64),
) ([]Beginning, error) {
	out := make([]Beginning, 0, len(lengths))
	source := NewSource(medium, 0, lengths[len(lengths)-1])
	set := digest.NewSet(algorithms)
	done := int64(0)
	for _, length := range lengths {
		before := done
		n, err := digest.Pump(ctx, io.LimitReader(source, length-before), set.Writers(), func(total int64) {
			if progress != nil {
				progress(before + total)
			}
		})
		if err != nil {
			return nil, err
		}
		done += n
		beginning := Beginning{Size: done, Unreadable: slices.Clone(source.Unreadable), Steadied: source.Steadied}
		if len(beginning.Unreadable) == 0 {
			beginning.Digests = set.Sums()
		}
		out = append(out, beginning)
	}
	return out, nil
}
