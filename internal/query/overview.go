package query

import (
	"context"
	"time"

	"endeixis/core/judge"
	"endeixis/internal/state"
	"endeixis/internal/store"
)

// A DayCount is how many outcomes of a verdict a day had.
type DayCount struct {
	// Day is in the form 2006-01-02, of UTC.
	Day     string
	Verdict judge.Verdict
	Count   int
}

// An Overview is what is to be seen first. Each list is the beginning of a
// longer one.
type Overview struct {
	Refused, Unproven, Running, Recent []Batch
	// Days counts the verdicts of the last thirty days.
	Days    []DayCount
	Records int64
}

// Overview gathers it.
func (s *Service) Overview(ctx context.Context, now time.Time) (Overview, error) {
	var o Overview
	for _, part := range []struct {
		into   *[]Batch
		filter BatchFilter
	}{
		{&o.Refused, BatchFilter{Verdict: judge.Refused, Unsettled: true, Limit: 5}},
		{&o.Unproven, BatchFilter{Verdict: judge.Unproven, Unsettled: true, Limit: 5}},
		{&o.Running, BatchFilter{State: state.BatchMeasuring, Limit: 10}},
		{&o.Running, BatchFilter{State: state.BatchWaiting, Limit: 10}},
		{&o.Recent, BatchFilter{Limit: 8}},
	} {
		rows, err := s.store.Batches(ctx, part.filter.store())
		if err != nil {
			return o, err
		}
		*part.into = append(*part.into, each(rows, BatchOf)...)
	}
	days, err := s.store.OutcomesByDay(ctx, now.AddDate(0, 0, -30))
	if err != nil {
		return o, err
	}
	o.Days = each(days, func(d store.DayCount) DayCount { return DayCount{d.Day, judge.Verdict(d.Verdict), d.Count} })
	o.Records, err = s.store.LedgerSize(ctx)
	return o, err
}
