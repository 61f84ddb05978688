package records

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"time"

	"golang.org/x/mod/sumdb/tlog"

	"endeixis/core/ledger"
	"endeixis/core/plain"
	"endeixis/internal/fault"
	"endeixis/internal/recorded"
	"endeixis/internal/store"
	"endeixis/internal/wholefile"
)

// A Report is the result of an audit.
type Report struct {
	Clean bool `json:"clean"`
	// Records is how many there are, and From the first that was read: those before it were
	// read by an earlier audit, at Since.
	Records     int64      `json:"records"`
	From        int64      `json:"from"`
	Since       *time.Time `json:"since,omitempty"`
	Checkpoints int        `json:"checkpoints"`
	Root        string     `json:"root"`
	// Sentence says what was found.
	Sentence string `json:"sentence"`
	// Position is the first record that differs, or -1.
	Position int64 `json:"position"`
	// Differences are the first rows that are not what the records say.
	Discrepancies []string `json:"differences,omitempty"`
	// Nonce is that of the question, and Signed the answer under the ledger's key.
	Nonce  string `json:"nonce,omitempty"`
	Signed string `json:"signed,omitempty"`
}

// Answer returns what is signed of a report.
func (r Report) Answer() (ledger.Answer, error) {
	said, err := ledger.SaidOf(r.Sentence, r.Position, r.Discrepancies)
	return ledger.Answer{Nonce: r.Nonce, From: r.From, Size: r.Records, Root: r.Root, Holds: r.Clean, Said: said}, err
}

// shownDifferences bounds them.
const shownDifferences = 20

// An AuditQuestion is what an inquiry about the ledger asks.
type AuditQuestion struct {
	// Checkpoint is one that was kept outside, or empty.
	Checkpoint string `json:"checkpoint,omitempty"`
	// Nonce is a word of who asks, which the signed answer has.
	Nonce string `json:"nonce,omitempty"`
	// Full begins at the first record, and not where the last audit that held has ended.
	Full bool `json:"full,omitempty"`
	// Scheduled has what was found recorded.
	Scheduled bool `json:"scheduled,omitempty"`
}

// CheckKept refuses a checkpoint that this service did not sign.
func (s *Service) CheckKept(kept string) error {
	_, err := s.openKept(kept)
	return err
}

func (s *Service) openKept(kept string) (ledger.Checkpoint, error) {
	c, err := ledger.OpenCheckpoint(kept, s.known())
	if err != nil {
		return c, fault.New(
			fault.Invalid, fault.BadCheckpoint, "The checkpoint you gave was not signed by this service, or was changed.",
		).
			At("checkpoint")
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
	report, err := s.Audit(ctx, q, progress)
	if err != nil {
		return nil, err
	}
	// It is signed before it is stored, so that nobody can put another in its place.
	report.Nonce = q.Nonce
	answer, err := report.Answer()
	if err != nil {
		return nil, err
	}
	if report.Signed, err = answer.Sign(signer); err != nil || !q.Scheduled {
		return report, err
	}
	err = s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		_, err := s.Decide(ctx, tx, "service", fmt.Sprintf("%d records", report.Records), recorded.Audited{
			Holds: report.Clean, From: report.From, Size: report.Records, Root: report.Root, Found: report.Sentence,
		})
		return err
	})
	if fault.Is(err, fault.LedgerAltered) {
		return report, nil // nothing can be recorded, which is what was found
	}
	return report, err
}

// An AuditState is what is kept beside the ledger's key of audits that held, and of one that is
// underway: the database is not asked what was proven.
type AuditState struct {
	// Held is where the last audit that held has ended, and Full where the last did that had
	// begun at the first record.
	Held Proven `json:"held"`
	Full Proven `json:"full"`
	// Going is how far one has come whose process has ended.
	Going *Going `json:"going,omitempty"`
	// Failed is what the last one found that did not hold, until one holds that has read as much.
	Failed *Failed `json:"failed,omitempty"`
}

// Failed is what an audit has found.
type Failed struct {
	At    time.Time `json:"at"`
	From  int64     `json:"from"`
	Found string    `json:"found"`
}

// Proven is a tree that an audit has proven.
type Proven struct {
	Size int64     `json:"size"`
	Root tlog.Hash `json:"root"`
	At   time.Time `json:"at"`
}

// Going is an audit that is underway.
type Going struct {
	From int64 `json:"from"`
	Proven
}

// auditOf names the file beside a key that holds an [AuditState].
func auditOf(keyFile string) string { return keyFile + ".audit" }

// Audits returns what is known of audits. A file that is not there, or cannot be read, says
// nothing: then the next audit begins at the first record.
func (s *Service) Audits() AuditState {
	var out AuditState
	text, err := os.ReadFile(s.auditFile)
	if err != nil || json.Unmarshal(text, &out) != nil {
		return AuditState{}
	}
	return out
}

func (s *Service) keepAudits(a AuditState) error {
	text, err := json.MarshalIndent(a, "", "  ")
	if err != nil {
		return err
	}
	return wholefile.Write(s.auditFile, string(text)+"\n")
}

const (
	// auditedAtOnce is how many records are taken into a tree at a time, at least.
	auditedAtOnce = 5000
	// keptEvery is after how many it is kept how far an audit has come, and keptFor for how
	// long another goes on from there.
	keptEvery = 200_000
	keptFor   = 24 * time.Hour
	// wholeUpTo is up to how many records an audit begins at the first: that takes seconds.
	wholeUpTo = 100_000
)

// A wrong is what an audit finds: the first record that differs, or -1, and the sentence.
type wrong struct {
	position int64
	sentence string
}

// Error is the sentence.
func (w *wrong) Error() string { return w.sentence }

func wrongAt(position int64, format string, args ...any) error {
	return &wrong{position, fmt.Sprintf(format, args...)}
}

// Audit recomputes every leaf, seal, hash and root from the records' texts, checks the stored
// checkpoints, and one that was kept outside if given, and holds the database against the ledger.
// Of a great ledger it begins where the last audit that held has ended, unless all of it is asked
// for: what is before that has to have the root that was proven then. Its memory does not grow
// with the ledger.
func (s *Service) Audit(ctx context.Context, q AuditQuestion, progress func(done, total int64)) (Report, error) {
	size, err := s.store.LedgerSize(ctx)
	if err != nil {
		return Report{}, err
	}
	state := s.Audits()
	begin := state.Held
	if q.Full || size <= s.wholeUpTo {
		begin = Proven{}
	}
	report := Report{From: begin.Size, Position: -1}
	if begin.Size > 0 {
		report.Since = &begin.At
	}
	failed := func() (Report, error) {
		state = s.Audits()
		state.Going, state.Failed = nil, &Failed{s.now().UTC(), begin.Size, report.Sentence}
		return report, s.keepAudits(state)
	}
	found, checkpoints, err := s.proven(ctx, q, state, begin, size, progress)
	report.Checkpoints = checkpoints
	bad := (*wrong)(nil)
	switch {
	case errors.As(err, &bad):
		report.Position, report.Sentence = bad.position, bad.sentence
		return failed()
	case err != nil:
		return Report{}, err
	}
	// The texts are proven; what follows from them is held against them.
	var differences []store.Discrepancy
	if err := s.store.Look(ctx, func(ctx context.Context, reads store.Reads) (err error) {
		differences, err = Discrepancies(
			ctx, reads, begin.Size, func(int64, int64) { progress(found.Size, max(size, found.Size)) },
		)
		return err
	}); err != nil {
		return Report{}, err
	}
	if len(differences) > 0 {
		report.Position, report.Sentence = differences[0].Position, fmt.Sprintf(
			"What is stored is not what the records say: %s.", plain.Text(differences[0].What),
		)
		for _, d := range differences[:min(len(differences), shownDifferences)] {
			report.Discrepancies = append(report.Discrepancies, plain.Text(d.What))
		}
		return failed()
	}
	report.Clean, report.Records, report.Root = true, found.Size, found.Root.String()
	report.Sentence = fmt.Sprintf("All %d records are as they were written; %s.", found.Size, agree(checkpoints))
	if begin.Size > 0 {
		report.Sentence = fmt.Sprintf(
			"The ledger goes on from the %d records of the audit of %s, which held: the %d new ones are as they were written; %s.",
			begin.Size,
			begin.At.UTC().Format(time.DateOnly),
			found.Size-begin.Size,
			agree(checkpoints),
		)
	}
	state.Going, state.Held = nil, Proven{found.Size, found.Root, s.now().UTC()}
	if begin.Size == 0 {
		state.Full = state.Held
	}
	if state.Failed != nil && state.Failed.From >= begin.Size {
		state.Failed = nil
	}
	return report, s.keepAudits(state)
}

func agree(checkpoints int) string {
	if checkpoints == 1 {
		return "1 signed checkpoint agrees"
	}
	return fmt.Sprintf("%d signed checkpoints agree", checkpoints)
}

// Due reports whether an audit is due that is carried out every so often, and whether it has to
// begin at the first record. One that found something is asked for again as any other.
func (s *Service) Due(interval, full time.Duration) (due, whole bool) {
	state, now := s.Audits(), s.now()
	last := state.Held.At
	if state.Failed != nil && state.Failed.At.After(last) {
		last = state.Failed.At
	}
	return now.Sub(last) >= interval, now.Sub(state.Full.At) >= full
}

// AuditFailed says what the last audit has found, or nothing.
func (s *Service) AuditFailed() string {
	if failed := s.Audits().Failed; failed != nil {
		return fmt.Sprintf("The audit of %s found: %s", failed.At.Format("2006-01-02 15:04 MST"), failed.Found)
	}
	return ""
}

// Trouble says what is wrong with the ledger as far as is known, or nothing: what the last audit
// has found, or why no checkpoint can be signed.
func (s *Service) Trouble(ctx context.Context) string {
	if failed := s.AuditFailed(); failed != "" {
		return failed
	}
	_, _, err := s.Sign(ctx)
	if fault.Is(err, fault.LedgerAltered) {
		return err.Error()
	}
	return ""
}

// proven recomputes the tree from the records, up to a size, and checks the checkpoints over what
// is behind the beginning. What differs is a [*wrong].
func (s *Service) proven(
	ctx context.Context, q AuditQuestion, state AuditState, begin Proven, size int64, progress func(done, total int64),
) (ledger.Checkpoint, int, error) {
	at := ledger.Checkpoint{Size: begin.Size, Root: begin.Root}
	if begin.Size > size {
		return at, 0, wrongAt(
			size, "An audit has read %d records and only %d are here: records are missing.", begin.Size, size,
		)
	}
	if g := state.Going; g != nil && g.From == begin.Size && g.Size <= size && s.now().Sub(g.At) < keptFor {
		at = ledger.Checkpoint{Size: g.Size, Root: g.Root}
	}
	kept := at.Size
	for at.Size < size {
		progress(at.Size, size)
		next, err := s.recomputed(ctx, at, size)
		if err != nil {
			return at, 0, err
		}
		if at = next; at.Size-kept >= keptEvery {
			kept = at.Size
			state.Going = &Going{begin.Size, Proven{at.Size, at.Root, s.now().UTC()}}
			if err := s.keepAudits(state); err != nil {
				return at, 0, err
			}
		}
	}
	if root, err := ledger.Root(at.Size, s.store.Hashes(ctx)); err != nil || root != at.Root {
		return at, 0, wrongAt(-1, "The stored hashes of the tree do not belong to its records.")
	}
	if seals, err := s.store.Seals(ctx, at.Size, 1); err != nil || len(seals) > 0 {
		if err == nil {
			err = wrongAt(seals[0].First, "Record %d is missing: a seal is over it.", seals[0].First)
		}
		return at, 0, err
	}
	checkpoints, err := s.checked(ctx, q.Checkpoint, begin.Size, at)
	return at, checkpoints, err
}

// recomputed goes on with a tree by some records, from their texts: each has to have its leaf and
// its seal, and the stored hashes have to be those that it makes. What differs is a [*wrong].
func (s *Service) recomputed(ctx context.Context, older ledger.Checkpoint, size int64) (ledger.Checkpoint, error) {
	seals, err := s.store.Seals(ctx, older.Size, auditedAtOnce)
	if err != nil {
		return older, err
	}
	end, n := older.Size, 0
	for ; n < len(seals) && (end-older.Size < auditedAtOnce || n == 0); n++ {
		if seals[n].First != end || seals[n].Records < 1 || seals[n].Records > size-end {
			break
		}
		end += seals[n].Records
	}
	if n == 0 {
		return older, s.unsealed(ctx, older.Size)
	}
	before := int64(0)
	if older.Size > 0 {
		if before, err = s.decidedBefore(ctx, older.Size); err != nil {
			return older, err
		}
	}
	leaves, kinds, err := s.leavesOfTexts(ctx, older.Size, end)
	if err != nil {
		return older, err
	}
	for _, seal := range seals[:n] {
		first := seal.First - older.Size
		for _, kind := range kinds[first : first+seal.Records] {
			if kind.Decides() {
				before++
			}
		}
		if !holds(s.writersKey(), seal, leaves[first:first+seal.Records]) || seal.Decisions != before {
			return older, wrongAt(seal.First, "%s not sealed by this program.", are(seal))
		}
	}
	stored := s.store.Hashes(ctx)
	root, added, err := ledger.Extend(older, leaves, stored)
	if untrusted := (*ledger.CheckpointError)(nil); errors.As(err, &untrusted) {
		return older, wrongAt(
			-1, "Of the first %d records, %s: one of them was altered since they were read.", older.Size,
			untrusted.Reason,
		)
	}
	if err != nil {
		return older, wrongAt(
			older.Size, "The tree's stored hashes at record %d are not those of the records.", older.Size,
		)
	}
	// Hashes that cannot be read are others than those of the records.
	if position, same, err := sameHashes(older.Size, added, stored); err != nil || !same {
		return older, wrongAt(position, "The tree's stored hashes at record %d are not those of the records.", position)
	}
	return ledger.Checkpoint{Size: end, Root: root}, nil
}

// unsealed says what is wrong with a record that no seal begins with.
func (s *Service) unsealed(ctx context.Context, position int64) error {
	leaves, _, err := s.leavesOfTexts(ctx, position, position+1)
	if err != nil {
		return err
	}
	if len(leaves) == 0 {
		return wrongAt(position, "Record %d is missing.", position)
	}
	return wrongAt(position, "Record %d is not sealed by this program.", position)
}

// decidedBefore returns how many records decide before a position, at which a seal ends.
func (s *Service) decidedBefore(ctx context.Context, position int64) (int64, error) {
	seals, err := s.store.SealsOver(ctx, []int64{position - 1})
	if err != nil {
		return 0, err
	}
	if len(seals) != 1 || seals[0].First+seals[0].Records != position ||
		!sealOf(seals[0]).Genuine(s.writersKey(), seals[0].MAC) {
		return 0, wrongAt(position-1, "Record %d is not sealed by this program any more.", position-1)
	}
	return seals[0].Decisions, nil
}

// leavesOfTexts hashes the texts of records, and reads their kinds. A text without the hash that
// was stored with it is a [*wrong], and so is one that is missing.
func (s *Service) leavesOfTexts(ctx context.Context, first, end int64) ([]tlog.Hash, []ledger.Kind, error) {
	var leaves []tlog.Hash
	var kinds []ledger.Kind
	next := first
	err := s.store.RecordsFrom(ctx, first, end, func(r store.Record) error {
		if r.Position != next {
			return wrongAt(next, "Record %d is missing.", next)
		}
		leaf := ledger.Leaf(r.Body)
		if string(r.Leaf) != string(leaf[:]) {
			return wrongAt(next, "Record %d differs: its text does not have the hash that was stored with it.", next)
		}
		leaves, kinds, next = append(leaves, leaf), append(kinds, kindOf(r.Body)), next+1
		return nil
	})
	if err == nil && next < end {
		err = wrongAt(next, "Record %d is missing.", next)
	}
	return leaves, kinds, err
}

// sameHashes holds the hashes that are added to a tree of a size against those that are stored. Where
// they are others it returns the record behind which the first was added, and where they cannot be
// read the size.
func sameHashes(size int64, added []tlog.Hash, stored tlog.HashReader) (position int64, same bool, err error) {
	first := ledger.FirstStored(size)
	indexes := make([]int64, len(added))
	for i := range added {
		indexes[i] = first + int64(i)
	}
	there, err := stored.ReadHashes(indexes)
	if err != nil {
		return size, false, err
	}
	for i := range added {
		if added[i] == there[i] {
			continue
		}
		for position = size; ledger.FirstStored(position+1) <= indexes[i]; position++ {
		}
		return position, false, nil
	}
	return 0, true, nil
}

// checked checks the checkpoints over more records than were read before, the newest that is kept
// beside the key, and one that was kept outside if given, against a tree that was proven. It
// returns how many there are.
func (s *Service) checked(ctx context.Context, kept string, from int64, proven ledger.Checkpoint) (int, error) {
	n := 0
	check := func(c ledger.Checkpoint) error {
		n++
		if c.Size > proven.Size {
			return wrongAt(
				proven.Size,
				"Record %d differs: a checkpoint was signed over %d records and only %d are here: records are missing.",
				proven.Size, c.Size, proven.Size,
			)
		}
		root, err := ledger.Root(c.Size, s.store.Hashes(ctx))
		if err != nil {
			return err
		}
		if root != c.Root {
			return wrongAt(
				c.Size-1,
				"Record %d differs: the first %d records do not have the root of the checkpoint signed over them; one of them was altered since.",
				c.Size-1,
				c.Size,
			)
		}
		return nil
	}
	before := int64(0)
	if err := s.store.EachCheckpoint(ctx, from, func(stored store.StoredCheckpoint) error {
		c, err := ledger.OpenCheckpoint(stored.Signed, s.known())
		if err != nil || c.Size != stored.Size {
			return wrongAt(
				stored.Size, "The stored checkpoint over %d records cannot be believed: %v.", stored.Size, err,
			)
		}
		if c.Follows != before && c.Follows > 0 {
			there, err := s.store.HasCheckpoint(ctx, c.Follows)
			if err != nil {
				return err
			}
			if !there {
				return wrongAt(
					c.Follows, "The checkpoint over %d records is missing: the one over %d follows it.", c.Follows,
					c.Size,
				)
			}
		}
		before = c.Size
		return check(c)
	}); err != nil {
		return n, err
	}
	if h := s.newest(); h.Size > before {
		if err := check(h); err != nil {
			return n, err
		}
	}
	if kept == "" {
		return n, nil
	}
	c, err := s.openKept(kept)
	if err != nil {
		return n, err
	}
	return n, check(c)
}
