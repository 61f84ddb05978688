package records

import (
	"context"

	"endeixis/internal/recorded"
	"endeixis/internal/store"
)

// namedAtOnce is how many records of earlier versions get their terms in one transaction.
const namedAtOnce = 2000

// CatchUp writes what records of earlier versions are found by, the newest first. It goes on where it
// stopped when it is interrupted.
func (s *Service) CatchUp(ctx context.Context) error {
	for {
		below, err := s.store.WithoutTerms(ctx)
		if err != nil || below == 0 {
			return err
		}
		first := max(0, below-namedAtOnce)
		var terms store.RecordTerms
		if err := s.store.RecordsFrom(ctx, first, below, func(r store.Record) error {
			// One that cannot be read is told of by every audit.
			if h, b, err := recorded.Read(r.Position, r.Body); err == nil {
				terms.Add(r.Position, recorded.Terms(h, b))
			}
			return nil
		}); err != nil {
			return err
		}
		if err := s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
			if err := tx.AddTerms(ctx, terms); err != nil {
				return err
			}
			return tx.SetWithoutTerms(ctx, first)
		}); err != nil {
			return err
		}
	}
}
