package store

import (
	"context"
	"fmt"
	"time"
)

// A Reference is a file that was cleared here, found again by its bytes.
type Reference struct {
	Batch     int64     `db:"batch_id"`
	N         int       `db:"n"`
	Path      string    `db:"path"`
	Size      int64     `db:"size"`
	Source    string    `db:"source"`
	Label     string    `db:"label"`
	Expected  []byte    `db:"expected"`
	Algorithm string    `db:"algorithm"`
	Digest    []byte    `db:"digest"`
	Record    int64     `db:"position"`
	At        time.Time `db:"at"`
	// Now is the verdict that the newest reassessment made of it, or nil.
	Now *string `db:"now"`
	// Publisher is whose signature it rests on, or empty; Release is what its name says.
	Publisher string `db:"publisher"`
	Release   string `db:"release"`
}

// referenceColumns are those of a [Reference], of a row l of the library with its item i, batch b, record r and one of
// its digests d.
var referenceColumns = `SELECT l.batch_id, l.n, i.path, i.size, b.source, b.label,
		coalesce(b.expected, 'null') AS expected, d.algorithm, d.digest, l.position, r.at, l.publisher, l.release,
		` + newest("after", "l") + ` AS now`

// A ReferenceFilter narrows the library; empty fields match all.
type ReferenceFilter struct {
	// Publisher is whose signature a file rests on.
	Publisher string
	// Match is a part of a file's name.
	Match string
	// Before is the position to go on from, downwards; 0 starts at the newest.
	Before int64
	Limit  int
}

// Library lists the files of the library that were decided last, the newest first, each with its SHA-256 digest.
func (s Reads) Library(ctx context.Context, f ReferenceFilter) ([]Reference, error) {
	var where conditions
	var args []any
	where.add(&args, f.Publisher != "", "l.publisher = $%d", f.Publisher)
	where.add(&args, f.Match != "", `lower(l.name) LIKE lower($%d)`, "%"+literal(f.Match)+"%")
	where.add(&args, f.Before > 0, "l.position < $%d", f.Before)
	where = append(where, `NOT EXISTS (SELECT FROM library later WHERE later.batch_id = l.batch_id AND later.n = l.n
		AND later.position > l.position OFFSET 0)`)
	out := []Reference{}
	err := s.q.SelectContext(
		ctx, &out,
		fmt.Sprintf(
			`%s FROM (SELECT * FROM library l %sORDER BY l.position DESC LIMIT %d) l
				CROSS JOIN LATERAL (SELECT * FROM outcome_digests d WHERE d.batch_id = l.batch_id AND d.n = l.n
					AND d.algorithm = 'SHA-256' OFFSET 0) d
				JOIN items i ON i.batch_id = l.batch_id AND i.n = l.n JOIN batches b ON b.id = l.batch_id
				JOIN ledger_records r ON r.position = l.position
			ORDER BY l.position DESC`, referenceColumns, where.clause(), f.Limit,
		), args...)
	return out, explain(err)
}

// References lists the files of the library with one of some digests, the newest first: also those about which
// something else was decided since.
func (s Reads) References(ctx context.Context, digests [][]byte, limit int) ([]Reference, error) {
	out := []Reference{}
	err := s.q.SelectContext(
		ctx,
		&out,
		referenceColumns+`
		FROM outcome_digests d`+inLibrary+`JOIN items i ON i.batch_id = d.batch_id AND i.n = d.n
			JOIN batches b ON b.id = d.batch_id JOIN ledger_records r ON r.position = l.position
		WHERE d.digest = ANY($1) ORDER BY d.batch_id DESC, d.n, d.algorithm LIMIT $2`,
		digests,
		limit,
	)
	return out, explain(err)
}
