package store

import (
	"context"
)

// An Item is one file of a batch as surveyed.
type Item struct {
	N      int    `db:"n"`
	Slice  int    `db:"slice"`
	Path   string `db:"path"`
	Role   string `db:"role"`
	Size   int64  `db:"size"`
	Survey []byte `db:"survey"`
}

// A Slice is a part of a batch that is one job.
type Slice struct {
	N     int
	Items int
	Bytes int64
	// Large slices do not keep others waiting.
	Large bool
	// Queued says that it is due.
	Queued bool
}

// A DueSlice is the next to be measured.
type DueSlice struct {
	N     int  `db:"n"`
	Large bool `db:"large"`
}

// An Absent is a manifest entry without a file.
type Absent struct {
	N        int    `db:"n"`
	Name     string `db:"name"`
	Manifest string `db:"manifest"`
	Line     int    `db:"line"`
	// Digest is what the entry states, in hexadecimal.
	Digest string `db:"digest"`
}

// Surveyed stores the plan of a batch and opens it for measuring.
func (t *Tx) Surveyed(
	ctx context.Context, batch int64, expected []byte, slices []Slice, items []Item, absents []Absent,
) error {
	var sn, si []int
	var sb []int64
	var large, queued []bool
	for _, s := range slices {
		sn, si, sb = append(sn, s.N), append(si, s.Items), append(sb, s.Bytes)
		large, queued = append(large, s.Large), append(queued, s.Queued)
	}
	if _, err := t.tx.ExecContext(ctx, `INSERT INTO slices (batch_id, n, items, bytes, large, queued)
		SELECT $1, * FROM unnest($2::int[], $3::int[], $4::bigint[], $5::bool[],
			$6::bool[])`, batch, sn, si, sb, large, queued); err != nil {
		return err
	}
	n := len(items)
	ns := make([]int, n)
	inSlice := make([]int, n)
	paths := make([]string, n)
	roles := make([]string, n)
	sizes := make([]int64, n)
	surveys := make([]string, n)
	for i, item := range items {
		ns[i], inSlice[i], paths[i] = item.N, item.Slice, item.Path
		roles[i], sizes[i], surveys[i] = item.Role, item.Size, string(item.Survey)
	}
	if _, err := t.tx.ExecContext(ctx, `INSERT INTO items (batch_id, n, slice, path, role, size, survey)
		SELECT $1, * FROM unnest($2::int[], $3::int[], $4::text[], $5::text[], $6::bigint[],
			$7::jsonb[])`, batch, ns, inSlice, paths, roles, sizes, surveys); err != nil {
		return err
	}
	var an, al []int
	var names, manifests, digests []string
	for _, a := range absents {
		an = append(an, a.N)
		names = append(names, a.Name)
		manifests = append(manifests, a.Manifest)
		al = append(al, a.Line)
		digests = append(digests, a.Digest)
	}
	if _, err := t.tx.ExecContext(ctx, `INSERT INTO absents (batch_id, n, name, manifest, line, digest)
		SELECT $1, * FROM unnest($2::int[], $3::text[], $4::text[], $5::int[],
			$6::text[])`, batch, an, names, manifests, al, digests); err != nil {
		return err
	}
	_, err := t.tx.ExecContext(
		ctx, `UPDATE batches SET state = 'measuring', expected = $2 WHERE id = $1`, batch, string(expected),
	)
	return err
}

// SliceItems returns the items of a slice that have no outcome yet.
func (s Reads) SliceItems(ctx context.Context, batch int64, slice int) ([]Item, error) {
	out := []Item{}
	err := s.q.SelectContext(
		ctx,
		&out,
		`SELECT n, slice, path, role, size, survey FROM items i WHERE batch_id = $1 AND slice = $2
		AND `+withoutOutcome+` ORDER BY n`,
		batch,
		slice,
	)
	return out, explain(err)
}

// LockSlice keeps other workers from storing outcomes of a slice until the
// transaction ends, and returns those of the given items that have none yet: none
// at all when the batch has ended meanwhile.
func (t *Tx) LockSlice(ctx context.Context, batch int64, slice int, ns []int) (map[int]bool, error) {
	var locked int
	if err := t.tx.GetContext(
		ctx, &locked, `SELECT n FROM slices WHERE batch_id = $1 AND n = $2 FOR UPDATE`, batch, slice,
	); err != nil {
		return nil, explain(err)
	}
	var open []int
	if err := t.tx.SelectContext(
		ctx,
		&open,
		`SELECT n FROM unnest($2::int[]) AS n WHERE NOT EXISTS (SELECT FROM outcomes o WHERE o.batch_id = $1
			AND o.n = n.n)
		AND EXISTS (SELECT FROM batches b WHERE b.id = $1 AND b.state = 'measuring')`,
		batch,
		ns,
	); err != nil {
		return nil, err
	}
	out := make(map[int]bool, len(open))
	for _, n := range open {
		out[n] = true
	}
	return out, nil
}

// LockSlices keeps workers from storing anything of a batch until the transaction
// ends.
func (t *Tx) LockSlices(ctx context.Context, batch int64) error {
	var locked []int
	return explain(
		t.tx.SelectContext(ctx, &locked, `SELECT n FROM slices WHERE batch_id = $1 ORDER BY n FOR UPDATE`, batch),
	)
}

// SliceNumbers lists the slices of a batch.
func (s Reads) SliceNumbers(ctx context.Context, batch int64) ([]int, error) {
	out := []int{}
	err := s.q.SelectContext(ctx, &out, `SELECT n FROM slices WHERE batch_id = $1 ORDER BY n`, batch)
	return out, explain(err)
}

// NextDue makes due, after a slice that is done, the next of its batch that is
// as large. There may be none.
func (t *Tx) NextDue(ctx context.Context, batch int64, slice int) ([]DueSlice, error) {
	out := []DueSlice{}
	err := t.tx.SelectContext(
		ctx,
		&out,
		`UPDATE slices SET queued = true WHERE batch_id = $1 AND n = (SELECT s.n FROM slices s
			WHERE s.batch_id = $1 AND NOT s.queued AND s.large = (SELECT d.large FROM slices d WHERE d.batch_id = $1
			AND d.n = $2) ORDER BY s.n LIMIT 1 FOR UPDATE SKIP LOCKED)
		RETURNING n, large`,
		batch,
		slice,
	)
	return out, explain(err)
}

// SliceProgress stores how many bytes of a slice are read, and says so. It reports
// whether the batch is being ended, so that nothing more is to be read.
func (s *Store) SliceProgress(ctx context.Context, batch int64, slice int, bytes int64) (stopping bool, err error) {
	err = s.db.GetContext(
		ctx,
		&stopping,
		`WITH moved AS (UPDATE slices SET bytes_done = least($3, bytes) WHERE batch_id = $1 AND n = $2 AND NOT done
			RETURNING batch_id)
		SELECT b.stop_state IS NOT NULL FROM batches b, (SELECT count(pg_notify($4, batch_id::text)) AS n
			FROM moved) said WHERE b.id = $1 AND said.n >= 0`,
		batch,
		slice,
		bytes,
		NotifyBatch,
	)
	return stopping, explain(err)
}

// SliceDone marks a slice as finished.
func (t *Tx) SliceDone(ctx context.Context, batch int64, slice int) error {
	_, err := t.tx.ExecContext(
		ctx, `UPDATE slices SET done = true, bytes_done = bytes WHERE batch_id = $1 AND n = $2`, batch, slice,
	)
	return err
}

// OpenSlices counts the slices of a batch that are not done.
func (t *Tx) OpenSlices(ctx context.Context, batch int64) (int, error) {
	var n int
	err := t.tx.GetContext(ctx, &n, `SELECT count(*) FROM slices WHERE batch_id = $1 AND NOT done`, batch)
	return n, err
}

// Absents lists the entries of a batch without a file, behind a number.
func (s Reads) Absents(ctx context.Context, batch int64, after, limit int) ([]Absent, error) {
	out := []Absent{}
	err := s.q.SelectContext(
		ctx, &out,
		`SELECT n, name, manifest, line, digest FROM missing WHERE batch_id = $1 AND n > $2 ORDER BY n LIMIT $3`, batch,
		after, limit,
	)
	return out, explain(err)
}

// A Stated is a digest that a manifest of a batch states for a name.
type Stated struct {
	Name     string `db:"name"`
	Manifest string `db:"manifest"`
	Line     int    `db:"line"`
	Digest   string `db:"digest"`
}

// Stated lists everything that the manifests of a batch state, of the files
// that are here and of those that are not.
func (s Reads) Stated(ctx context.Context, batch int64) ([]Stated, error) {
	out := []Stated{}
	err := s.q.SelectContext(
		ctx,
		&out,
		`SELECT i.path AS name, l ->> 'manifest' AS manifest, (l ->> 'line')::int AS line, l ->> 'digest' AS digest
		FROM items i CROSS JOIN LATERAL jsonb_array_elements(i.survey -> 'listed') l WHERE i.batch_id = $1
		UNION ALL SELECT name, manifest, line, digest FROM missing WHERE batch_id = $1`,
		batch,
	)
	return out, explain(err)
}
