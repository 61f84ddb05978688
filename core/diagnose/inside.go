package diagnose

import (
	"context"
	"errors"
	"io"
	"slices"

	"endeixis/core/container"
	"endeixis/core/digest"
)

// maxMembers bounds the members of an archive that are hashed for a diagnosis.
const maxMembers = 10_000

// An interior hashes what a container holds, while the container streams by.
type interior struct {
	algorithms []digest.Algorithm
	expected   digest.Value
	// single has the digests of what a compressed file holds as a whole.
	expander *container.Expander
	single   *digest.Set
	tar      *container.Branch
	splitter *container.Splitter
	members  []hashed
	lanes    []*container.Lane
	// cutShort is set once it is finished, for compressed data that ends too early.
	cutShort bool
}

// hashed is one member with the digests of its content.
type hashed struct {
	name string
	set  *digest.Set
}

// newInterior returns nil when head does not begin a container. at may be nil;
// then formats whose directory is not met in passing are left alone.
func newInterior(ctx context.Context, head []byte, at io.ReaderAt, c *Case) *interior {
	n := &interior{algorithms: c.Algorithms, expected: c.Expected}
	format, compression := container.Recognise(head)
	visit := func(name string) io.Writer {
		if len(n.members) >= maxMembers {
			return io.Discard
		}
		n.dropLast()
		m := hashed{name, digest.NewSet(n.algorithms)}
		n.members = append(n.members, m)
		return io.MultiWriter(m.set.Writers()...)
	}
	switch {
	case compression != "":
		n.single = digest.NewSet(n.algorithms)
		n.tar = container.NewTarSplitter(visit)
		n.expander = container.NewExpander(ctx, compression, append(n.single.Writers(), n.tar)...)
	case format == container.Tar:
		n.tar = container.NewTarSplitter(visit)
	case format != "" && at != nil:
		layout, err := container.List(
			ctx, at, c.Size, c.Name, container.Options{Limits: container.Limits{Members: maxMembers}},
		)
		if err != nil {
			return nil
		}
		for _, m := range layout.Members {
			set := digest.NewSet(n.algorithms)
			n.members = append(n.members, hashed{m.Name, set})
			n.lanes = append(n.lanes, &container.Lane{Member: m, To: set.Writers()})
		}
		n.splitter = container.NewSplitter(ctx, n.lanes...)
	default:
		return nil
	}
	return n
}

// dropLast forgets the member before, unless it is the one.
func (n *interior) dropLast() {
	if last := len(n.members) - 1; last >= 0 && !n.is(n.members[last].set) {
		n.members[last].set = nil
	}
}

func (n *interior) Write(p []byte) (int, error) {
	return n.entry().Write(p)
}

func (n *interior) entry() io.Writer {
	switch {
	case n.expander != nil:
		return n.expander
	case n.splitter != nil:
		return n.splitter
	}
	return n.tar
}

func (n *interior) is(set *digest.Set) bool {
	for _, v := range set.Sums() {
		if slices.Equal(v, n.expected) {
			return true
		}
	}
	return false
}

// finish returns the name of the member whose content has the expected digest,
// or reports that the uncompressed form of the whole has it.
func (n *interior) finish() (member string, uncompressed bool) {
	expanded := true
	if n.expander != nil {
		err := n.expander.Finish()
		expanded = err == nil
		n.cutShort = errors.Is(err, io.ErrUnexpectedEOF)
	}
	if n.tar != nil {
		n.tar.Finish() //nolint:errcheck // what came before damage counts
	}
	if n.splitter != nil {
		n.splitter.Finish()
	}
	if n.single != nil && expanded && n.is(n.single) {
		return "", true
	}
	for i, m := range n.members {
		if m.set != nil && (n.lanes == nil || n.lanes[i].Err() == nil) && n.is(m.set) {
			return m.name, false
		}
	}
	return "", false
}
