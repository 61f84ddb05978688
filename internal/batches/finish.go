package batches

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"endeixis/core/judge"
	"endeixis/core/plain"
	"endeixis/core/verify"
	"endeixis/internal/fault"
	"endeixis/internal/reassess"
	"endeixis/internal/recorded"
	"endeixis/internal/records"
	"endeixis/internal/state"
	"endeixis/internal/store"
)

func resultOf(b store.Batch) recorded.Result {
	return recorded.Result{
		Verdict: judge.Batch(b.Cleared, b.Unproven, b.Refused, b.Absent, b.RequireAll),
		Cleared: b.Cleared, Unproven: b.Unproven, Refused: b.Refused, Companions: b.Companions,
	}
}

// maxRejudged bounds how often a batch is judged again before it is closed, while keyring, policy
// and waivers change. If they change faster, it is closed with the verdicts it has, and a
// reassessment that follows at once judges it again.
const maxRejudged = 5

// errOutdated reports that keyring, policy or waivers have changed since a batch was judged.
var errOutdated = errors.New("the batch was judged by what is not in force any more")

// Finish closes a batch with its verdict and its record when all its slices are done. It reports
// whether the batch is closed now.
//
// The items were judged by the keyring, policy and waivers of the time when the batch was
// created, so that all of them meet the same rules. If these have changed since, all items are
// judged again in the transaction that closes the batch: nobody is told a verdict that is out of
// date.
func (s *Service) Finish(ctx context.Context, id int64) (closed bool, err error) {
	var current *currentBasis
	for range maxRejudged {
		closed, err = s.finish(
			ctx, id, current, func(context.Context, *store.Tx, store.Batch) error { return errOutdated },
		)
		if !errors.Is(err, errOutdated) {
			return closed, err
		}
		if current, err = s.currentBasis(ctx, id); err != nil {
			return false, err
		}
	}
	return s.finish(ctx, id, nil, s.orderRejudging)
}

// A currentBasis is what a batch is judged by when it is judged again before it is closed.
type currentBasis struct {
	// size is the size of the ledger before keyring, policy and waivers were read: a decision
	// that is recorded at this position or behind it may be missing from them.
	size    int64
	at      time.Time
	policy  int64
	session *verify.Session
}

// currentBasis reads the keyring, policy and waivers that are in force now.
func (s *Service) currentBasis(ctx context.Context, id int64) (*currentBasis, error) {
	size, err := s.store.LedgerSize(ctx)
	if err != nil {
		return nil, err
	}
	b, err := s.batch(ctx, id)
	if err != nil {
		return nil, err
	}
	ring, err := s.keys.ToJudge(ctx)
	if err != nil {
		return nil, err
	}
	policies, err := s.policy.InForce(ctx, 0)
	if err != nil {
		return nil, err
	}
	b.JudgedAsOf, b.PolicyVersion = s.now(), policies.Version
	session, _, err := s.sessionWith(ctx, b, ring)
	if err != nil {
		return nil, err
	}
	// It judges within a transaction.
	known, err := s.know(ctx, session, b, ring)
	if err != nil {
		return nil, err
	}
	err = known.fetch(ctx)
	return &currentBasis{size, b.JudgedAsOf, b.PolicyVersion, session}, err
}

// orderRejudging has a batch judged again by a reassessment.
func (s *Service) orderRejudging(ctx context.Context, tx *store.Tx, b store.Batch) error {
	_, err := s.orders.Place(ctx, tx, b.AskedBy, s.now(), reassess.Selection{Batch: b.ID}, whyRejudged)
	return err
}

// finish closes a batch, with its items judged again by current where that is not nil. outdated
// is called where a decision was recorded since the batch, or current, was read; its error leaves
// the batch open.
func (s *Service) finish(
	ctx context.Context, id int64, current *currentBasis, outdated func(context.Context, *store.Tx, store.Batch) error,
) (closed bool, err error) {
	err = s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		closed = false
		b, done, err := toClose(ctx, tx, id)
		if err != nil || b == nil {
			closed = err == nil && done
			return err
		}
		// From here on nothing changes by which it is judged.
		if err := tx.LockBasis(ctx); err != nil {
			return err
		}
		judgedAt := b.LedgerSize
		if current != nil {
			judgedAt = &current.size
		}
		changed := false
		if judgedAt != nil {
			if changed, err = s.keys.DecidedSince(ctx, tx, *judgedAt); err != nil {
				return err
			}
		}
		var again *recorded.JudgedAgain
		switch {
		case changed:
			err = outdated(ctx, tx, *b)
		case current != nil:
			again, err = s.judgeAgain(ctx, tx, b, current)
		}
		if err != nil {
			return err
		}
		lapsed, err := s.lapsed(ctx, tx, *b)
		if err != nil {
			return err
		}
		closed = true
		if err := s.help(ctx, tx, *b); err != nil {
			return err
		}
		return s.close(ctx, tx, *b, again, state.BatchDone, resultOf(*b).Verdict, closingNote(*b, lapsed, again))
	})
	return closed && err == nil, err
}

// toClose locks a batch and returns it if it is to be closed now. It returns nil for one of which
// something is not measured yet or that is being stopped, and for one that was closed before,
// with done set.
func toClose(ctx context.Context, tx *store.Tx, id int64) (b *store.Batch, done bool, err error) {
	now, err := tx.LockBatch(ctx, id)
	if err != nil || now != state.BatchMeasuring {
		return nil, now != state.BatchWaiting, err
	}
	if open, err := tx.OpenSlices(ctx, id); err != nil || open > 0 {
		return nil, false, err
	}
	tallied, err := tx.Tally(ctx, id)
	if err != nil || tallied.StopState != nil {
		return nil, false, err
	}
	return &tallied, false, nil
}

// closingNote says what people have to know of a batch beside its verdict, or "".
func closingNote(b store.Batch, lapsed bool, again *recorded.JudgedAgain) string {
	const changed = "Keyring, policy or waivers changed while it was verified. Judged by what is in force now, "
	switch {
	case lapsed:
		return fmt.Sprintf(
			"The %s on %s was not heard from any more; what it had not measured is unproven.", sourceOf(b).Kind,
			plain.Text(sourceOf(b).Host()),
		)
	case b.Cleared+b.Unproven+b.Refused == 0 && b.Companions > 0:
		return "The folder holds companions and nothing that they come along with, so there is nothing that could be cleared."
	case b.Cleared+b.Unproven+b.Refused == 0:
		return "The folder holds no artifact, so there is nothing that could be cleared."
	case again != nil && again.Changed == 1:
		return changed + "one verdict differs from what it was when it began."
	case again != nil && again.Changed > 1:
		return changed + fmt.Sprintf("%d verdicts differ from what they were when it began.", again.Changed)
	case b.RequireAll && b.Absent > 0 && b.Refused == 0:
		return fmt.Sprintf("All entries were asked for, and %d of them have no file here.", b.Absent)
	}
	return ""
}

// whyRejudged is the reason on record of a reassessment that the end of a batch asks for.
const whyRejudged = "Keyring, policy or waivers changed while this batch was verified."

// judgeAgain judges all items of a batch by current, and puts the new counts of verdicts into b.
func (s *Service) judgeAgain(
	ctx context.Context, tx *store.Tx, b *store.Batch, current *currentBasis,
) (*recorded.JudgedAgain, error) {
	again := &recorded.JudgedAgain{AsBegun: resultOf(*b)}
	run, err := s.orders.Begin(
		ctx, tx, b.AskedBy, current.at, current.policy, reassess.Selection{Batch: b.ID}, whyRejudged,
	)
	if err != nil {
		return nil, err
	}
	current.session.After(predecessorsOf(*b, tx.Reads))
	counts := map[judge.Verdict]*int{
		judge.Cleared: &b.Cleared, judge.Unproven: &b.Unproven, judge.Refused: &b.Refused,
		judge.Companion: &b.Companions,
	}
	if err := run.Batch(ctx, tx, b.ID, current.session, func(before, after judge.Verdict) {
		again.Changed++
		*counts[before]--
		*counts[after]++
	}); err != nil {
		return nil, err
	}
	again.Reassessment, err = run.End(ctx, tx)
	return again, err
}

// close appends the record of a batch that has ended, and tells everybody who follows it.
func (s *Service) close(
	ctx context.Context, tx *store.Tx, b store.Batch, again *recorded.JudgedAgain, ended state.Batch,
	verdict judge.Verdict, note string,
) error {
	if err := tx.Announce(ctx, b.ID); err != nil {
		return err
	}
	copies, err := tx.Copies(ctx, b.ID)
	if err != nil {
		return err
	}
	summaries := []json.RawMessage{}
	for _, c := range copies {
		if c.Summary != nil {
			summaries = append(summaries, c.Summary)
		}
	}
	absent, err := tx.AbsentEntries(ctx, b.ID)
	if err != nil {
		return err
	}
	expected := json.RawMessage("null")
	if b.Expected != nil {
		expected = b.Expected
	}
	named := json.RawMessage(b.Named)
	if string(named) == "[]" {
		named = nil
	}
	source := sourceOf(b)
	depot, folder := source.Folder()
	_, err = s.records.Append(ctx, tx, records.Entry{
		By: b.AskedBy, Subject: b.Source, Verdict: string(verdict), Batch: b.ID,
		Body: recorded.BatchResult{
			Batch:         b.ID,
			Label:         b.Label,
			Depot:         depot,
			Folder:        folder,
			Source:        source,
			State:         ended,
			Verdict:       verdict,
			Items:         b.Items,
			Bytes:         b.Bytes,
			Cleared:       b.Cleared,
			Unproven:      b.Unproven,
			Refused:       b.Refused,
			Absent:        b.Absent,
			Companions:    b.Companions,
			Named:         named,
			RequireAll:    b.RequireAll,
			Note:          note,
			Policy:        b.PolicyVersion,
			Corrections:   b.Corrections,
			Origins:       b.Origins,
			Copies:        summaries,
			Publisher:     &b.Publisher,
			Expected:      expected,
			AskedAt:       b.CreatedAt.UTC(),
			JudgedAsOf:    b.JudgedAsOf.UTC(),
			LedgerSize:    b.LedgerSize,
			AbsentEntries: absent,
			Stopped:       stoppedOf(b),
			JudgedAgain:   again,
			Done:          b.Tally,
		},
	})
	return err
}

// unopened handles a folder that cannot be opened. A cause that may pass, such as a file system
// that is not mounted or a folder that is being renamed, is noted in the batch and returned, so
// that the job is tried again. Any other ends the batch as failed.
func (s *Service) unopened(ctx context.Context, b store.Batch, cause error) error {
	if !fault.Is(cause, fault.DepotUnreadable) && !fault.Is(cause, fault.FolderUnknown) {
		return s.fail(ctx, b, cause)
	}
	return errors.Join(cause, s.store.NoteBatch(ctx, b.ID, "waiting: "+plain.Text(cause.Error())))
}

// opened removes the note that [Service.unopened] has made.
func (s *Service) opened(ctx context.Context, b store.Batch) error {
	if b.Note == "" {
		return nil
	}
	return s.store.NoteBatch(ctx, b.ID, "")
}
