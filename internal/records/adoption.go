package records

import (
	"context"
	"fmt"

	"endeixis/internal/recorded"
	"endeixis/internal/store"
)

// Adopt takes the rows of earlier versions as they are that no record says all of, once in
// the life of a ledger: from then on each is held against that record, and no other row is
// without one. A new installation has none.
func (s *Service) Adopt(ctx context.Context) error {
	return s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		if err := tx.LockBasis(ctx); err != nil {
			return err
		}
		due, err := tx.AdoptionDue(ctx)
		if err != nil || !due {
			return err
		}
		rows, err := tx.Adoptable(ctx)
		if err != nil {
			return err
		}
		_, err = s.Decide(ctx, tx, "service", fmt.Sprintf("%d rows", len(rows)), recorded.RowsAdopted{Rows: rows})
		return err
	})
}

// AdoptionDue reports whether rows of earlier versions are still to be adopted.
func (s *Service) AdoptionDue(ctx context.Context) (bool, error) { return s.store.AdoptionDue(ctx) }
