// Package verify puts the four stages together: what was surveyed is measured,
// judged and, where a digest refuses it, explained and judged again. Batches,
// and whatever else is verified, go through a [Session]; so does judging again
// what is stored, of which no byte is read.
//
// It knows no database, no network and no clock. What is known from elsewhere
// it asks of an [OtherFiles].
package verify

import (
	"context"
	"io"
	"io/fs"
	"maps"
	"slices"

	"golang.org/x/mod/sumdb/note"

	"endeixis/core/diagnose"
	"endeixis/core/judge"
	"endeixis/core/measure"
	"endeixis/core/survey"
)

// An Item is one of the plan that is measured and comes to its outcome.
type Item struct {
	// N is the caller's number of the item.
	N           int
	Planned     *survey.Item
	Measurement measure.Measurement
	// Outcome is set by [Session.Settle].
	Outcome judge.Outcome
	// Holders are the items that hold it, if it lies inside another.
	Holders []*survey.Item
}

// OtherFiles knows of other files than the one that is judged. It is asked only
// about files with trouble.
type OtherFiles interface {
	// Stated returns what the manifests of the batch state, by digest in
	// hexadecimal.
	Stated(ctx context.Context) (map[string]diagnose.StatedAt, error)
	// Cleared returns, for SHA-256 digests in hexadecimal, the newest earlier
	// item that was cleared with the same bytes, for those that have one.
	Cleared(ctx context.Context, sha256 []string) (map[string]*diagnose.Earlier, error)
}

// Bytes has the content of items for one more read, after a mismatch.
type Bytes struct {
	// Folder is where files are looked for that may hold the one in question.
	Folder fs.FS
	// Again opens an item from its beginning. It is nil where a measurer has
	// the bytes, and explains why they differ.
	Again func(*Item) (io.ReadCloser, error)
}

// A Session judges the items of one batch. Manifests come first, with
// [Session.Manifest]; then items are settled, or judged again, containers
// before what they hold.
type Session struct {
	basis    judge.Basis
	vouchers map[string]*judge.Voucher
	// outcomes are those of containers, by path.
	outcomes map[string]*judge.Outcome
	// originals are the outcomes of what media are read back against, by the path of
	// the medium.
	originals map[string]*judge.Outcome
	// bears tells, when judging again, of which containers a key's signature
	// bears on.
	bears map[string]bool
	// receipts are those that hold, by the key of a ledger; proofs are the outcomes of all, by
	// their path. recorded is what they say of artifacts, by the last part of a path; it is
	// there when ready is set.
	receipts   []*recorded
	proofs     map[string]judge.Outcome
	recorded   map[string][]*recorded
	ready      bool
	ledgerKeys []note.Verifier
	// predecessors may be nil; before is what they have told of the items that are judged, by path.
	predecessors Predecessors
	before       map[string]*judge.Before
	// references may be nil; same is what they have told, by path.
	references References
	same       map[string][]judge.Reference
}

// New returns a Session that judges by the basis.
func New(basis judge.Basis) *Session {
	return &Session{
		basis: basis, vouchers: map[string]*judge.Voucher{}, outcomes: map[string]*judge.Outcome{},
		originals: map[string]*judge.Outcome{}, bears: map[string]bool{}, proofs: map[string]judge.Outcome{},
	}
}

// Fork returns a session that knows what this one knows, and changes nothing of it. This one is
// not to be used meanwhile but for forking.
func (s *Session) Fork() *Session {
	out := *s
	out.vouchers, out.outcomes, out.originals = maps.Clone(s.vouchers), maps.Clone(s.outcomes), maps.Clone(s.originals)
	out.bears, out.proofs, out.recorded = maps.Clone(s.bears), maps.Clone(s.proofs), maps.Clone(s.recorded)
	out.receipts = slices.Clip(s.receipts)
	return &out
}

// Manifest judges a manifest, so that what it lists can rest on it.
func (s *Session) Manifest(item *survey.Item, m *measure.Measurement) *judge.Voucher {
	v := s.basis.Manifest(item, m)
	s.vouchers[item.Path] = v
	return v
}

// Evidence takes an item that artifacts can rest on: a manifest or a receipt. Others it leaves.
func (s *Session) Evidence(item *survey.Item, m *measure.Measurement) {
	switch item.Role {
	case survey.Manifest:
		s.Manifest(item, m)
	case survey.Receipt:
		s.Receipt(item, m)
	case survey.Artifact, survey.Signature, survey.Key:
	}
}

// Original says what became of the file that a medium is read back against, by the same
// basis.
func (s *Session) Original(medium string, outcome *judge.Outcome) { s.originals[medium] = outcome }

// Judge judges one item by what is known so far.
func (s *Session) Judge(item *survey.Item, m *measure.Measurement) judge.Outcome {
	switch item.Role {
	case survey.Artifact:
		on := judge.Surroundings{
			Vouchers: s.vouchers, Original: s.originals[item.Path], Recorded: s.recordedOf(item),
			Before: s.before[item.Path], Same: s.same[item.Path],
		}
		if item.Inside != nil {
			on.Around = s.outcomes[item.Inside.Of]
		}
		out := s.basis.Artifact(item, m, on)
		if item.Holds != nil {
			s.outcomes[item.Path] = &out
		}
		return out
	case survey.Manifest:
		if v, ok := s.vouchers[item.Path]; ok {
			return v.Outcome
		}
		return s.basis.Manifest(item, m).Outcome
	case survey.Receipt:
		return s.Receipt(item, m)
	case survey.Signature, survey.Key:
	}
	return s.basis.Other(item, m)
}

// Settle judges measured items in their order, each after what holds it, and
// explains those that a digest refuses: their content is read once more. It
// fails only when memory does or ctx ends.
func (s *Session) Settle(ctx context.Context, measured []Item, bytes Bytes, others OtherFiles) error {
	known := &recalled{from: others, cleared: map[string]*diagnose.Earlier{}}
	if err := known.prepare(ctx, measured); err != nil {
		return err
	}
	if err := s.Recall(ctx, len(measured), func(i int) (*survey.Item, *measure.Measurement) {
		return measured[i].Planned, &measured[i].Measurement
	}); err != nil {
		return err
	}
	for i := range measured {
		if err := s.settle(ctx, &measured[i], bytes, known); err != nil {
			return err
		}
	}
	return nil
}

func (s *Session) settle(ctx context.Context, d *Item, bytes Bytes, known *recalled) error {
	m := &d.Measurement
	d.Outcome = s.Judge(d.Planned, m)
	if judge.Unlisted(&d.Outcome) {
		places, err := known.of(ctx, m)
		if err != nil {
			return err
		}
		explainByOtherPlaces(d.Planned, m, places)
		d.Outcome = s.Judge(d.Planned, m)
		return nil
	}
	entry := judge.ToExplain(d.Planned, m, &d.Outcome, s.basis.Policy.DiagnosisBytes)
	if entry == nil {
		return nil
	}
	places, err := known.of(ctx, m)
	if err != nil {
		return err
	}
	if bytes.Again == nil {
		complement(d.Planned, m, entry, places)
		d.Outcome = s.Judge(d.Planned, m)
		return nil
	}
	r, err := bytes.Again(d)
	if err != nil {
		return nil // it was readable a moment ago; the refusal stands
	}
	defer r.Close()
	if err := s.explain(ctx, bytes.Folder, r, d.Planned, m, entry, places); err != nil {
		return err
	}
	d.Outcome = s.Judge(d.Planned, m)
	return nil
}
