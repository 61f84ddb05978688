package store

import (
	"context"
	"errors"
	"time"
)

// A ReadBack is a medium that was read back against a file.
type ReadBack struct {
	Batch int64 `db:"batch_id"`
	N     int   `db:"n"`
	// Medium is the name of it, and Source where it was read.
	Medium  string    `db:"path"`
	Source  string    `db:"source"`
	At      time.Time `db:"at"`
	Verdict *string   `db:"verdict"`
	// Now is the verdict that the newest reassessment made of it, or nil.
	Now *string `db:"now"`
}

// ReadBacks lists the media that were read back against an item, the newest first.
func (s Reads) ReadBacks(ctx context.Context, batch int64, n, limit int) ([]ReadBack, error) {
	out := []ReadBack{}
	err := s.q.SelectContext(ctx, &out, `SELECT i.batch_id, i.n, i.path, b.source, b.created_at AS at, o.verdict,
			`+newest("after", "i")+` AS now
		FROM items i JOIN batches b ON b.id = i.batch_id LEFT JOIN outcomes o USING (batch_id, n)
		WHERE i.survey ? 'against' AND (i.survey -> 'against' ->> 'batch')::bigint = $1
		AND (i.survey -> 'against' ->> 'n')::int = $2
		ORDER BY i.batch_id DESC LIMIT $3`, batch, n, limit)
	return out, explain(err)
}

// A Verified is an item that was verified here.
type Verified struct {
	Batch   int64  `db:"batch_id"`
	N       int    `db:"n"`
	Verdict string `db:"verdict"`
}

var selectVerified = `SELECT i.batch_id, i.n, coalesce(` + newest("after", "i") + `, o.verdict) AS verdict
	FROM items i JOIN outcomes o USING (batch_id, n) JOIN batches b ON b.id = i.batch_id `

// VerifiedIn returns the newest item with one of some paths, each in the source beside it:
// one that is cleared, if there is one. It fails with [ErrNotFound].
func (s Reads) VerifiedIn(ctx context.Context, kind string, sources, paths []string) (Verified, error) {
	var v Verified
	err := s.q.GetContext(ctx, &v, `SELECT * FROM (`+selectVerified+`
			JOIN unnest($2::text[], $3::text[]) AS wanted (source, path) ON b.source = wanted.source
			AND i.path = wanted.path
			WHERE b.source_kind = $1 AND o.verdict IS NOT NULL) v
		ORDER BY verdict <> 'cleared', batch_id DESC LIMIT 1`, kind, sources, paths)
	return v, explain(err)
}

// VerifiedAs returns the item whose outcome is a record, or [ErrNotFound].
func (s Reads) VerifiedAs(ctx context.Context, position int64) (Verified, error) {
	var v Verified
	err := s.q.GetContext(ctx, &v, selectVerified+`WHERE o.position = $1 AND o.verdict IS NOT NULL`, position)
	return v, explain(err)
}

// Pieces returns the digests of the pieces of an item that were computed before, one
// behind the other, or nil.
func (s Reads) Pieces(ctx context.Context, batch int64, n int, size int64) ([]byte, error) {
	var out []byte
	err := explain(
		s.q.GetContext(
			ctx, &out, `SELECT digests FROM piece_digests WHERE batch_id = $1 AND n = $2 AND size = $3`, batch, n, size,
		),
	)
	if errors.Is(err, ErrNotFound) {
		return nil, nil
	}
	return out, err
}

// KeepPieces stores the digests of the pieces of an item.
func (t *Tx) KeepPieces(ctx context.Context, batch int64, n int, size int64, digests []byte) error {
	_, err := t.tx.ExecContext(
		ctx, `INSERT INTO piece_digests (batch_id, n, size, digests) VALUES ($1, $2, $3, $4) ON CONFLICT DO NOTHING`,
		batch, n, size, digests,
	)
	return explain(err)
}
