package batches

import (
	"context"

	"endeixis/core/judge"
	"endeixis/core/verify"
	"endeixis/internal/recorded"
	"endeixis/internal/records"
	"endeixis/internal/store"
)

// settle records outcomes.
func (s *Service) settle(
	ctx context.Context, tx *store.Tx, b store.Batch, expected judge.Expectation, done []verify.Item,
) error {
	source := sourceOf(b)
	depot, folder := source.Folder()
	entries := make([]records.Entry, len(done))
	for i, d := range done {
		body := recorded.ItemOutcome{
			Batch:      b.ID,
			Depot:      depot,
			Folder:     folder,
			Source:     source,
			Expected:   expected,
			Policy:     b.PolicyVersion,
			JudgedAsOf: b.JudgedAsOf,
			N:          d.N,
		}
		if err := body.Put(
			recorded.Evidence{Item: d.Planned, Measurement: d.Measurement, Outcome: d.Outcome},
		); err != nil {
			return err
		}
		entries[i] = records.Entry{
			By: b.AskedBy, Subject: d.Planned.Path, Verdict: string(d.Outcome.Verdict), Batch: b.ID, Body: body,
		}
	}
	_, err := s.records.Append(ctx, tx, entries...)
	return err
}
