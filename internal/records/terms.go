package records

import (
	"context"

	"endeixis/internal/recorded"
	"endeixis/internal/store"
)

// namedAtOnce is how many records of earlier versions get their terms, and their place in the library, in one
// transaction.
const namedAtOnce = 2000

// CatchUp writes what records of earlier versions are found by, and what the library has by them, the newest
// first. It goes on where it stopped when it is interrupted.
func (s *Service) CatchUp(ctx context.Context) error {
	for {
		below, err := s.store.WithoutTerms(ctx)
		if err != nil || below == 0 {
			return err
		}
		first := max(0, below-namedAtOnce)
		var terms store.RecordTerms
		var shelf []store.LibraryEntry
		if err := s.store.RecordsFrom(ctx, first, below, func(r store.Record) error {
			// One that cannot be read is told of by every audit.
			if h, b, err := recorded.Read(r.Position, r.Body); err == nil {
				terms.Add(r.Position, recorded.Terms(h, b))
				if e := recorded.LibraryEntry(h, b); e != nil {
					shelf = append(shelf, *e)
				}
			}
			return nil
		}); err != nil {
			return err
		}
		if err := s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
			if err := tx.AddTerms(ctx, terms); err != nil {
				return err
			}
			shelf, err := numbered(ctx, tx, shelf)
			if err != nil {
				return err
			}
			if err := tx.AddLibrary(ctx, shelf); err != nil {
				return err
			}
			return tx.SetWithoutTerms(ctx, first)
		}); err != nil {
			return err
		}
	}
}

// numbered returns entries with the numbers of their items, which records do not say. One whose outcome is not
// in its table is left out: every audit tells of it.
func numbered(ctx context.Context, tx *store.Tx, entries []store.LibraryEntry) ([]store.LibraryEntry, error) {
	positions := make([]int64, len(entries))
	for i, e := range entries {
		positions[i] = e.Position
	}
	numbers, err := tx.ItemNumbersAt(ctx, positions)
	if err != nil {
		return nil, err
	}
	var out []store.LibraryEntry
	for _, e := range entries {
		if n, ok := numbers[e.Position]; ok {
			e.N = n
			out = append(out, e)
		}
	}
	return out, nil
}
