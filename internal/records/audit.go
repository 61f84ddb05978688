package records

import (
	"context"
	"encoding/json"
	"fmt"

	"golang.org/x/mod/sumdb/tlog"

	"endeixis/core/ledger"
	"endeixis/core/plain"
	"endeixis/internal/fault"
	"endeixis/internal/store"
)

// A Report is the result of an audit.
type Report struct {
	Clean       bool   `json:"clean"`
	Records     int64  `json:"records"`
	Checkpoints int    `json:"checkpoints"`
	Root        string `json:"root"`
	// Sentence says what was found.
	Sentence string `json:"sentence"`
	// Position is the first record that differs, or -1.
	Position int64 `json:"position"`
	// Differences are the first rows that are not what the records say.
	Differences []string `json:"differences,omitempty"`
	// Nonce is that of the question, and Signed the answer under the ledger's key.
	Nonce  string `json:"nonce,omitempty"`
	Signed string `json:"signed,omitempty"`
}

// Answer returns what is signed of a report.
func (r Report) Answer() (ledger.Answer, error) {
	said, err := ledger.SaidOf(r.Sentence, r.Position, r.Differences)
	return ledger.Answer{Nonce: r.Nonce, Size: r.Records, Root: r.Root, Holds: r.Clean, Said: said}, err
}

// shownDifferences bounds them.
const shownDifferences = 20

// An AuditQuestion is what an inquiry about the ledger asks.
type AuditQuestion struct {
	// Checkpoint is one that was kept outside, or empty.
	Checkpoint string `json:"checkpoint,omitempty"`
	// Nonce is a word of who asks, which the signed answer has.
	Nonce string `json:"nonce,omitempty"`
}

// CheckKept refuses a checkpoint that this service did not sign.
func (s *Service) CheckKept(kept string) error {
	_, err := s.openKept(kept)
	return err
}

func (s *Service) openKept(kept string) (ledger.Checkpoint, error) {
	c, err := ledger.OpenCheckpoint(kept, s.verifier)
	if err != nil {
		return c, fault.New(fault.Invalid, "bad-checkpoint", "The checkpoint you gave was not signed by this service, or was changed.").At("checkpoint")
	}
	return c, nil
}

// AnswerAudit answers an inquiry; it is an [inquiries.Answerer].
func (s *Service) AnswerAudit(ctx context.Context, question []byte, progress func(done, total int64)) (any, error) {
	var q AuditQuestion
	if err := json.Unmarshal(question, &q); err != nil {
		return nil, err
	}
	signer, _, err := s.Seal()
	if err != nil {
		return nil, err
	}
	report, err := s.Audit(ctx, q.Checkpoint, progress)
	if err != nil {
		return nil, err
	}
	// It is signed before it is stored, so that nobody can put another in its place.
	report.Nonce = q.Nonce
	answer, err := report.Answer()
	if err != nil {
		return nil, err
	}
	report.Signed, err = answer.Sign(signer)
	return report, err
}

// Audit recomputes every leaf and root from the records' texts, checks every
// stored checkpoint, and one that was kept outside if given, and holds the
// outcome tables against the ledger.
func (s *Service) Audit(ctx context.Context, kept string, progress func(done, total int64)) (Report, error) {
	size, err := s.store.LedgerSize(ctx)
	if err != nil {
		return Report{}, err
	}
	stored, err := s.store.Checkpoints(ctx)
	if err != nil {
		return Report{}, err
	}
	bad := func(position int64, format string, args ...any) (Report, error) {
		return Report{Position: position, Checkpoints: len(stored), Sentence: fmt.Sprintf(format, args...)}, nil
	}
	var opened []ledger.Checkpoint
	for _, c := range stored {
		checkpoint, err := ledger.OpenCheckpoint(c.Signed, s.verifier)
		if err != nil || checkpoint.Size != c.Size {
			return bad(c.Size, "The stored checkpoint over %d records cannot be believed: %v.", c.Size, err)
		}
		opened = append(opened, checkpoint)
	}
	if kept != "" {
		checkpoint, err := s.openKept(kept)
		if err != nil {
			return Report{}, err
		}
		opened = append(opened, checkpoint)
	}
	if h := s.newest(); h.Size > 0 {
		opened = append(opened, h)
	}
	there := map[int64]bool{0: true}
	for _, c := range stored {
		there[c.Size] = true
	}
	for _, c := range opened {
		if !there[c.Follows] {
			return bad(c.Follows, "The checkpoint over %d records is missing: the one over %d follows it.", c.Follows, c.Size)
		}
	}
	audit, err := ledger.NewAudit(opened)
	if err != nil {
		return bad(-1, "Two checkpoints contradict each other: %v.", err)
	}
	tree := &treeCheck{stored: s.store.Hashes(ctx), bad: -1}
	seals := &sealCheck{key: s.writersKey(), read: func(first int64) ([]store.Seal, error) { return s.store.Seals(ctx, first, 1000) }}
	if err := s.store.EachRecord(ctx, func(r store.Record) error {
		if r.Position != audit.Size() {
			return nil // a gap; Finish will miss the records behind it
		}
		if r.Position%1000 == 0 {
			progress(r.Position, size)
		}
		leaf := [32]byte{}
		copy(leaf[:], r.Leaf)
		hashes := audit.Record(r.Body, leaf)
		if len(hashes) == 0 {
			return nil
		}
		if err := seals.take(r.Position, kindOf(r.Body), hashes[0]); err != nil {
			return err
		}
		return tree.take(r.Position, hashes)
	}); err != nil {
		return Report{}, err
	}
	if d := audit.Finish(); d != nil {
		return bad(d.Position, "Record %d differs: %s.", d.Position, d.Reason)
	}
	if err := seals.finish(); err != nil {
		return Report{}, err
	}
	if seals.what != "" {
		return bad(seals.bad, "Record %d is not sealed: %s.", seals.bad, seals.what)
	}
	if err := tree.compare(); err != nil {
		return Report{}, err
	}
	if tree.bad >= 0 {
		return bad(tree.bad, "The tree's stored hashes at record %d are not those of the records.", tree.bad)
	}
	root, err := ledger.Root(audit.Size(), s.store.Hashes(ctx))
	if err != nil || root != audit.Root() {
		return bad(-1, "The stored hashes of the tree do not belong to its records.")
	}
	// The texts are proven; what follows from them is held against them.
	differences, err := Differences(ctx, s.store.Reads, func(string) { progress(size, size) })
	if err != nil {
		return Report{}, err
	}
	if len(differences) > 0 {
		report, err := bad(differences[0].Position, "What is stored is not what the records say: %s.", plain.Text(differences[0].What))
		for _, d := range differences[:min(len(differences), shownDifferences)] {
			report.Differences = append(report.Differences, plain.Text(d.What))
		}
		return report, err
	}
	return Report{
		Clean: true, Records: audit.Size(), Checkpoints: len(opened), Root: audit.Root().String(), Position: -1,
		Sentence: fmt.Sprintf("All %d records are as they were written; %d signed checkpoints agree.", audit.Size(), len(opened)),
	}, nil
}

// A sealCheck holds the seals against the records that they are over.
type sealCheck struct {
	key  []byte
	read func(first int64) ([]store.Seal, error)
	// ahead are seals that were read, the first of them that of the leaves.
	ahead  []store.Seal
	leaves []tlog.Hash
	next   int64
	// decisions counts the records that decide up to the next.
	decisions int64
	bad       int64
	what      string // what is wrong with the first that is
}

// take takes the leaf of the record at a position, one after another, and its kind.
func (c *sealCheck) take(position int64, kind ledger.Kind, leaf tlog.Hash) error {
	if c.what != "" {
		return nil
	}
	if len(c.ahead) == 0 {
		var err error
		if c.ahead, err = c.read(position); err != nil {
			return err
		}
	}
	if len(c.leaves) == 0 && (len(c.ahead) == 0 || c.ahead[0].First != position || c.ahead[0].Records < 1) {
		c.bad, c.what = position, "this program did not write it"
		return nil
	}
	c.leaves = append(c.leaves, leaf)
	c.next = position + 1
	if kind.Decides() {
		c.decisions++
	}
	seal := c.ahead[0]
	if int64(len(c.leaves)) < seal.Records {
		return nil
	}
	if !holds(c.key, seal, c.leaves) || seal.Decisions != c.decisions {
		c.bad, c.what = seal.First, were(seal)+" not written by this program"
	}
	c.ahead, c.leaves = c.ahead[1:], c.leaves[:0]
	return nil
}

// finish finds a seal that more records belong to than there are, and one that none does.
func (c *sealCheck) finish() error {
	if c.what != "" {
		return nil
	}
	if len(c.leaves) > 0 {
		c.bad, c.what = c.next, "it is missing, and a seal is over it"
		return nil
	}
	rest, err := c.read(c.next)
	if err == nil && len(rest) > 0 {
		c.bad, c.what = rest[0].First, "it is missing, and a seal is over it"
	}
	return err
}

// A treeCheck holds the hashes that an audit computes against those that are
// stored for the tree, many at a time.
type treeCheck struct {
	stored  tlog.HashReader
	indexes []int64
	hashes  []tlog.Hash
	records []int64
	next    int64
	bad     int64 // the first record whose hashes differ, or -1
}

func (c *treeCheck) take(record int64, hashes []tlog.Hash) error {
	for _, h := range hashes {
		c.indexes, c.hashes, c.records = append(c.indexes, c.next), append(c.hashes, h), append(c.records, record)
		c.next++
	}
	if len(c.indexes) < 4000 {
		return nil
	}
	return c.compare()
}

func (c *treeCheck) compare() error {
	stored, err := c.stored.ReadHashes(c.indexes)
	if err != nil {
		return err
	}
	for i := range stored {
		if stored[i] != c.hashes[i] && c.bad < 0 {
			c.bad = c.records[i]
		}
	}
	c.indexes, c.hashes, c.records = c.indexes[:0], c.hashes[:0], c.records[:0]
	return nil
}
