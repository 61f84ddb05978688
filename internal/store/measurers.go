package store

import (
	"context"
	"time"
)

// A Measurer is who reads the files of a batch that the service does not read.
type Measurer struct {
	Batch    int64  `db:"batch_id"`
	Software string `db:"software"`
	// Pages is how many pages the list of files has, or nil while it is not whole.
	Pages *int `db:"pages"`
	// HeardAt is when they were last heard from, and Lapsed that this was too long ago.
	HeardAt time.Time `db:"heard_at"`
	Lapsed  bool      `db:"lapsed"`
	// Against is what a medium is read back against, or nil.
	Against []byte `db:"against"`
}

// AddMeasurer stores who will measure a new batch.
func (t *Tx) AddMeasurer(ctx context.Context, m Measurer) error {
	var against *string
	if m.Against != nil {
		text := string(m.Against)
		against = &text
	}
	_, err := t.tx.ExecContext(
		ctx, `INSERT INTO measurers (batch_id, software, heard_at, against) VALUES ($1, $2, $3, $4::jsonb)`, m.Batch,
		m.Software, m.HeardAt, against,
	)
	return explain(err)
}

// Measurer returns who measures a batch, or [ErrNotFound].
func (s Reads) Measurer(ctx context.Context, batch int64) (Measurer, error) {
	var m Measurer
	err := s.q.GetContext(
		ctx, &m, `SELECT batch_id, software, pages, heard_at, lapsed, against FROM measurers WHERE batch_id = $1`,
		batch,
	)
	return m, explain(err)
}

// LockMeasurer returns who measures a batch, and keeps others from changing that until
// the transaction ends.
func (t *Tx) LockMeasurer(ctx context.Context, batch int64) (Measurer, error) {
	var m Measurer
	err := t.tx.GetContext(
		ctx, &m,
		`SELECT batch_id, software, pages, heard_at, lapsed, against FROM measurers WHERE batch_id = $1 FOR UPDATE`,
		batch,
	)
	return m, explain(err)
}

// Heard notes that the measurer of a batch was heard from.
func (t *Tx) Heard(ctx context.Context, batch int64, at time.Time) error {
	_, err := t.tx.ExecContext(
		ctx, `UPDATE measurers SET heard_at = greatest(heard_at, $2) WHERE batch_id = $1`, batch, at,
	)
	return explain(err)
}

// Silent lists the open batches whose measurer was not heard from since a time.
func (s Reads) Silent(ctx context.Context, since time.Time) ([]int64, error) {
	out := []int64{}
	err := s.q.SelectContext(ctx, &out, `SELECT m.batch_id FROM measurers m JOIN batches b ON b.id = m.batch_id
		WHERE m.heard_at < $1 AND b.state IN ('waiting', 'measuring') ORDER BY m.batch_id`, since)
	return out, explain(err)
}

// Lapse says that a measurer was not heard from for too long.
func (t *Tx) Lapse(ctx context.Context, batch int64) error {
	_, err := t.tx.ExecContext(ctx, `UPDATE measurers SET lapsed = true WHERE batch_id = $1`, batch)
	return explain(err)
}

// OpenListings counts the batches of a person whose list of files is not whole yet.
func (s Reads) OpenListings(ctx context.Context, name string) (int, error) {
	var n int
	err := s.q.GetContext(
		ctx,
		&n,
		`SELECT count(*) FROM measurers m JOIN batches b ON b.id = m.batch_id WHERE b.state = 'waiting'
			AND b.asked_by = $1`,
		name,
	)
	return n, explain(err)
}

// AddListingPage stores a page of a list of files, in place of an earlier one of that
// number, and returns how long all of them are.
func (t *Tx) AddListingPage(ctx context.Context, batch int64, n int, body []byte) (total int64, err error) {
	if _, err = t.tx.ExecContext(ctx, `INSERT INTO listing_pages (batch_id, n, body) VALUES ($1, $2, $3)
		ON CONFLICT (batch_id, n) DO UPDATE SET body = excluded.body`, batch, n, body); err != nil {
		return 0, explain(err)
	}
	err = t.tx.GetContext(ctx, &total, `SELECT sum(length(body)) FROM listing_pages WHERE batch_id = $1`, batch)
	return total, explain(err)
}

// CloseListing says how many pages a list of files has, and returns how many of those
// from 1 on are there.
func (t *Tx) CloseListing(ctx context.Context, batch int64, pages int) (there int, err error) {
	if err = t.tx.GetContext(
		ctx, &there, `SELECT count(*) FROM listing_pages WHERE batch_id = $1 AND n <= $2`, batch, pages,
	); err != nil ||
		there < pages {
		return there, explain(err)
	}
	if _, err = t.tx.ExecContext(
		ctx, `DELETE FROM listing_pages WHERE batch_id = $1 AND n > $2`, batch, pages,
	); err != nil {
		return 0, explain(err)
	}
	_, err = t.tx.ExecContext(ctx, `UPDATE measurers SET pages = $2 WHERE batch_id = $1`, batch, pages)
	return there, explain(err)
}

// ListingPage returns a page of a list of files, or [ErrNotFound].
func (s Reads) ListingPage(ctx context.Context, batch int64, n int) ([]byte, error) {
	var body []byte
	err := s.q.GetContext(ctx, &body, `SELECT body FROM listing_pages WHERE batch_id = $1 AND n = $2`, batch, n)
	return body, explain(err)
}

// DropListing forgets the list of files of a batch that is surveyed.
func (t *Tx) DropListing(ctx context.Context, batch int64) error {
	_, err := t.tx.ExecContext(ctx, `DELETE FROM listing_pages WHERE batch_id = $1`, batch)
	return explain(err)
}

// LeftItems lists items of a batch without an outcome, behind a number, together with
// those inside them.
func (s Reads) LeftItems(ctx context.Context, batch int64, after, limit int) ([]Item, error) {
	out := []Item{}
	err := s.q.SelectContext(
		ctx,
		&out,
		`SELECT n, slice, path, role, size, survey FROM items i WHERE batch_id = $1 AND n > $2
		AND `+withoutOutcome+` ORDER BY n LIMIT $3`,
		batch,
		after,
		limit,
	)
	return out, explain(err)
}

// CountLeft counts the items of a batch without an outcome.
func (s Reads) CountLeft(ctx context.Context, batch int64) (int, error) {
	var n int
	err := s.q.GetContext(ctx, &n, `SELECT count(*) FROM items i WHERE batch_id = $1 AND `+withoutOutcome, batch)
	return n, explain(err)
}

// A Measured is an item of a batch with what was measured of it, if it was.
type Measured struct {
	Item
	Position *int64   `db:"position"`
	Evidence Evidence `db:"-"`
}

// ItemsOf returns items of a batch by their numbers, in their order.
func (s Reads) ItemsOf(ctx context.Context, batch int64, ns []int) ([]Measured, error) {
	out := []Measured{}
	err := s.q.SelectContext(ctx, &out, `SELECT i.n, i.slice, i.path, i.role, i.size, i.survey, o.position FROM items i
		`+withOutcome+`WHERE i.batch_id = $1 AND i.n = ANY($2) ORDER BY i.n`, batch, ns)
	if err != nil {
		return nil, explain(err)
	}
	return out, told(ctx, s, out, func(m *Measured) about { return about{batch, m.Path, m.Position, &m.Evidence} })
}

// InsideOf returns the numbers of the items without an outcome that lie inside files of
// the folder.
func (s Reads) InsideOf(ctx context.Context, batch int64, files []string) (map[string][]int, error) {
	rows := []struct {
		N    int    `db:"n"`
		File string `db:"file"`
	}{}
	if err := s.q.SelectContext(ctx, &rows, `SELECT n, split_part(path, '//', 1) AS file FROM items i
		WHERE batch_id = $1 AND `+withoutOutcome+` AND position('//' in path) > 0
			AND split_part(path, '//', 1) = ANY($2)`, batch, files); err != nil {
		return nil, explain(err)
	}
	out := map[string][]int{}
	for _, r := range rows {
		out[r.File] = append(out[r.File], r.N)
	}
	return out, nil
}

// SliceMoved marks a slice as finished if nothing is left of it, and otherwise says how
// much of it is done.
func (t *Tx) SliceMoved(ctx context.Context, batch int64, slice int) error {
	_, err := t.tx.ExecContext(
		ctx,
		`UPDATE slices s SET done = l.left = 0, bytes_done = CASE WHEN l.left = 0 THEN s.bytes
			ELSE least(s.bytes, l.bytes) END
		FROM (SELECT count(*) FILTER (WHERE o.n IS NULL) AS left, coalesce(sum(i.size) FILTER (WHERE o.n IS NOT NULL
		AND i.survey -> 'inside' IS NULL), 0) AS bytes
			FROM items i `+withOutcome+`WHERE i.batch_id = $1 AND i.slice = $2) l
		WHERE s.batch_id = $1 AND s.n = $2`,
		batch,
		slice,
	)
	return explain(err)
}
