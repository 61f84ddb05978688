package store

import (
	"context"
	"fmt"
	"math"
	"time"

	"golang.org/x/mod/sumdb/tlog"

	"endeixis/core/ledger"
)

// A Record is one entry of the ledger with what it can be found by.
type Record struct {
	Position int64     `db:"position"`
	Kind     string    `db:"kind"`
	At       time.Time `db:"at"`
	By       string    `db:"by_name"`
	Subject  string    `db:"subject"`
	Verdict  *string   `db:"verdict"`
	BatchID  *int64    `db:"batch_id"`
	// Body is the record byte for byte as it was hashed.
	Body []byte `db:"body"`
	Leaf []byte `db:"leaf"`
	// Page is where its text is stored with others, or nil where it is beside it.
	Page *int64 `db:"page"`
}

// NotifyLedger is the channel on which a growing ledger is announced.
const NotifyLedger = "endeixis_ledger"

// Append adds records to the ledger, sealed, and sets their positions. The ledger is
// locked until the transaction ends, so call it last.
func (t *Tx) Append(ctx context.Context, records []*Record, seal Sealer) error {
	if len(records) == 0 {
		return nil
	}
	size, err := t.LockLedger(ctx)
	if err != nil {
		return err
	}
	hashes := make([]tlog.Hash, len(records))
	for i, r := range records {
		r.Position = size + int64(i)
		hashes[i] = ledger.Leaf(r.Body)
		r.Leaf = hashes[i][:]
	}
	stored, err := ledger.Grow(size, hashes, hashReader{ctx, t.Reads})
	if err != nil {
		return err
	}
	if err := t.addRecords(ctx, records); err != nil {
		return err
	}
	indexes, values := make([]int64, len(stored)), make([][]byte, len(stored))
	for i := range stored {
		indexes[i], values[i] = ledger.FirstStored(size)+int64(i), stored[i][:]
	}
	if _, err := t.tx.ExecContext(
		ctx, `INSERT INTO ledger_hashes (index, hash) SELECT * FROM unnest($1::bigint[], $2::bytea[])`, indexes, values,
	); err != nil {
		return err
	}
	_, last, err := t.LastSeal(ctx)
	if err != nil {
		return err
	}
	made, err := seal(last, size, records, hashes)
	if err != nil {
		return err
	}
	if err := t.AddSeal(ctx, made); err != nil {
		return err
	}
	if _, err := t.tx.ExecContext(ctx, `UPDATE ledger_state SET size = $1`, size+int64(len(records))); err != nil {
		return err
	}
	_, err = t.tx.ExecContext(ctx, `SELECT pg_notify($1, '')`, NotifyLedger)
	return err
}

// addRecords stores records that have their positions; the texts of several go into pages.
func (t *Tx) addRecords(ctx context.Context, records []*Record) error {
	n := len(records)
	positions, kinds, ats, bys := make([]int64, n), make([]string, n), make([]time.Time, n), make([]string, n)
	subjects, verdicts, batches := make([]string, n), make([]*string, n), make([]*int64, n)
	bodies, leaves, pages := make([][]byte, n), make([][]byte, n), make([]*int64, n)
	if n > 1 {
		packed, err := pagesOf(records)
		if err != nil {
			return err
		}
		if err := t.addPages(ctx, packed); err != nil {
			return err
		}
	}
	for i, r := range records {
		positions[i], kinds[i], ats[i], bys[i] = r.Position, r.Kind, r.At, r.By
		subjects[i], verdicts[i], batches[i], leaves[i] = r.Subject, r.Verdict, r.BatchID, r.Leaf
		if bodies[i] = r.Body; r.Page != nil && n > 1 {
			pages[i], bodies[i] = r.Page, nil
		}
	}
	_, err := t.tx.ExecContext(
		ctx,
		`INSERT INTO ledger_records (position, kind, at, by_name, subject, verdict, batch_id, body, leaf, page)
		SELECT * FROM unnest($1::bigint[], $2::text[], $3::timestamptz[], $4::text[], $5::text[], $6::text[],
			$7::bigint[], $8::bytea[], $9::bytea[], $10::bigint[])`,
		positions, kinds, ats, bys, subjects, verdicts, batches, bodies, leaves, pages,
	)
	return err
}

// hashReader reads stored hashes for tlog.
type hashReader struct {
	ctx context.Context
	q   Reads
}

func (h hashReader) ReadHashes(indexes []int64) ([]tlog.Hash, error) {
	rows := []struct {
		Index int64  `db:"index"`
		Hash  []byte `db:"hash"`
	}{}
	if err := h.q.q.SelectContext(
		h.ctx, &rows, `SELECT index, hash FROM ledger_hashes WHERE index = ANY($1)`, indexes,
	); err != nil {
		return nil, err
	}
	found := make(map[int64][]byte, len(rows))
	for _, r := range rows {
		found[r.Index] = r.Hash
	}
	out := make([]tlog.Hash, len(indexes))
	for i, index := range indexes {
		hash, ok := found[index]
		if !ok {
			return nil, fmt.Errorf("the ledger lacks hash %d", index)
		}
		copy(out[i][:], hash)
	}
	return out, nil
}

// Hashes reads the ledger's stored hashes.
func (s Reads) Hashes(ctx context.Context) tlog.HashReader { return hashReader{ctx, s} }

// LedgerSize returns the number of records.
func (s Reads) LedgerSize(ctx context.Context) (int64, error) {
	var size int64
	err := s.q.GetContext(ctx, &size, `SELECT size FROM ledger_state`)
	return size, explain(err)
}

// Record returns one record, or [ErrNotFound]. It returns a fault “ledger-altered” where its text is not the one
// that was written.
func (s Reads) Record(ctx context.Context, position int64) (Record, error) {
	rows := []Record{}
	if err := s.q.SelectContext(ctx, &rows, `SELECT * FROM ledger_records WHERE position = $1`, position); err != nil {
		return Record{}, explain(err)
	}
	if len(rows) == 0 {
		return Record{}, ErrNotFound
	}
	if err := s.fill(ctx, rows); err != nil {
		return Record{}, err
	}
	if !genuineText(&rows[0]) {
		return Record{}, unlike(position)
	}
	return rows[0], nil
}

// RecordFilter narrows a list of records; empty fields match all.
type RecordFilter struct {
	Kind    string
	Verdict string
	BatchID int64
	// Name matches a part of the subject, ignoring case.
	Name string
	// Before is the position to go on from, downwards; 0 starts at the newest.
	Before int64
	Limit  int
	// From is the first position that is looked at.
	From int64
}

// recordText is what is read of a record to read its text.
const recordText = `position, kind, body, leaf, page`

const listedRecord = `position, kind, at, by_name, subject, verdict, batch_id, leaf`

// Records lists records, the newest first, without their bodies. They are looked
// at one after another, so that what fits many of them is found soon.
func (s Reads) Records(ctx context.Context, f RecordFilter) ([]Record, error) {
	where, args := f.conditions(f.Limit)
	out := []Record{}
	err := s.q.SelectContext(
		ctx,
		&out,
		`SELECT `+listedRecord+` FROM ledger_records `+where.clause()+`ORDER BY position DESC LIMIT $1`,
		args...)
	return out, explain(err)
}

// RecordsByName lists them as [Reads.Records] does. All that a part of a name fits
// are gathered from the index of names first, so that few of them are found soon.
func (s Reads) RecordsByName(ctx context.Context, f RecordFilter) ([]Record, error) {
	where, args := f.conditions(f.Limit)
	out := []Record{}
	err := s.q.SelectContext(
		ctx,
		&out,
		`WITH found AS MATERIALIZED (SELECT `+listedRecord+` FROM ledger_records `+where.clause()+`)
		SELECT * FROM found ORDER BY position DESC LIMIT $1`,
		args...)
	return out, explain(err)
}

// RecordsByWord lists them as [Reads.RecordsByName] does. word is a part of f.Name:
// the index is asked for that alone, and the rest is compared, for it takes long to
// intersect words that nearly all names have. When more than atMost records have
// the word too, selective is false and nothing is listed. Ask it within [Store.Look]: how the
// server is told to use that index lasts for the transaction.
func (s Reads) RecordsByWord(
	ctx context.Context, f RecordFilter, word string, atMost int,
) (out []Record, selective bool, err error) {
	rest := f
	rest.Name = ""
	where, args := rest.conditions(f.Limit, atMost+1, f.Name)
	where.add(&args, true, "lower(subject) LIKE lower($%d)", "%"+literal(word)+"%")
	var found struct {
		Looked    int    `db:"looked"`
		Positions string `db:"positions"`
	}
	if err := s.setOtherPlans(ctx, "off"); err != nil {
		return nil, false, err
	}
	if err := s.q.GetContext(
		ctx,
		&found,
		`WITH fit AS MATERIALIZED (SELECT position, lower(subject) AS name FROM ledger_records `+where.clause()+`
			LIMIT $2)
		SELECT (SELECT count(*) FROM fit) AS looked, to_json(ARRAY(SELECT position FROM fit
			WHERE strpos(name, lower($3)) > 0 ORDER BY position DESC LIMIT $1))::text AS positions`,
		args...); err != nil {
		return nil, false, explain(err)
	}
	if found.Looked > atMost {
		return nil, false, nil
	}
	if err := s.setOtherPlans(ctx, "on"); err != nil {
		return nil, false, err
	}
	out, err = s.listedAt(ctx, found.Positions)
	return out, true, err
}

// listedAt lists the records at some positions, a list in JSON, the newest first and without their bodies.
func (s Reads) listedAt(ctx context.Context, positions string) ([]Record, error) {
	out := []Record{}
	err := s.q.SelectContext(
		ctx,
		&out,
		`SELECT `+listedRecord+` FROM ledger_records WHERE position IN (SELECT json_array_elements_text($1)::bigint)
			ORDER BY position DESC`,
		positions,
	)
	return out, explain(err)
}

// setOtherPlans says by "off" that the server may use nothing but an index of words, and ends
// that by "on". Left to itself it goes through the whole table where a bound makes it believe
// that enough is found early, by chance of its statistics.
func (s Reads) setOtherPlans(ctx context.Context, onOrOff string) error {
	var set string
	return explain(
		s.q.GetContext(
			ctx,
			&set,
			`SELECT set_config('enable_seqscan', $1, true) || set_config('enable_indexscan', $1, true)
				|| set_config('enable_indexonlyscan', $1, true)`,
			onOrOff,
		),
	)
}

// conditions are those of the filter; what is given comes first among the
// arguments.
func (f RecordFilter) conditions(given ...any) (conditions, []any) {
	where, args := conditions{}, given
	where.add(&args, f.Kind != "", "kind = $%d", f.Kind)
	where.add(&args, f.Verdict != "", "verdict = $%d", f.Verdict)
	where.add(&args, f.BatchID != 0, "batch_id = $%d", f.BatchID)
	where.add(&args, f.Name != "", "lower(subject) LIKE lower($%d)", "%"+literal(f.Name)+"%")
	where.add(&args, f.Before > 0, "position < $%d", f.Before)
	where.add(&args, f.From > 0, "position >= $%d", f.From)
	return where, args
}

// EachRecord is [Reads.RecordsFrom] for all records.
func (s Reads) EachRecord(ctx context.Context, f func(Record) error) error {
	return s.RecordsFrom(ctx, 0, math.MaxInt64, f)
}

// RecordsFrom calls f for the records at positions first to end-1 in order, reading a few at a
// time: their places, kinds, texts and leaves. What else stands beside them may be odd.
func (s Reads) RecordsFrom(ctx context.Context, first, end int64, f func(Record) error) error {
	return s.pages(ctx, first, `position < $1`, end, func(page []Record) error {
		for _, r := range page {
			if err := f(r); err != nil {
				return err
			}
		}
		return nil
	})
}

// A StoredCheckpoint is a signed checkpoint.
type StoredCheckpoint struct {
	Size   int64     `db:"size"`
	Signed string    `db:"signed"`
	At     time.Time `db:"at"`
}

// AddCheckpoint stores a checkpoint unless there is one of its size.
func (s *Store) AddCheckpoint(ctx context.Context, c StoredCheckpoint) error {
	_, err := s.db.ExecContext(
		ctx, `INSERT INTO checkpoints (size, signed, at) VALUES ($1, $2, $3) ON CONFLICT (size) DO NOTHING`, c.Size,
		c.Signed, c.At,
	)
	return explain(err)
}

// LastCheckpoint returns the newest checkpoint, or [ErrNotFound].
func (s Reads) LastCheckpoint(ctx context.Context) (StoredCheckpoint, error) {
	var c StoredCheckpoint
	err := s.q.GetContext(ctx, &c, `SELECT * FROM checkpoints ORDER BY size DESC LIMIT 1`)
	return c, explain(err)
}

// EachCheckpoint calls f for the checkpoints over more records than a size, by their sizes,
// reading a few at a time.
func (s Reads) EachCheckpoint(ctx context.Context, size int64, f func(StoredCheckpoint) error) error {
	const page = 1000
	for {
		rows := []StoredCheckpoint{}
		if err := s.q.SelectContext(
			ctx, &rows, `SELECT size, signed FROM checkpoints WHERE size > $1 ORDER BY size LIMIT $2`, size, page,
		); err != nil {
			return explain(err)
		}
		for _, c := range rows {
			if err := f(c); err != nil {
				return err
			}
			size = c.Size
		}
		if len(rows) < page {
			return nil
		}
	}
}

// HasCheckpoint reports whether there is one of a size.
func (s Reads) HasCheckpoint(ctx context.Context, size int64) (there bool, err error) {
	err = s.q.GetContext(ctx, &there, `SELECT EXISTS (SELECT FROM checkpoints WHERE size = $1)`, size)
	return there, explain(err)
}

// A ServiceKey is the public half of the signing key.
type ServiceKey struct {
	PublicKey string    `db:"public_key"`
	Origin    string    `db:"origin"`
	CreatedAt time.Time `db:"created_at"`
}

// SetServiceKey stores the key that is the present one from then on.
func (t *Tx) SetServiceKey(ctx context.Context, k ServiceKey) error {
	_, err := t.tx.ExecContext(
		ctx, `INSERT INTO service_key (public_key, origin, created_at) VALUES ($1, $2, $3)`, k.PublicKey, k.Origin,
		k.CreatedAt,
	)
	return err
}

// ServiceKey returns the present key, or [ErrNotFound] before init.
func (s Reads) ServiceKey(ctx context.Context) (ServiceKey, error) {
	var k ServiceKey
	err := s.q.GetContext(ctx, &k, `SELECT public_key, origin, created_at FROM service_key ORDER BY id DESC LIMIT 1`)
	return k, explain(err)
}
