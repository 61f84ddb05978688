package records

import (
	"context"

	"endeixis/core/ledger"
	"endeixis/internal/recorded"
	"endeixis/internal/store"
)

// Differences holds the database against the records, both ways: its structure, what is judged
// by, and every other table that decides or shows something. It returns the first of each that
// differ. The records' texts have to be proven before: each is taken for what was decided. Of what
// grows with every batch it looks at what follows from the records from a position on.
func Differences(ctx context.Context, reads store.Reads, from int64, each func(of string)) ([]store.Difference, error) {
	each("the database itself")
	out, err := reads.StructureDifferences(ctx)
	if err != nil {
		return nil, err
	}
	basis, odd, err := basisOf(ctx, reads)
	if err != nil {
		return nil, err
	}
	out = append(out, odd...)
	adoptedAt, err := reads.AdoptedAt(ctx)
	if err != nil {
		return nil, err
	}
	for _, table := range store.BasisTables() {
		each(table.Of)
		rows, err := reads.BasisRows(ctx, table)
		if err != nil {
			return nil, err
		}
		out = append(out, basis.Compare(table, rows, adoptedAt)...)
	}
	others, err := reads.Differences(ctx, from, each)
	return append(out, others...), err
}

// basisOf puts together what is judged by from the records as they stand there. A record that
// cannot be read is a difference.
func basisOf(ctx context.Context, reads store.Reads) (*recorded.Basis, []store.Difference, error) {
	adopted, err := reads.AdoptedKeys(ctx)
	if err != nil {
		return nil, nil, err
	}
	var events []recorded.Event
	var odd []store.Difference
	err = reads.EachOfKinds(ctx, ledger.Deciding(), 0, func(page []store.Record) error {
		for _, r := range page {
			head, body, err := recorded.Read(r.Position, r.Body)
			if err != nil {
				odd = append(odd, store.Difference{Position: r.Position, What: err.Error()})
				continue
			}
			events = append(events, recorded.Event{Head: head, Body: body})
		}
		return nil
	})
	return recorded.NewBasis(adopted).With(events...), odd, err
}
