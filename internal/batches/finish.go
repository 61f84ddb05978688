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
		Verdict: judge.Batch(b.Cleared, b.Unproven, b.Refused, b.Absent, b.RequireAll), Cleared: b.Cleared, Unproven: b.Unproven, Refused: b.Refused,
	}
}

// maxAfresh is how often a batch is tried to be ended with what is in force at its
// end. If that changes faster, it ends as it was begun, and is judged again behind
// that.
const maxAfresh = 5

// Finish closes a batch when all its slices are done, with its verdict and
// record. It reports whether the batch is closed now.
//
// All items were judged as of the batch's creation, so that they meet the same rules.
// What has changed since is made up for in the same transaction: nobody is told a
// verdict that is out of date.
func (s *Service) Finish(ctx context.Context, id int64) (bool, error) {
	var with *afresh
	for range maxAfresh {
		closed, outdated, err := s.finish(ctx, id, with, false)
		if err != nil || !outdated {
			return closed, err
		}
		if with, err = s.afresh(ctx, id); err != nil {
			return false, err
		}
	}
	closed, _, err := s.finish(ctx, id, nil, true)
	return closed, err
}

// afresh is what a batch is judged with again before it ends.
type afresh struct {
	// size is that of the ledger before the rest was read: what is recorded
	// behind it may be missing.
	size    int64
	at      time.Time
	policy  int64
	session *verify.Session
}

// afresh puts together what is in force now.
func (s *Service) afresh(ctx context.Context, id int64) (*afresh, error) {
	size, err := s.store.LedgerSize(ctx)
	if err != nil {
		return nil, err
	}
	b, err := s.Get(ctx, id)
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
	session, err := s.Session(ctx, b, ring)
	return &afresh{size, b.JudgedAsOf, b.PolicyVersion, session}, err
}

// finish closes a batch, judged again with what is given, unless that is outdated
// itself. Where it has to end anyhow, it is judged again by a job.
func (s *Service) finish(ctx context.Context, id int64, with *afresh, anyhow bool) (closed, outdated bool, err error) {
	err = s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		closed, outdated = false, false
		now, err := tx.LockBatch(ctx, id)
		if err != nil || now != state.BatchMeasuring {
			closed = err == nil && now != state.BatchWaiting
			return err
		}
		if open, err := tx.OpenSlices(ctx, id); err != nil || open > 0 {
			return err
		}
		b, err := tx.Tally(ctx, id)
		if err != nil || b.StopState != nil {
			return err
		}
		// From here on nothing changes by which it is judged.
		if err := tx.LockBasis(ctx); err != nil {
			return err
		}
		since := b.LedgerSize
		if with != nil {
			since = &with.size
		}
		if since != nil {
			if outdated, err = s.keys.DecidedSince(ctx, tx, *since); err != nil {
				return err
			}
		}
		var again *recorded.JudgedAgain
		switch {
		case outdated && !anyhow:
			return nil
		case outdated:
			if _, err := s.orders.Place(ctx, tx, b.AskedBy, s.now(), reassess.Selection{Batch: b.ID}, whyAgain); err != nil {
				return err
			}
		case with != nil:
			if again, err = s.judgeAgain(ctx, tx, &b, with); err != nil {
				return err
			}
		}
		note := ""
		lapsed, err := s.lapsed(ctx, tx, b)
		if err != nil {
			return err
		}
		switch {
		case lapsed:
			note = fmt.Sprintf("The %s on %s was not heard from any more; what it had not measured is unproven.", sourceOf(b).Kind, plain.Text(sourceOf(b).Host()))
		case b.Cleared+b.Unproven+b.Refused == 0:
			note = "The folder holds no artifact, so there is nothing that could be cleared."
		case again != nil && again.Changed > 0:
			note = fmt.Sprintf("Keyring, policy or waivers changed while it was verified. Judged by what is in force now, %d verdicts differ from what they were when it began.", again.Changed)
			if again.Changed == 1 {
				note = "Keyring, policy or waivers changed while it was verified. Judged by what is in force now, one verdict differs from what it was when it began."
			}
		case b.RequireAll && b.Absent > 0 && b.Refused == 0:
			note = fmt.Sprintf("All entries were asked for, and %d of them have no file here.", b.Absent)
		}
		closed = true
		return s.close(ctx, tx, b, again, state.BatchDone, resultOf(b).Verdict, note)
	})
	return closed, outdated, err
}

const whyAgain = "Keyring, policy or waivers changed while this batch was verified."

// judgeAgain judges all items of a batch again, and puts the later result into it.
func (s *Service) judgeAgain(ctx context.Context, tx *store.Tx, b *store.Batch, with *afresh) (*recorded.JudgedAgain, error) {
	again := &recorded.JudgedAgain{AsBegun: resultOf(*b)}
	run, err := s.orders.Begin(ctx, tx, b.AskedBy, with.at, with.policy, reassess.Selection{Batch: b.ID}, whyAgain)
	if err != nil {
		return nil, err
	}
	counts := map[judge.Verdict]*int{judge.Cleared: &b.Cleared, judge.Unproven: &b.Unproven, judge.Refused: &b.Refused}
	if err := run.Batch(ctx, tx, b.ID, with.session, func(before, after judge.Verdict) {
		again.Changed++
		*counts[before]--
		*counts[after]++
	}); err != nil {
		return nil, err
	}
	again.Reassessment, err = run.End(ctx, tx)
	return again, err
}

func (s *Service) close(ctx context.Context, tx *store.Tx, b store.Batch, again *recorded.JudgedAgain, ended state.Batch, verdict judge.Verdict, note string) error {
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
	source := sourceOf(b)
	depot, folder := source.Folder()
	_, err = s.records.Append(ctx, tx, records.Entry{
		By: b.AskedBy, Subject: b.Source, Verdict: string(verdict), Batch: b.ID,
		Body: recorded.BatchResult{
			Batch: b.ID, Label: b.Label, Depot: depot, Folder: folder, Source: source, State: ended, Verdict: verdict, Items: b.Items, Bytes: b.Bytes,
			Cleared: b.Cleared, Unproven: b.Unproven, Refused: b.Refused, Absent: b.Absent, RequireAll: b.RequireAll, Note: note, Policy: b.PolicyVersion, Corrections: b.Corrections,
			Origins: b.Origins, Copies: summaries, Publisher: &b.Publisher, Expected: expected, AskedAt: b.CreatedAt.UTC(), JudgedAsOf: b.JudgedAsOf.UTC(),
			LedgerSize: b.LedgerSize, AbsentEntries: absent, Stopped: stoppedOf(b), JudgedAgain: again, Done: b.Tally,
		},
	})
	return err
}

// unopened deals with a folder that cannot be opened. What may come back, such
// as a file system that is away or a folder that is being renamed, is said in the
// batch and returned, so that the step is tried again; what cannot ends it.
func (s *Service) unopened(ctx context.Context, b store.Batch, cause error) error {
	if !fault.Is(cause, "depot-unreadable") && !fault.Is(cause, "folder-unknown") {
		return s.fail(ctx, b, cause)
	}
	return errors.Join(cause, s.store.NoteBatch(ctx, b.ID, "waiting: "+plain.Text(cause.Error())))
}

// opened takes back what [Service.unopened] has said.
func (s *Service) opened(ctx context.Context, b store.Batch) error {
	if b.Note == "" {
		return nil
	}
	return s.store.NoteBatch(ctx, b.ID, "")
}
