package records

import (
	"context"
	"fmt"

	"endeixis/core/ledger"
	"endeixis/internal/store"
)

// adoption is the body of the record of rows that were adopted.
type adoption struct {
	Rows []store.AdoptedRow `json:"rows"`
}

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
		_, err = s.Append(ctx, tx, Entry{Kind: ledger.RowsAdopted, By: "service", Subject: fmt.Sprintf("%d rows", len(rows)), Body: adoption{rows}})
		return err
	})
}

// AdoptionDue reports whether rows of earlier versions are still to be adopted.
func (s *Service) AdoptionDue(ctx context.Context) (bool, error) { return s.store.AdoptionDue(ctx) }

// sealedEarlier bounds how many records of an earlier version are sealed together.
const sealedEarlier = 5000

// sealEarlier seals the records that an earlier version has appended, if there are any and none
// was sealed yet.
func (s *Service) sealEarlier(ctx context.Context) error {
	key := s.writersKey()
	return s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		size, err := tx.LockLedger(ctx)
		if err != nil {
			return err
		}
		if there, err := tx.Seals(ctx, 0, 1); err != nil || len(there) > 0 {
			return err
		}
		for first := int64(0); first < size; first += sealedEarlier {
			leaves, err := tx.Leaves(ctx, first, min(size, first+sealedEarlier))
			if err != nil {
				return altered("%s", err)
			}
			if err := tx.AddSeal(ctx, store.Seal{First: first, Records: int64(len(leaves)), Seal: ledger.Seal(key, first, leaves)}); err != nil {
				return err
			}
		}
		return nil
	})
}
