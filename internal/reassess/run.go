package reassess

import (
	"context"
	"encoding/json"
	"errors"
	"slices"

	"endeixis/core/judge"
	"endeixis/internal/fault"
	"endeixis/internal/query"
	"endeixis/internal/recorded"
	"endeixis/internal/records"
	"endeixis/internal/state"
	"endeixis/internal/store"
)

// Ask asks that what is selected be judged again with the present keyring,
// policy and waivers. [Service.Run] does it.
func (s *Service) Ask(ctx context.Context, by string, sel Selection, reason string) (query.Reassessment, error) {
	if sel.Empty() {
		return query.Reassessment{}, fault.New(fault.Invalid, fault.SelectionMissing, "Say what is to be judged again.").
			Advise("Give a batch, a publisher, a key, a period, or all.").
			At("batch")
	}
	if err := fault.Reason(reason, "A reassessment"); err != nil {
		return query.Reassessment{}, err
	}
	if sel.Batch != 0 {
		if _, err := s.store.Batch(ctx, sel.Batch); errors.Is(err, store.ErrNotFound) {
			return query.Reassessment{}, fault.New(fault.NotFound, fault.BatchUnknown, "There is no batch %d.", sel.Batch).
				At("batch")
		} else if err != nil {
			return query.Reassessment{}, err
		}
	}
	if sel.Publisher != "" {
		if _, err := s.publishers.Publisher(ctx, sel.Publisher); err != nil {
			return query.Reassessment{}, err
		}
	}
	var r store.Reassessment
	err := s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) (err error) {
		r, err = s.orders.Place(ctx, tx, by, s.now(), sel, reason)
		return err
	})
	return query.ReassessmentOf(r), err
}

// Run judges again what a reassessment selects, and records what
// changed. It may be repeated at any point.
func (s *Service) Run(ctx context.Context, id int64) error {
	r, err := s.store.Reassessment(ctx, id)
	if err != nil || r.State != state.RunWaiting {
		return err
	}
	var sel Selection
	if err := json.Unmarshal(r.Selection, &sel); err != nil {
		return err
	}
	ring, err := s.keys.ToJudge(ctx)
	if err != nil {
		return err
	}
	items, err := s.rejudge(
		ctx, sel, asOf{ring, r.PolicyVersion, r.CreatedAt},
		func(judged []Rejudgement, _, _ int64) error {
			return s.keepRejudged(ctx, r, judged)
		},
		func(batch int64) error { return s.count(ctx, r.ID, batch) },
	)
	if err != nil {
		return err
	}
	return s.close(ctx, id, state.RunDone, "", items)
}

// Abandon closes a reassessment that cannot be carried out. What it
// has changed so far stands.
func (s *Service) Abandon(ctx context.Context, id int64, cause error) error {
	return errors.Join(s.close(ctx, id, state.RunFailed, fault.Abandoned(cause), 0), s.CatchUp(ctx))
}

func (s *Service) close(ctx context.Context, id int64, ended state.Run, note string, items int) error {
	return s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		r, err := tx.LockReassessment(ctx, id)
		if err != nil || r.State != state.RunWaiting {
			return err
		}
		return s.orders.end(ctx, tx, r, ended, note, items)
	})
}

// end records a run and closes it.
func (o *Orders) end(
	ctx context.Context, tx *store.Tx, r store.Reassessment, ended state.Run, note string, items int,
) error {
	changed, err := tx.RejudgedCount(ctx, r.ID)
	if err != nil {
		return err
	}
	var sel Selection
	if err := json.Unmarshal(r.Selection, &sel); err != nil {
		return err
	}
	body := recorded.Reassessed{
		Reassessment: r.ID, Reason: r.Reason, Items: items, Changed: changed, Policy: r.PolicyVersion,
		JudgedAsOf: r.CreatedAt, Note: note,
	}
	if body.Selection, err = json.Marshal(sel); err != nil {
		return err
	}
	if ended != state.RunDone {
		body.State = ended
	}
	_, err = o.records.Append(
		ctx, tx, records.Entry{By: r.AskedBy, Subject: sel.String(), Batch: sel.Batch, Body: body},
	)
	return err
}

// differing returns those whose verdict changed.
func differing(judged []Rejudgement) []Rejudgement {
	return slices.DeleteFunc(
		slices.Clone(judged), func(j Rejudgement) bool { return j.Before == j.Outcome.Verdict || j.Before == "" },
	)
}

// keepRejudged stores those whose verdict changed, once.
func (s *Service) keepRejudged(ctx context.Context, r store.Reassessment, judged []Rejudgement) error {
	changed := differing(judged)
	if len(changed) == 0 {
		return nil
	}
	return s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		if _, err := tx.LockReassessment(ctx, r.ID); err != nil {
			return err
		}
		// A run that was interrupted has stored some of them.
		done, err := tx.RejudgedNumbers(ctx, r.ID, changed[0].Batch, changed[0].N)
		if err != nil {
			return err
		}
		return s.orders.keep(
			ctx, tx, r, slices.DeleteFunc(changed, func(j Rejudgement) bool {
				_, stored := slices.BinarySearch(done, j.N)
				return stored
			}),
		)
	})
}

// count records what a batch comes to after a reassessment that changed verdicts in it, once, and tells
// those who follow the batch.
func (s *Service) count(ctx context.Context, reassessment, batch int64) error {
	return s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		r, err := tx.LockReassessment(ctx, reassessment)
		if err != nil {
			return err
		}
		b, err := tx.RejudgedBatch(ctx, reassessment, batch)
		if errors.Is(err, store.ErrNotFound) {
			return nil
		}
		if err != nil {
			return err
		}
		verdict := judge.Batch(b.Cleared, b.Unproven, b.Refused, b.Absent, b.RequireAll)
		if _, err := s.records.Append(ctx, tx, records.Entry{
			By: r.AskedBy, Subject: b.Source, Verdict: string(verdict), Batch: batch,
			Body: recorded.BatchRejudged{
				Reassessment: reassessment, Batch: batch, Verdict: verdict, Cleared: b.Cleared, Unproven: b.Unproven,
				Refused: b.Refused, Companions: b.Companions, Changed: b.Changed, Policy: r.PolicyVersion,
				JudgedAsOf: r.CreatedAt, Reason: r.Reason,
			},
		}); err != nil {
			return err
		}
		return tx.Announce(ctx, batch)
	})
}

// CatchUp records what batches come to in which an earlier version, or a run that was given up, has
// changed verdicts without saying so.
func (s *Service) CatchUp(ctx context.Context) error {
	uncounted, err := s.store.Uncounted(ctx)
	for _, u := range uncounted {
		err = errors.Join(err, s.count(ctx, u.Reassessment, u.Batch))
	}
	return err
}

// keep records changed verdicts and stores them.
func (o *Orders) keep(ctx context.Context, tx *store.Tx, r store.Reassessment, changed []Rejudgement) error {
	if len(changed) == 0 {
		return nil
	}
	entries := make([]records.Entry, len(changed))
	for i, j := range changed {
		body := recorded.ItemRejudged{
			Reassessment: r.ID,
			Batch:        j.Batch,
			Item:         j.Item.Path,
			N:            j.N,
			Before:       j.Before,
			Policy:       r.PolicyVersion,
			JudgedAsOf:   r.CreatedAt,
			Reason:       r.Reason,
		}
		if err := body.Put(j.Outcome); err != nil {
			return err
		}
		entries[i] = records.Entry{
			By: r.AskedBy, Subject: j.Item.Path, Verdict: string(j.Outcome.Verdict), Batch: j.Batch, Body: body,
		}
	}
	_, err := o.records.Append(ctx, tx, entries...)
	return err
}
