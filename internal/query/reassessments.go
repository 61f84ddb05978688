package query

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"endeixis/core/judge"
	"endeixis/core/openpgp"
	"endeixis/internal/fault"
	"endeixis/internal/state"
	"endeixis/internal/store"
)

// A Reassessment is a run of judging again.
type Reassessment struct {
	ID     int64
	Reason string
	// Selection says in JSON what was judged again.
	Selection     json.RawMessage
	PolicyVersion int64
	AskedBy       string
	CreatedAt     time.Time
	FinishedAt    *time.Time
	State         state.Run
	// Items were judged again, and Changed of them have another verdict.
	Items, Changed int
	// Record is the position of the record of its end, or nil.
	Record *int64
	// Note says why a run failed, or is empty.
	Note string
}

// ReassessmentOf returns what a row holds.
func ReassessmentOf(row store.Reassessment) Reassessment {
	return Reassessment{
		ID: row.ID, Reason: row.Reason, Selection: row.Selection, PolicyVersion: row.PolicyVersion,
		AskedBy: row.AskedBy, CreatedAt: row.CreatedAt, FinishedAt: row.FinishedAt, State: row.State,
		Items: row.Items, Changed: row.Changed, Record: row.Position, Note: row.Note,
	}
}

// A Rejudged is an item that has another verdict since it was judged again.
type Rejudged struct {
	Reassessment, Batch int64
	N                   int
	Path                string
	Before, After       judge.Verdict
	// Grounds are those of the verdict after it.
	Grounds []judge.Ground
	At      time.Time
	// Record is the position of the record of that.
	Record int64
}

func rejudgedOf(rows []store.Rejudged) ([]Rejudged, error) {
	out := make([]Rejudged, len(rows))
	for i, row := range rows {
		out[i] = Rejudged{
			Reassessment: row.Reassessment, Batch: row.Batch, N: row.N, Path: row.Path,
			Before: judge.Verdict(row.Before), After: judge.Verdict(row.After), At: row.At, Record: row.Position,
			Grounds: []judge.Ground{},
		}
		if err := json.Unmarshal(row.Grounds, &out[i].Grounds); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// A RunFilter says which runs of judging again are listed; what is empty does not limit them.
type RunFilter struct {
	// Key is the fingerprint of the key of whose signatures something was judged again.
	Key openpgp.Fingerprint
	// Rules are those that follow from a policy or a waiver, or were asked for of everything.
	Rules bool
	// Limit is how many are in a page at most.
	Limit int
}

// Reassessments lists runs of judging again, the newest first.
func (s *Service) Reassessments(ctx context.Context, f RunFilter, cursor string) (Page[Reassessment], error) {
	before, err := Number(cursor, 0)
	if err != nil {
		return Page[Reassessment]{}, err
	}
	rows, err := s.store.Reassessments(
		ctx, store.RunFilter{Key: string(f.Key), Rules: f.Rules, Before: before, Limit: f.Limit + 1},
	)
	return pageOf(each(rows, ReassessmentOf), f.Limit, func(r Reassessment) string { return fmt.Sprint(r.ID) }), err
}

// Reassessment returns a run of judging again by its number.
func (s *Service) Reassessment(ctx context.Context, id int64) (Reassessment, error) {
	row, err := s.store.Reassessment(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		err = fault.New(fault.NotFound, fault.ReassessmentUnknown, "There is no reassessment %d.", id)
	}
	return ReassessmentOf(row), err
}

// Rejudged lists the artifacts whose verdict a run of judging again changed.
func (s *Service) Rejudged(ctx context.Context, id int64, cursor string, limit int) (Page[Rejudged], error) {
	batch, n, ok, err := pair(cursor)
	if err != nil {
		return Page[Rejudged]{}, err
	}
	if !ok {
		n = -1
	}
	rows, err := s.store.RejudgedIn(ctx, id, batch, n, limit+1)
	if err != nil {
		return Page[Rejudged]{}, err
	}
	changed, err := rejudgedOf(rows)
	return pageOf(changed, limit, func(r Rejudged) string { return fmt.Sprintf("%d.%d", r.Batch, r.N) }), err
}
