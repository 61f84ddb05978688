package store

import (
	"context"
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
}

// References lists the files that were cleared with one of some digests, and no media or
// slots that hold them, the newest
// first.
func (s Reads) References(ctx context.Context, digests [][]byte, limit int) ([]Reference, error) {
	out := []Reference{}
	err := s.q.SelectContext(
		ctx,
		&out,
		`SELECT d.batch_id, d.n, i.path, i.size, b.source, b.label, coalesce(b.expected, 'null') AS expected,
			d.algorithm, d.digest, o.position, b.judged_as_of AS at,
			`+newest("after", "d")+` AS now
		FROM outcome_digests d JOIN items i USING (batch_id, n) JOIN outcomes o USING (batch_id, n) JOIN batches b
		ON b.id = d.batch_id
		WHERE d.cleared AND d.digest = ANY($1) AND NOT i.survey ? 'against' ORDER BY d.batch_id DESC, d.n, d.algorithm
			LIMIT $2`,
		digests,
		limit,
	)
	return out, explain(err)
}
