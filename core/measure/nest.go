package measure

import (
	"context"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"slices"

	"endeixis/core/container"
	"endeixis/core/digest"
	"endeixis/core/lineend"
	"endeixis/core/plain"
)

// A nest is one item on its way through a read, with the items inside it.
type nest struct {
	// target is nil for a file that is only passed through.
	target *Target
	set    *digest.Set
	hashes []hashing
	// compression is how the item is compressed as a whole, and expanded
	// what is fed with its uncompressed form.
	compression container.Compression
	expanded    []io.Writer
	expander    *container.Expander
	// surplus is what its compressed form has that the expanded has not.
	surplus  string
	inner    []*nest
	lanes    []*container.Lane
	splitter *container.Splitter
	// stream computes what it gains by of the item, when set.
	stream *digest.Stream
	// extra is fed with the item's bytes too, when set.
	extra io.Writer
}

// nestOf arranges the targets of a file: its own, and those inside it. One whose
// container is not among them is left out.
func nestOf(path string, targets []*Target) *nest {
	if len(targets) == 1 && targets[0].Path == path {
		return &nest{target: targets[0]} // the common case
	}
	top := &nest{}
	at := map[string]*nest{path: top}
	// In order of length a container comes before what it holds.
	inside := slices.Clone(targets)
	slices.SortStableFunc(inside, func(a, b *Target) int { return len(a.Path) - len(b.Path) })
	for _, target := range inside {
		if target.Path == path {
			top.target = target
			continue
		}
		holder := at[target.Inside.Of]
		if holder == nil {
			continue
		}
		child := &nest{target: target}
		holder.inner = append(holder.inner, child)
		holder.lanes = append(holder.lanes, &container.Lane{Member: target.Inside.Member})
		holder.compression = target.Inside.Compression
		at[target.Path] = child
	}
	return top
}

// writers returns everything that the bytes of the item have to go into.
func (n *nest) writers(ctx context.Context) []io.Writer {
	var out []io.Writer
	n.set = digest.NewSet(nil)
	if n.extra != nil {
		out = append(out, n.extra)
	}
	if n.target != nil {
		out = append(out, n.digests()...)
		for i := range n.target.Tasks {
			if task := &n.target.Tasks[i]; !task.Plain() {
				if w := n.prepare(i, task); w != nil {
					out = append(out, w)
				}
			}
		}
	}
	if len(n.inner) > 0 {
		for i, child := range n.inner {
			n.lanes[i].To = child.writers(ctx)
		}
		n.splitter = container.NewSplitter(ctx, n.lanes...)
		if n.compression == "" {
			out = append(out, n.splitter)
		} else {
			n.expanded = append(n.expanded, n.splitter)
		}
	}
	if len(n.expanded) > 0 {
		n.expander = container.NewExpander(ctx, n.compression, n.expanded...)
		out = append(out, n.expander)
	}
	return out
}

// digests readies the tasks that are plain digests.
func (n *nest) digests() []io.Writer {
	var algorithms []digest.Algorithm
	for i := range n.target.Tasks {
		if task := &n.target.Tasks[i]; task.Plain() {
			algorithms = append(algorithms, task.Algorithm)
		}
	}
	if n.stream != nil {
		n.set = n.stream.Set(algorithms)
	} else {
		n.set = digest.NewSet(algorithms)
	}
	return n.set.Writers()
}

// prepare readies the hash of a task that is no plain digest. It returns what
// the item's bytes have to go into for it. Where the task begins as a digest of
// them does, that one's state is copied at the end instead of hashing twice.
func (n *nest) prepare(at int, task *Task) io.Writer {
	h := hashing{at: at, task: task}
	if task.asIs() {
		if h.shared = n.set.Cloner(task.Algorithm); h.shared != nil {
			n.hashes = append(n.hashes, h)
			return nil
		}
	}
	h.hash = task.Algorithm.New()
	h.hash.Write(task.Before)
	var to io.Writer = h.hash
	if task.Text {
		h.text = lineend.NewText(h.hash)
		to = h.text
	}
	n.hashes = append(n.hashes, h)
	if task.Expanded == "" {
		return to
	}
	n.compression = task.Expanded
	n.expanded = append(n.expanded, to)
	return nil
}

// finish ends all that was written, from the outside to the inside.
func (n *nest) finish() (expandError error) {
	if n.expander != nil {
		expandError = n.expander.Finish()
		n.surplus = n.expander.Surplus()
		n.expander = nil
	}
	if n.splitter != nil {
		n.splitter.Finish()
	}
	return expandError
}

// conclude puts into m what was computed of the item itself.
func (n *nest) conclude(m *Reading) error {
	if n.target == nil {
		return nil
	}
	m.Surplus = n.surplus
	m.CollisionSuspected = n.set.CollisionSuspected()
	m.Results = make([]Result, len(n.target.Tasks))
	sums := n.set.Sums()
	for i := range n.target.Tasks {
		if task := &n.target.Tasks[i]; task.Plain() {
			m.Results[i].Digest = sums[task.Algorithm]
		}
	}
	for _, h := range n.hashes {
		if h.task.Expanded != "" && m.Unexpanded != "" {
			continue // its hash is of a part only
		}
		sum, err := h.sum()
		if err != nil {
			return err
		}
		m.Results[h.at] = Result{Digest: sum, NotText: h.text != nil && h.text.Binary()}
	}
	return nil
}

// errNotExpanded stands for the members of a container that does not expand.
var errNotExpanded = errors.New("the archive around it cannot be expanded to its end")

// collect concludes the items inside n. trouble is what kept n itself from
// being read, if anything did.
func (n *nest) collect(ctx context.Context, trouble *Problem, expandError error, out map[string]Reading) error {
	for i, child := range n.inner {
		lane := n.lanes[i]
		m := Reading{Size: lane.Size()}
		inner := child.finish()
		err := lane.Err()
		if err == nil && expandError != nil && lane.Member.Size < 0 {
			err = expandError // the only sign that a compressed file is cut short
		} else if errors.Is(err, container.ErrEndsEarly) && expandError != nil {
			err = errNotExpanded
		}
		m.Problem = trouble
		if err != nil && m.Problem == nil && ctx.Err() == nil {
			m.Problem = &Problem{Code: Unreadable, Message: plain.Text(err.Error())}
		}
		if inner != nil && ctx.Err() == nil {
			m.Unexpanded = plain.Text(inner.Error())
		}
		if m.Problem == nil {
			if err := child.conclude(&m); err != nil {
				return err
			}
		}
		if child.target != nil {
			out[child.target.Path] = m
		}
		if err := child.collect(ctx, m.Problem, inner, out); err != nil {
			return err
		}
	}
	return nil
}

// hashing is a task waiting for its result: a hash of its own, or one shared
// with a digest.
type hashing struct {
	at     int
	task   *Task
	hash   hash.Hash
	text   *lineend.Text
	shared hash.Cloner
}

func (h *hashing) sum() (digest.Value, error) {
	end := h.hash
	if h.shared != nil {
		clone, err := h.shared.Clone()
		if err != nil {
			return nil, fmt.Errorf("copying the state of a hash: %w", err)
		}
		end = clone
	}
	end.Write(h.task.After)
	return end.Sum(nil), nil
}

// Content opens the content of an item that may be inside another file.
// holders are the containers between it and the folder, in any order; they may
// be left out where there is one only. The reader ends with an error when the
// content cannot be had in full.
func Content(ctx context.Context, fsys fs.FS, target *Target, holders []*Target) (io.ReadCloser, error) {
	path := container.Outermost(target.Path)
	f, err := fsys.Open(path)
	if err != nil || target.Inside == nil {
		return f, err
	}
	top := nestOf(path, append(slices.Clone(holders), target))
	ctx, cancel := context.WithCancel(ctx)
	in, out := io.Pipe()
	lane := top.passThrough(target.Path, out)
	if lane == nil {
		cancel()
		f.Close()
		return nil, fmt.Errorf("what holds %s is not known", plain.Quoted(target.Path))
	}
	go func() {
		defer f.Close()
		_, err := digest.Pump(ctx, f, top.writers(ctx), nil)
		top.finishAll()
		if err == nil {
			err = lane.Err()
		}
		out.CloseWithError(err)
	}()
	return &pulled{in, cancel}, nil
}

// pulled ends the read behind it when it is closed.
type pulled struct {
	*io.PipeReader
	cancel context.CancelFunc
}

func (p *pulled) Close() error {
	p.cancel()
	return p.PipeReader.Close()
}

// passThrough leaves of n only the way to one item, whose content goes to w,
// and returns its lane.
func (n *nest) passThrough(path string, w io.Writer) *container.Lane {
	n.target = nil
	for i, child := range n.inner {
		if child.target != nil && child.target.Path == path {
			child.target, child.inner, child.lanes = nil, nil, nil
			child.extra = w
			n.inner, n.lanes = n.inner[i:i+1], n.lanes[i:i+1]
			return n.lanes[0]
		}
		if lane := child.passThrough(path, w); lane != nil {
			n.inner, n.lanes = n.inner[i:i+1], n.lanes[i:i+1]
			return lane
		}
	}
	return nil
}

// finishAll ends all that was written, down to the innermost.
func (n *nest) finishAll() {
	n.finish() //nolint:errcheck // the lane tells what became of the content
	for _, child := range n.inner {
		child.finishAll()
	}
}
