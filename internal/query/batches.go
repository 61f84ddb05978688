package query

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"endeixis/core/judge"
	"endeixis/internal/sources"
	"endeixis/internal/state"
	"endeixis/internal/store"
)

// A Batch is what was asked for, and how far it is.
type Batch struct {
	ID        int64
	Label     string
	Source    sources.Source
	Publisher string
	// RequireAll is set where each entry of a manifest needs its file.
	RequireAll bool
	// Named are the patterns for companions that it was asked with.
	Named         []string
	PolicyVersion int64
	AskedBy       string
	CreatedAt     time.Time
	FinishedAt    *time.Time
	State         state.Batch
	// Verdict is that with which it ended, and nil before the batch is done. Now is what it comes to
	// where a reassessment has changed something since, or nil.
	Verdict  *judge.Verdict
	Now      *Now
	Expected *judge.Expectation
	Note     string
	// Record is the position of the record that closed it, or nil.
	Record *int64
	Tally
}

// A Now is what a batch comes to by all reassessments since it ended.
type Now struct {
	Verdict                    judge.Verdict
	Cleared, Unproven, Refused int
	// Companions come along and need no clearing.
	Companions int
	// Reassessment is the newest that changed something, At when that was recorded, and Record the
	// position of that record.
	Reassessment, Record int64
	At                   time.Time
}

// A Tally counts what there is in a batch, and what is done of it.
type Tally struct {
	Items, ItemsDone int
	// Bytes are those that are read, and BytesDone those that have been.
	Bytes, BytesDone                   int64
	Cleared, Unproven, Refused, Absent int
	// Companions come along and need no clearing.
	Companions int
}

// BatchOf returns what a row holds.
func BatchOf(row store.Batch) Batch {
	out := Batch{
		ID: row.ID, Label: row.Label, Source: sources.Source{Kind: sources.Kind(row.SourceKind), Reference: row.Source},
		Publisher: row.Publisher, RequireAll: row.RequireAll, PolicyVersion: row.PolicyVersion, AskedBy: row.AskedBy,
		CreatedAt: row.CreatedAt, FinishedAt: row.FinishedAt, State: row.State, Verdict: verdictOf(row.Verdict),
		Note: row.Note, Record: row.Position, Tally: Tally(row.Tally),
	}
	if n := row.Now; n.NowVerdict != nil {
		out.Now = &Now{
			Verdict: judge.Verdict(*n.NowVerdict), Cleared: *n.NowCleared, Unproven: *n.NowUnproven,
			Refused: *n.NowRefused, Companions: *n.NowCompanions, Reassessment: *n.NowReassessment,
			Record: *n.NowPosition, At: *n.NowAt,
		}
	}
	if json.Unmarshal(row.Named, &out.Named) != nil {
		out.Named = nil
	}
	if len(row.Expected) > 0 {
		var e judge.Expectation
		if json.Unmarshal(row.Expected, &e) == nil {
			out.Expected = &e
		}
	}
	return out
}

// verdictOf returns a stored verdict, or nil where there is none.
func verdictOf(stored *string) *judge.Verdict {
	if stored == nil {
		return nil
	}
	v := judge.Verdict(*stored)
	return &v
}

// A BatchFilter says which batches are listed; what is empty does not limit them.
type BatchFilter struct {
	State state.Batch
	// Verdict is what a batch comes to by now.
	Verdict judge.Verdict
	// Source is the reference of a depot's folder.
	Source string
	// Unsettled lists those that need attention, if they are refused or unproven.
	Unsettled bool
	// Limit is how many are in a page at most.
	Limit int
}

func (f BatchFilter) store() store.BatchFilter {
	return store.BatchFilter{
		State: f.State, Verdict: string(f.Verdict), Source: f.Source, Unsettled: f.Unsettled,
		Limit: f.Limit,
	}
}

// Batches lists batches, the newest first.
func (s *Service) Batches(ctx context.Context, f BatchFilter, cursor string) (Page[Batch], error) {
	before, err := Number(cursor, 0)
	if err != nil {
		return Page[Batch]{}, err
	}
	asked := f.store()
	asked.Before = before
	asked.Limit++
	rows, err := s.store.Batches(ctx, asked)
	return pageOf(each(rows, BatchOf), f.Limit, func(b Batch) string { return fmt.Sprint(b.ID) }), err
}
