package container

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
)

// A Branch is a writer whose stream is read by a function of its own, in the
// same pass that reads it for others.
type Branch struct {
	out  *io.PipeWriter
	done chan error
}

// newBranch begins to read. What is left when read returns is dropped, so that
// the one who writes never waits for long.
func newBranch(read func(io.Reader) error) *Branch {
	in, out := io.Pipe()
	b := &Branch{out: out, done: make(chan error, 1)}
	go func() {
		err := read(in)
		io.Copy(io.Discard, in) //nolint:errcheck // the error is in err
		b.done <- err
	}()
	return b
}

// Write takes the next part of the stream; it never fails.
func (b *Branch) Write(p []byte) (int, error) {
	b.out.Write(p) //nolint:errcheck // the reader takes everything
	return len(p), nil
}

// Finish ends the stream, waits until all of it is read, and returns the error
// of reading.
func (b *Branch) Finish() error {
	b.out.Close()
	return <-b.done
}

// An Expander is a [Branch] that expands what is written to it.
type Expander struct {
	*Branch
	expansion Expansion
}

// NewExpander begins to expand what is written to it into all of to. It finishes
// with the error of [Decompress].
func NewExpander(ctx context.Context, c Compression, to ...io.Writer) *Expander {
	e := &Expander{}
	e.Branch = newBranch(func(in io.Reader) (err error) {
		e.expansion, err = Decompress(ctx, c, in, io.MultiWriter(to...))
		return err
	})
	return e
}

// Surplus is that of the [Expansion], once it is finished.
func (e *Expander) Surplus() string { return e.expansion.Surplus }

// A Lane takes the content of one member out of a stream.
type Lane struct {
	Member Member
	// To are fed with the content, one after another; they must not fail.
	To []io.Writer

	next     int   // the extent that is being met or comes next
	got      int64 // bytes of that extent
	size     int64 // bytes of content
	expander *Expander
	err      error
	over     bool
}

// Size returns how many bytes of content came out.
func (l *Lane) Size() int64 { return l.size }

// ErrEndsEarly reports a container that ends before its member does.
var ErrEndsEarly = errors.New("the container ends before this member does")

// A Splitter is a writer of a container's stream that hands each member's
// content to its lane. Members without extents get the whole stream.
type Splitter struct {
	ctx   context.Context
	at    int64
	ahead []*Lane // by where their next extent begins
	now   []*Lane // those that an extent runs of
	all   []*Lane
}

// NewSplitter returns a Splitter for the lanes.
func NewSplitter(ctx context.Context, lanes ...*Lane) *Splitter {
	s := &Splitter{ctx: ctx, all: lanes}
	for _, l := range lanes {
		if l.done() && len(l.Member.Extents) > 0 {
			continue
		}
		s.ahead = append(s.ahead, l)
	}
	slices.SortStableFunc(s.ahead, func(a, b *Lane) int { return cmp.Compare(a.begins(), b.begins()) })
	return s
}

// done skips extents that are complete and reports whether none is left.
func (l *Lane) done() bool {
	for l.next < len(l.Member.Extents) && l.got == l.Member.Extents[l.next].Length {
		l.next++
		l.got = 0
	}
	return l.next == len(l.Member.Extents)
}

func (l *Lane) begins() int64 {
	if len(l.Member.Extents) == 0 {
		return 0
	}
	return l.Member.Extents[l.next].Offset
}

// Write takes the next part of the stream; it never fails.
func (s *Splitter) Write(p []byte) (int, error) {
	end := s.at + int64(len(p))
	for len(s.ahead) > 0 && s.ahead[0].begins() < end {
		s.now = append(s.now, s.ahead[0])
		s.ahead = s.ahead[1:]
	}
	s.now = slices.DeleteFunc(s.now, func(l *Lane) bool { return l.take(s.ctx, s.at, p) })
	s.at = end
	return len(p), nil
}

// take picks the lane's bytes out of the part of the stream that begins at at,
// and reports whether the member is complete.
func (l *Lane) take(ctx context.Context, at int64, p []byte) bool {
	if len(l.Member.Extents) == 0 {
		l.feed(ctx, p)
		return false
	}
	end := at + int64(len(p))
	for !l.done() {
		e := l.Member.Extents[l.next]
		from := e.Offset + l.got
		if from >= end {
			return false
		}
		to := min(e.Offset+e.Length, end)
		l.feed(ctx, p[from-at:to-at])
		l.got += to - from
	}
	l.finish()
	return true
}

// feed passes on a part of the member as it is stored.
func (l *Lane) feed(ctx context.Context, p []byte) {
	if l.Member.Packing == "" {
		l.Write(p) //nolint:errcheck // what is stored is as long as stated
		return
	}
	if l.expander == nil {
		l.expander = NewExpander(ctx, l.Member.Packing, l)
	}
	l.expander.Write(p) //nolint:errcheck // it never fails
}

// Write takes content; it fails when there is more than the member states.
func (l *Lane) Write(p []byte) (int, error) {
	if l.Member.Size >= 0 && l.size+int64(len(p)) > l.Member.Size {
		return 0, errLonger
	}
	l.size += int64(len(p))
	for _, w := range l.To {
		w.Write(p) //nolint:errcheck // they do not fail
	}
	return len(p), nil
}

func (l *Lane) finish() {
	l.over = true
	if l.expander != nil {
		l.err = l.expander.Finish()
	}
	if l.err == nil && l.Member.Size >= 0 && l.size != l.Member.Size {
		l.err = fmt.Errorf("it holds %d bytes, and %d are stated", l.size, l.Member.Size)
	}
}

// Finish is called at the end of the stream. After it, [Lane.Err] tells how
// each lane fared.
func (s *Splitter) Finish() {
	for _, l := range s.all {
		if l.over {
			continue
		}
		complete := l.done()
		l.finish()
		if !complete {
			l.err = ErrEndsEarly
		}
	}
}

// Err returns why the member's content could not be read in full, or nil. It
// is to be called after [Splitter.Finish].
func (l *Lane) Err() error { return l.err }
