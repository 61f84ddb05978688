package reassess

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"endeixis/core/judge"
	"endeixis/core/ledger"
	"endeixis/internal/fault"
	"endeixis/internal/records"
	"endeixis/internal/state"
	"endeixis/internal/store"
)

// Ask asks that what is selected be judged again with the present keyring,
// policy and waivers. [Service.Run] does it.
func (s *Service) Ask(ctx context.Context, by string, sel Selection, reason string) (store.Reassessment, error) {
	if sel.Empty() {
		return store.Reassessment{}, fault.New(fault.Invalid, "selection-missing", "Say what is to be judged again.").Advise("Give a batch, a publisher, a key, a period, or all.").At("batch")
	}
	if err := fault.Reason(reason, "A reassessment"); err != nil {
		return store.Reassessment{}, err
	}
	if sel.Batch != 0 {
		if _, err := s.store.Batch(ctx, sel.Batch); errors.Is(err, store.ErrNotFound) {
			return store.Reassessment{}, fault.New(fault.NotFound, "batch-unknown", "There is no batch %d.", sel.Batch).At("batch")
		} else if err != nil {
			return store.Reassessment{}, err
		}
	}
	if sel.Publisher != "" {
		if _, err := s.publishers.Publisher(ctx, sel.Publisher); err != nil {
			return store.Reassessment{}, err
		}
	}
	var r store.Reassessment
	err := s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) (err error) {
		r, err = s.orders.Place(ctx, tx, by, s.now(), sel, reason)
		return err
	})
	return r, err
}

// rejudgedRecord is what the ledger keeps of an artifact whose verdict changed.
type rejudgedRecord struct {
	Reassessment int64             `json:"reassessment"`
	Batch        int64             `json:"batch"`
	Item         string            `json:"item"`
	Before       judge.Verdict     `json:"before"`
	Verdict      judge.Verdict     `json:"verdict"`
	Grounds      []judge.Ground    `json:"grounds"`
	Paths        []judge.ProofPath `json:"paths"`
	Policy       int64             `json:"policy"`
	JudgedAsOf   time.Time         `json:"judged_as_of"`
	Reason       string            `json:"reason"`
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
	items, err := s.rejudge(ctx, sel, asOf{ring, r.PolicyVersion, r.CreatedAt}, func(judged []Rejudgement, _, _ int64) error {
		return s.keepRejudged(ctx, r, judged)
	})
	if err != nil {
		return err
	}
	return s.close(ctx, id, state.RunDone, "", items)
}

// Abandon closes a reassessment that cannot be carried out. What it
// has changed so far stands.
func (s *Service) Abandon(ctx context.Context, id int64, cause error) error {
	return s.close(ctx, id, state.RunFailed, fault.Abandoned(cause), 0)
}

// reassessedRecord is what the ledger keeps of a reassessment.
type reassessedRecord struct {
	Reassessment int64     `json:"reassessment"`
	Selection    Selection `json:"selection"`
	Reason       string    `json:"reason"`
	Items        int       `json:"items"`
	Changed      int       `json:"changed"`
	Policy       int64     `json:"policy"`
	JudgedAsOf   time.Time `json:"judged_as_of"`
	// State and Note are there when it failed.
	State state.Run `json:"state,omitempty"`
	Note  string    `json:"note,omitempty"`
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
func (o *Orders) end(ctx context.Context, tx *store.Tx, r store.Reassessment, ended state.Run, note string, items int) error {
	changed, err := tx.RejudgedCount(ctx, r.ID)
	if err != nil {
		return err
	}
	body := reassessedRecord{Reassessment: r.ID, Reason: r.Reason, Items: items, Changed: changed, Policy: r.PolicyVersion, JudgedAsOf: r.CreatedAt, Note: note}
	if err := json.Unmarshal(r.Selection, &body.Selection); err != nil {
		return err
	}
	if ended != state.RunDone {
		body.State = ended
	}
	at := o.now()
	position, err := o.records.Append(ctx, tx, records.Entry{Kind: ledger.Reassessed, By: r.AskedBy, At: at, Subject: body.Selection.String(), Batch: body.Selection.Batch, Body: body})
	if err != nil {
		return err
	}
	return tx.FinishReassessment(ctx, r.ID, ended, note, at, items, changed, position)
}

// differing returns those whose verdict changed.
func differing(judged []Rejudgement) []Rejudgement {
	return slices.DeleteFunc(slices.Clone(judged), func(j Rejudgement) bool { return j.Before == j.Outcome.Verdict || j.Before == "" })
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
		done, err := tx.RejudgedNumbers(ctx, r.ID, changed[0].Batch)
		if err != nil {
			return err
		}
		return s.orders.keep(ctx, tx, r, slices.DeleteFunc(changed, func(j Rejudgement) bool { return slices.Contains(done, j.N) }))
	})
}

// keep records changed verdicts and stores them.
func (o *Orders) keep(ctx context.Context, tx *store.Tx, r store.Reassessment, changed []Rejudgement) error {
	if len(changed) == 0 {
		return nil
	}
	var entries []records.Entry
	var rows []store.Rejudged
	for _, j := range changed {
		grounds, err1 := json.Marshal(j.Outcome.Grounds)
		paths, err2 := json.Marshal(j.Outcome.Paths)
		if err := errors.Join(err1, err2); err != nil {
			return err
		}
		entries = append(entries, records.Entry{
			Kind: ledger.ItemRejudged, By: r.AskedBy, Subject: j.Item.Path, Verdict: string(j.Outcome.Verdict), Batch: j.Batch,
			Body: rejudgedRecord{r.ID, j.Batch, j.Item.Path, j.Before, j.Outcome.Verdict, j.Outcome.Grounds, j.Outcome.Paths, r.PolicyVersion, r.CreatedAt, r.Reason},
		})
		rows = append(rows, store.Rejudged{Reassessment: r.ID, Batch: j.Batch, N: j.N, Before: string(j.Before), After: string(j.Outcome.Verdict), Grounds: grounds, Paths: paths})
	}
	first, err := o.records.Append(ctx, tx, entries...)
	if err != nil {
		return err
	}
	for i := range rows {
		rows[i].Position = first + int64(i)
	}
	return tx.AddRejudged(ctx, rows)
}
