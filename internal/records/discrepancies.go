package records

import (
	"context"
	"errors"
	"fmt"

	"endeixis/core/ledger"
	"endeixis/internal/recorded"
	"endeixis/internal/store"
)

// Discrepancies holds the database against the records, both ways: its structure, what is judged
// by, and every other table that decides or shows something. It returns the first of each that
// differ. The records' texts have to be proven before: each is taken for what was decided. Of what
// grows with every batch it looks at what follows from the records from a position on; the
// verdicts of a day are counted from the first record on alone. reads are of one moment.
func Discrepancies(
	ctx context.Context, reads store.Reads, from int64, progress func(done, total int64),
) ([]store.Discrepancy, error) {
	c := comparison{ctx: ctx, reads: reads, follower: recorded.NewFollower()}
	var err error
	if c.size, err = reads.LedgerSize(ctx); errors.Is(err, store.ErrNotFound) {
		c.out = append(c.out, store.Discrepancy{Position: -1, What: "the ledger is not said to have any size"})
	} else if err != nil {
		return nil, err
	}
	if c.adoptedAt, err = reads.AdoptedAt(ctx); err != nil {
		return nil, err
	}
	progress(from, c.size)
	for _, part := range []func() ([]store.Discrepancy, error){
		func() ([]store.Discrepancy, error) { return reads.StructureDiscrepancies(ctx) },
		c.basis, c.kept,
		func() ([]store.Discrepancy, error) { return c.placed(from, progress) },
		c.strays,
		func() ([]store.Discrepancy, error) {
			if from > 0 {
				return nil, nil
			}
			return c.whole(store.Days())
		},
		func() ([]store.Discrepancy, error) { return reads.Discrepancies(ctx, from) },
	} {
		found, err := part()
		if err != nil {
			return nil, err
		}
		c.out = append(c.out, found...)
	}
	return c.out, nil
}

// A comparison of the database with the records.
type comparison struct {
	ctx       context.Context
	reads     store.Reads
	follower  *recorded.Follower
	size      int64
	adoptedAt int64
	out       []store.Discrepancy
}

// basis holds what is judged by against the records that decide.
func (c *comparison) basis() ([]store.Discrepancy, error) {
	adopted, err := c.reads.AdoptedKeys(c.ctx)
	if err != nil {
		return nil, err
	}
	var events []recorded.Event
	out, err := c.each(
		ledger.Deciding(),
		func(h recorded.Head, b recorded.Body) { events = append(events, recorded.Event{Head: h, Body: b}) },
	)
	if err != nil {
		return nil, err
	}
	basis := recorded.NewBasis(adopted).With(events...)
	for _, table := range store.BasisTables() {
		rows, err := c.reads.WholeRows(c.ctx, table)
		if err != nil {
			return nil, err
		}
		out = append(out, basis.Compare(table, rows, c.adoptedAt)...)
	}
	return out, nil
}

// kept holds people, tokens and devices against the records about them.
func (c *comparison) kept() ([]store.Discrepancy, error) {
	out, err := c.each(recorded.Keeps(), c.follower.Keep)
	if err != nil {
		return nil, err
	}
	for _, table := range store.KeptTables() {
		found, err := c.whole(table)
		if err != nil {
			return nil, err
		}
		out = append(out, found...)
	}
	return out, nil
}

func (c *comparison) whole(table store.WholeTable) ([]store.Discrepancy, error) {
	rows, err := c.reads.WholeRows(c.ctx, table)
	if err != nil {
		return nil, err
	}
	return c.follower.Whole(table, rows), nil
}

// each reads the records of some kinds. One that cannot be read is a difference.
func (c *comparison) each(kinds []ledger.Kind, f func(recorded.Head, recorded.Body)) ([]store.Discrepancy, error) {
	var odd []store.Discrepancy
	err := c.reads.EachOfKinds(c.ctx, kinds, 0, func(page []store.Record) error {
		for _, r := range page {
			head, body, err := recorded.Read(r.Position, r.Body)
			if err != nil {
				odd = append(odd, store.Discrepancy{Position: r.Position, What: err.Error()})
				continue
			}
			f(head, body)
		}
		return nil
	})
	return odd, err
}

// comparedAtOnce is how many records are compared at a time with the rows that follow from them, and
// enough of differences when no more are looked for: the first are named.
const (
	comparedAtOnce = 1000
	enough         = 100
)

// placed holds each record against what follows from it alone.
func (c *comparison) placed(from int64, progress func(done, total int64)) ([]store.Discrepancy, error) {
	var out []store.Discrepancy
	for first := from; first < c.size && len(out) < enough; first += comparedAtOnce {
		end := min(first+comparedAtOnce, c.size)
		page := make([]store.Record, 0, end-first)
		if err := c.reads.RecordsFrom(c.ctx, first, end, func(r store.Record) error {
			page = append(page, r)
			return nil
		}); err != nil {
			return nil, err
		}
		if missing := end - first - int64(len(page)); missing > 0 {
			out = append(
				out,
				store.Discrepancy{
					Position: first,
					What: fmt.Sprintf(
						"the ledger is said to have %d records: of those from %d to %d, %d are not there", c.size,
						first, end-1, missing,
					),
				},
			)
		}
		found, err := c.follower.Compare(page, func(t store.PlacedTable) ([]store.StoredRow, error) {
			return c.reads.PlacedRows(c.ctx, t, first, end)
		}, c.adoptedAt)
		if err != nil {
			return nil, err
		}
		out = append(out, found...)
		progress(end, c.size)
	}
	return out, nil
}

// strays finds the rows that say that they follow from a record that there is not.
func (c *comparison) strays() ([]store.Discrepancy, error) {
	var out []store.Discrepancy
	for _, table := range store.PlacedTables() {
		rows, err := c.reads.Strays(c.ctx, table, c.size)
		if err != nil {
			return nil, err
		}
		for _, r := range rows {
			out = append(
				out,
				store.Discrepancy{
					Position: -1, What: fmt.Sprintf("%s: %s: there is no record for the row", table.Of, r.Key),
				},
			)
		}
	}
	return out, nil
}
