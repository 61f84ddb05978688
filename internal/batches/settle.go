package batches

import (
	"context"

	"endeixis/internal/fault"
	"endeixis/internal/query"
	"endeixis/internal/recorded"
	"endeixis/internal/records"
	"endeixis/internal/store"
)

// Settle records that a batch needs no attention as it is, and why. It changes no verdict: the batch needs attention
// again when it is judged otherwise. It returns a [*fault.Fault] for one that needs none.
func (s *Service) Settle(ctx context.Context, by string, id int64, reason string) (query.Batch, error) {
	if err := fault.Reason(reason, "Settling a batch"); err != nil {
		return query.Batch{}, err
	}
	err := s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		if _, err := tx.LockBatch(ctx, id); err != nil {
			return unknown(id, err)
		}
		b, err := tx.Tally(ctx, id)
		if err != nil {
			return err
		}
		needed, err := tx.NeedsAttention(ctx, id)
		if err != nil {
			return err
		}
		if !needed {
			return fault.New(fault.Conflict, fault.NothingToSettle, "Batch %d needs no attention.", id).
				Advise("“endeixis attention” lists what does.")
		}
		_, err = s.records.Append(
			ctx, tx, records.Entry{By: by, Subject: b.Source, Body: recorded.Settlement{Batch: id, Reason: reason}},
		)
		return err
	})
	if err != nil {
		return query.Batch{}, err
	}
	return s.Get(ctx, id)
}
