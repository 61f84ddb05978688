package readback

import (
	"context"
	"errors"
	"fmt"
	"io"

	"endeixis/core/digest"
)

const (
	// sector is what is given up at a time where a medium cannot be read: the
	// largest that is usual.
	sector = 4096
	// tries is how often a sector is tried.
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

// A Source is the first part of a medium as a stream that goes on behind what cannot
// be read: zeros stand there, and the place is noted.
type Source struct {
	medium io.ReaderAt
	at     int64
	end    int64
	// skip is how much the next place that cannot be read costs, and dead how much of
	// the last one is still to be passed over.
	skip, dead int64
	// Unreadable are the parts that could not be read.
	Unreadable []Range
	// Steadied counts the sectors that could be read when tried again.
	Steadied int
}

// NewSource returns the length bytes of a medium from an offset on.
func NewSource(medium io.ReaderAt, offset, length int64) *Source {
	return &Source{medium: medium, at: offset, end: offset + length, skip: sector}
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
	n, err := s.medium.ReadAt(p, s.at)
	s.at += int64(n)
	switch {
	case n == len(p):
		s.skip = sector
		return n, nil
	case errors.Is(err, io.EOF):
		s.end = s.at
		return n, io.EOF
	case gone(err):
		return n, err
	case n > 0:
		s.skip = sector
		return n, nil
	}
	return s.salvage(p)
}

// salvage gets past a place that cannot be read.
func (s *Source) salvage(p []byte) (int, error) {
	// Up to the end of the sector: what is behind it may be readable.
	want := min(int64(len(p)), sector-s.at%sector)
	for range tries - 1 {
		n, err := s.medium.ReadAt(p[:want], s.at)
		switch {
		case n > 0:
			s.at += int64(n)
			s.Steadied++
			return n, nil
		case errors.Is(err, io.EOF):
			s.end = s.at
			return 0, io.EOF
		case gone(err):
			return 0, err
		}
	}
	// One sector the first time; in the midst of many, ever more.
	s.dead = min(max(want, s.skip), s.end-s.at)
	s.skip = min(2*s.skip, maxSkip)
	return s.pass(p), nil
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

// A Reading is what came of reading the first part of a medium.
type Reading struct {
	// Size is how many bytes there were, at most as many as were asked for.
	Size int64
	// Digests are of these bytes; there are none when some could not be read.
	Digests    map[digest.Algorithm]digest.Value
	Unreadable []Range
	Steadied   int
}

// Read reads the first length bytes of a medium, and computes digests of them. progress
// may be nil. It fails only when ctx ends or the medium is gone, with a [*GoneError].
func Read(ctx context.Context, medium io.ReaderAt, length int64, algorithms []digest.Algorithm, progress func(total int64)) (Reading, error) {
	source := NewSource(medium, 0, length)
	set := digest.NewSet(algorithms)
	n, err := digest.Pump(ctx, source, set.Writers(), progress)
	if err != nil {
		return Reading{}, err
	}
	out := Reading{Size: n, Unreadable: source.Unreadable, Steadied: source.Steadied}
	if len(out.Unreadable) == 0 {
		out.Digests = set.Sums()
	}
	return out, nil
}
