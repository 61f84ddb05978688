package measure

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"slices"

	"endeixis/core/container"
	"endeixis/core/digest"
	"endeixis/core/openpgp"
	"endeixis/core/plain"
	"endeixis/core/survey"
)

// A nest is one item on its way through a read, with the items inside it.
type nest struct {
	// item is nil for a file that is only passed through.
	item   *survey.Item
	set    *digest.Set
	signed []signed
	// compression is how the item is compressed as a whole, and expanded
	// what is fed with its uncompressed form.
	compression container.Compression
	expanded    []io.Writer
	expander    *container.Branch
	inner       []*nest
	lanes       []*container.Lane
	splitter    *container.Splitter
	// text keeps the bytes of an item that has signatures around its content.
	text *bytes.Buffer
	// streams computes the MD5 of the item, when set.
	streams *digest.Streams
	// extra is fed with the item's bytes too, when set.
	extra io.Writer
}

// nestOf arranges the items of a file: its own, and those inside it. An item
// whose container is not among them is left out.
func nestOf(path string, items []*survey.Item) *nest {
	if len(items) == 1 && items[0].Path == path {
		return &nest{item: items[0]} // the common case
	}
	top := &nest{}
	at := map[string]*nest{path: top}
	// In order of length a container comes before what it holds.
	inside := slices.Clone(items)
	slices.SortStableFunc(inside, func(a, b *survey.Item) int { return len(a.Path) - len(b.Path) })
	for _, item := range inside {
		if item.Path == path {
			top.item = item
			continue
		}
		holder := at[item.Inside.Of]
		if holder == nil {
			continue
		}
		child := &nest{item: item}
		holder.inner = append(holder.inner, child)
		holder.lanes = append(holder.lanes, &container.Lane{Member: item.Inside.Member})
		holder.compression = item.Inside.Compression
		at[item.Path] = child
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
	if n.item != nil {
		if n.streams != nil {
			n.set = n.streams.NewSet(n.item.Digests)
		} else {
			n.set = digest.NewSet(n.item.Digests)
		}
		out = append(out, n.set.Writers()...)
		for _, over := range n.item.Signatures {
			if w := n.sign(over); w != nil {
				out = append(out, w)
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

// sign prepares the hash of one signature. It returns the hash when that needs
// the item's bytes for itself. A signature's hash is the same function over the
// same bytes as a digest, up to the trailer; where both are wanted, the state is
// copied at the end instead of hashing twice.
func (n *nest) sign(over survey.SignatureOver) io.Writer {
	if over.Problem != nil {
		return nil
	}
	sig, err := openpgp.ParseSignature(over.Raw)
	if err != nil || sig.Unsupported() != nil {
		return nil // judge will say what is wrong
	}
	s := signed{over: over, sig: sig}
	if over.Around != "" {
		n.signed = append(n.signed, s)
		if n.text != nil {
			return nil
		}
		n.text = &bytes.Buffer{}
		return n.text
	}
	if over.Uncompressed == "" && sig.HashesPlainly() {
		if a, err := digest.Parse(sig.Hash.String()); err == nil {
			s.shared = n.set.Cloner(a)
		}
		if s.shared != nil {
			n.signed = append(n.signed, s)
			return nil
		}
	}
	if s.hash, err = sig.NewHash(); err != nil {
		return nil
	}
	n.signed = append(n.signed, s)
	if over.Uncompressed == "" {
		return s.hash
	}
	n.compression = over.Uncompressed
	n.expanded = append(n.expanded, s.hash)
	return nil
}

// finish ends all that was written, from the outside to the inside.
func (n *nest) finish() (expandError error) {
	if n.expander != nil {
		expandError = n.expander.Finish()
		n.expander = nil
	}
	if n.splitter != nil {
		n.splitter.Finish()
	}
	return expandError
}

// conclude puts into m what was computed of the item itself.
func (n *nest) conclude(m *Measurement) error {
	m.Digests = n.set.Sums()
	m.CollisionSuspected = n.set.CollisionSuspected()
	for _, s := range n.signed {
		if s.over.Uncompressed != "" && m.Unexpanded != "" {
			continue // its hash is of a part only
		}
		if s.over.Around != "" {
			n.concludeAround(m, s)
			continue
		}
		sum, err := s.sum()
		if err != nil {
			return err
		}
		m.SignatureHashes = append(m.SignatureHashes, SignatureHash{File: s.over.File, Index: s.over.Index, Digest: sum, NotText: s.hash != nil && openpgp.NotText(s.hash)})
	}
	return nil
}

// concludeAround puts into m the hash of the content that a signature is around.
// Where there is none any more, the signature stays without hash.
func (n *nest) concludeAround(m *Measurement, s signed) {
	var content interface {
		Document(*openpgp.Signature) (openpgp.Document, error)
	}
	var err error
	if s.over.Around == survey.Message {
		content, err = openpgp.ReadMessage(n.text.Bytes())
	} else {
		content, err = openpgp.ReadCleartext(n.text.Bytes())
	}
	if err != nil {
		return
	}
	if doc, err := content.Document(s.sig); err == nil {
		m.SignatureHashes = append(m.SignatureHashes, SignatureHash{File: s.over.File, Index: s.over.Index, Digest: doc.Digest, NotText: doc.NotText})
	}
}

// errNotExpanded stands for the members of a container that does not expand.
var errNotExpanded = errors.New("the archive around it cannot be expanded to its end")

// collect concludes the items inside n. trouble is what kept n itself from
// being read, if anything did.
func (n *nest) collect(ctx context.Context, template Measurement, trouble *survey.Problem, expandError error, out map[string]Measurement) error {
	for i, child := range n.inner {
		lane := n.lanes[i]
		m := template
		m.Size = lane.Size()
		inner := child.finish()
		err := lane.Err()
		if err == nil && expandError != nil && lane.Member.Size < 0 {
			err = expandError // the only sign that a compressed file is cut short
		} else if errors.Is(err, container.ErrEndsEarly) && expandError != nil {
			err = errNotExpanded
		}
		m.Problem = trouble
		if err != nil && m.Problem == nil && ctx.Err() == nil {
			m.Problem = &survey.Problem{Code: survey.Unreadable, Message: plain.Text(err.Error())}
		}
		if inner != nil && ctx.Err() == nil {
			m.Unexpanded = plain.Text(inner.Error())
		}
		if m.Problem == nil {
			if err := child.conclude(&m); err != nil {
				return err
			}
		}
		if child.item != nil {
			out[child.item.Path] = m
		}
		if err := child.collect(ctx, template, m.Problem, inner, out); err != nil {
			return err
		}
	}
	return nil
}

// signed is a signature waiting for its hash, its own or one shared with a
// digest.
type signed struct {
	over   survey.SignatureOver
	sig    *openpgp.Signature
	hash   hash.Hash
	shared hash.Cloner
}

func (s signed) sum() (digest.Value, error) {
	h := s.hash
	if s.shared != nil {
		clone, err := s.shared.Clone()
		if err != nil {
			return nil, fmt.Errorf("copying the state of a hash: %w", err)
		}
		h = clone
	}
	return s.sig.Finish(h), nil
}

// Content opens the content of an item that may be inside another file.
// holders are the containers between it and the folder, in any order; they may
// be left out where there is one only. The reader ends with an error when the
// content cannot be had in full.
func Content(ctx context.Context, fsys fs.FS, item *survey.Item, holders []*survey.Item) (io.ReadCloser, error) {
	path := survey.Outermost(item.Path)
	f, err := fsys.Open(path)
	if err != nil || item.Inside == nil {
		return f, err
	}
	top := nestOf(path, append(slices.Clone(holders), item))
	ctx, cancel := context.WithCancel(ctx)
	in, out := io.Pipe()
	lane := top.passThrough(item.Path, out)
	if lane == nil {
		cancel()
		f.Close()
		return nil, fmt.Errorf("what holds %s is not known", plain.Quoted(item.Path))
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
	n.item = nil
	for i, child := range n.inner {
		if child.item != nil && child.item.Path == path {
			child.item, child.inner, child.lanes = nil, nil, nil
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
