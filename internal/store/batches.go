package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"endeixis/internal/fault"
	"endeixis/internal/state"
)

// A Batch is one request to verify a folder.
type Batch struct {
	ID             int64       `db:"id"`
	Label          string      `db:"label"`
	SourceKind     string      `db:"source_kind"`
	Source         string      `db:"source"`
	Publisher      string      `db:"publisher"`
	RequireAll     bool        `db:"require_all"`
	PolicyVersion  int64       `db:"policy_version"`
	AskedBy        string      `db:"asked_by"`
	IdempotencyKey string      `db:"idempotency_key"`
	CreatedAt      time.Time   `db:"created_at"`
	JudgedAsOf     time.Time   `db:"judged_as_of"`
	FinishedAt     *time.Time  `db:"finished_at"`
	State          state.Batch `db:"state"`
	Verdict        *string     `db:"verdict"`
	Expected       []byte      `db:"expected"`
	Note           string      `db:"note"`
	Position       *int64      `db:"position"`
	Corrections    []byte      `db:"corrections"`
	Origins        []byte      `db:"origins"`
	// Named are the patterns for companions that it was asked with.
	Named []byte `db:"named"`
	// LedgerSize is how many records there were when it was asked for, or nil
	// for batches of before: the keyring counts as of then.
	LedgerSize *int64 `db:"ledger_size"`
	// StopState is as what a batch is being ended before it is done, or nil.
	StopState  *state.Batch `db:"stop_state"`
	StopBy     string       `db:"stop_by"`
	StopReason string       `db:"stop_reason"`
	Tally
	Now
}

// A Tally is how far a batch has come.
type Tally struct {
	Items     int   `db:"items"`
	ItemsDone int   `db:"items_done"`
	Bytes     int64 `db:"bytes"`
	BytesDone int64 `db:"bytes_done"`
	Cleared   int   `db:"cleared"`
	Unproven  int   `db:"unproven"`
	Refused   int   `db:"refused"`
	Absent    int   `db:"absent"`
	// Companions come along and need no clearing.
	Companions int `db:"companions"`
}

// Now is what a batch comes to by the newest reassessment that changed something in it; all of it is nil
// where none has.
type Now struct {
	NowReassessment *int64     `db:"now_reassessment"`
	NowVerdict      *string    `db:"now_verdict"`
	NowCleared      *int       `db:"now_cleared"`
	NowUnproven     *int       `db:"now_unproven"`
	NowRefused      *int       `db:"now_refused"`
	NowCompanions   *int       `db:"now_companions"`
	NowPosition     *int64     `db:"now_position"`
	NowAt           *time.Time `db:"now_at"`
}

// selectBatches counts from the rows themselves while a batch is under way, so
// that no counter can be wrong; how one ended is stored with it.
const selectBatches = `SELECT b.id, b.label, b.source_kind, b.source, b.publisher, b.require_all, b.policy_version,
	b.asked_by, b.idempotency_key, b.created_at,
	b.judged_as_of, b.finished_at, b.state, b.verdict, b.expected, b.note, b.position, b.corrections, b.origins,
	b.companions AS named,
	b.ledger_size, b.stop_state, b.stop_by, b.stop_reason,
	coalesce(b.total_items, s.items, 0) AS items, coalesce(b.total_bytes, s.bytes, 0) AS bytes, coalesce(b.done_bytes,
	s.bytes_done, 0) AS bytes_done,
	coalesce(b.done_items, o.n, 0) AS items_done, coalesce(b.total_cleared, o.cleared, 0) AS cleared,
	coalesce(b.total_unproven, o.unproven, 0) AS unproven,
	coalesce(b.total_refused, o.refused, 0) AS refused, coalesce(b.total_absent, a.n, 0) AS absent,
	CASE WHEN b.total_items IS NULL THEN coalesce(o.companions, 0) ELSE b.total_companions END AS companions,
	w.reassessment_id AS now_reassessment, w.verdict AS now_verdict, w.cleared AS now_cleared,
	w.unproven AS now_unproven, w.refused AS now_refused, w.companions AS now_companions, w.position AS now_position,
	w.at AS now_at
	FROM batches b
	LEFT JOIN LATERAL (SELECT w.*, l.at FROM rejudged_batches w JOIN ledger_records l ON l.position = w.position
		WHERE w.batch_id = b.id ORDER BY w.position DESC LIMIT 1) w ON true
	LEFT JOIN LATERAL (SELECT sum(items) AS items, sum(bytes) AS bytes, sum(bytes_done) AS bytes_done FROM slices
	WHERE batch_id = b.id AND b.total_items IS NULL) s ON true
	LEFT JOIN LATERAL (SELECT count(*) AS n, count(*) FILTER (WHERE verdict = 'cleared') AS cleared,
		count(*) FILTER (WHERE verdict = 'unproven') AS unproven,
		count(*) FILTER (WHERE verdict = 'refused') AS refused,
		count(*) FILTER (WHERE verdict = 'companion') AS companions
		FROM outcomes WHERE batch_id = b.id AND b.total_items IS NULL) o ON true
	LEFT JOIN LATERAL (SELECT count(*) AS n FROM missing WHERE batch_id = b.id AND b.total_items IS NULL) a ON true `

// AddBatch stores a new batch and returns its ID. With an idempotency key
// that this person used before, it returns the earlier batch's ID and false.
func (t *Tx) AddBatch(ctx context.Context, b Batch) (id int64, added bool, err error) {
	if b.Named == nil {
		b.Named = []byte("[]")
	}
	err = explain(
		t.tx.GetContext(
			ctx,
			&id,
			`INSERT INTO batches (label, source_kind, source, publisher, require_all, policy_version, asked_by,
				idempotency_key, created_at, judged_as_of, state, corrections, origins, companions, ledger_size)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $9, 'waiting', $10, $11, $12, (SELECT size FROM ledger_state))
		ON CONFLICT (asked_by, idempotency_key) WHERE idempotency_key <> '' DO NOTHING RETURNING id`,
			b.Label,
			b.SourceKind,
			b.Source,
			b.Publisher,
			b.RequireAll,
			b.PolicyVersion,
			b.AskedBy,
			b.IdempotencyKey,
			b.CreatedAt,
			string(b.Corrections),
			string(b.Origins),
			string(b.Named),
		),
	)
	if !errors.Is(err, ErrNotFound) {
		return id, err == nil, err
	}
	var earlier Batch
	if err := t.tx.GetContext(
		ctx, &earlier, selectBatches+`WHERE b.asked_by = $1 AND b.idempotency_key = $2`, b.AskedBy, b.IdempotencyKey,
	); err != nil {
		return 0, false, err
	}
	var same bool
	if err := t.tx.GetContext(
		ctx,
		&same,
		`SELECT source_kind = $2 AND source = $3 AND publisher = $4 AND require_all = $5 AND label = $6
			AND corrections = $7::jsonb AND origins = $8::jsonb AND companions = $9::jsonb
		FROM batches WHERE id = $1`,
		earlier.ID,
		b.SourceKind,
		b.Source,
		b.Publisher,
		b.RequireAll,
		b.Label,
		string(b.Corrections),
		string(b.Origins),
		string(b.Named),
	); err != nil {
		return 0, false, err
	}
	if !same {
		return 0, false, KeyReused(earlier.ID)
	}
	return earlier.ID, false, nil
}

// KeyReused reports that a request repeats the key of another one and is not the
// same.
func KeyReused(batch int64) error {
	return fault.New(
		fault.Conflict, fault.IdempotencyKeyReused, "This Idempotency-Key was used for another request, batch %d.", batch,
	).
		Advise("Use a new one.")
}

// Batch returns one batch, or [ErrNotFound].
func (s Reads) Batch(ctx context.Context, id int64) (Batch, error) {
	var b Batch
	err := s.q.GetContext(ctx, &b, selectBatches+`WHERE b.id = $1`, id)
	return b, explain(err)
}

// BatchFilter narrows a list of batches; empty fields match all.
type BatchFilter struct {
	State state.Batch
	// Verdict is what a batch comes to by now.
	Verdict string
	// Source is the reference of a depot's folder.
	Source string
	// Unsettled lists those that still need attention: nobody has settled them as they are, and no later batch of
	// the same place is cleared.
	Unsettled bool
	// Before is the ID to go on from, downwards; 0 starts at the newest.
	Before int64
	Limit  int
}

// Batches lists batches, the newest first.
func (s Reads) Batches(ctx context.Context, f BatchFilter) ([]Batch, error) {
	where, args := conditions{}, []any{f.Limit}
	where.add(&args, f.State != "", "b.state = $%d", f.State)
	// What ended with the verdict, or comes to it by now, and has no other by now.
	where.add(&args, f.Verdict != "", "(b.verdict = $%[1]d OR b.id IN (SELECT batch_id FROM rejudged_batches)) AND "+
		"coalesce(w.verdict, b.verdict) = $%[1]d", f.Verdict)
	where.add(&args, f.Source != "", "b.source = $%d AND b.source_kind = 'depot'", f.Source)
	if f.Unsettled {
		where = append(where, needsAttention)
	}
	where.add(&args, f.Before != 0, "b.id < $%d", f.Before)
	out := []Batch{}
	err := s.q.SelectContext(ctx, &out, selectBatches+where.clause()+`ORDER BY b.id DESC LIMIT $1`, args...)
	return out, explain(err)
}

// LockBatch returns a batch's state and keeps others from changing it until
// the transaction ends.
func (t *Tx) LockBatch(ctx context.Context, id int64) (now state.Batch, err error) {
	err = explain(t.tx.GetContext(ctx, &now, `SELECT state FROM batches WHERE id = $1 FOR UPDATE`, id))
	return now, err
}

// NotifyBatch is the channel on which the progress of batches is announced;
// the payload is the batch's ID.
const NotifyBatch = "endeixis_batch"

// Announce tells the listeners that a batch has moved, when the transaction is
// committed.
func (t *Tx) Announce(ctx context.Context, batch int64) error {
	_, err := t.tx.ExecContext(ctx, `SELECT pg_notify($1, $2)`, NotifyBatch, fmt.Sprint(batch))
	return err
}

// Tally returns how far a batch has come, as this transaction sees it.
func (t *Tx) Tally(ctx context.Context, batch int64) (Batch, error) {
	var b Batch
	err := t.tx.GetContext(ctx, &b, selectBatches+`WHERE b.id = $1`, batch)
	return b, explain(err)
}

// OpenBatches counts the batches of a person that have not ended.
func (s Reads) OpenBatches(ctx context.Context, name string) (int, error) {
	var n int
	err := s.q.GetContext(
		ctx, &n, `SELECT count(*) FROM batches WHERE state IN ('waiting', 'measuring') AND asked_by = $1`, name,
	)
	return n, explain(err)
}

// StopBatch says that a batch is being ended before it is done.
func (t *Tx) StopBatch(ctx context.Context, id int64, as state.Batch, by, reason string) error {
	_, err := t.tx.ExecContext(
		ctx, `UPDATE batches SET stop_state = $2, stop_by = $3, stop_reason = $4 WHERE id = $1`, id, as, by, reason,
	)
	return err
}

// NoteBatch notes something about a batch that has not ended.
func (s *Store) NoteBatch(ctx context.Context, id int64, note string) error {
	return s.Do(ctx, func(ctx context.Context, tx *Tx) error {
		_, err := tx.tx.ExecContext(
			ctx, `UPDATE batches SET note = $2 WHERE id = $1 AND state IN ('waiting', 'measuring')`, id, note,
		)
		return err
	})
}

// Finish closes a batch, with how far it came.
func (t *Tx) Finish(ctx context.Context, b Batch) error {
	_, err := t.tx.ExecContext(
		ctx,
		`UPDATE batches SET state = $2, verdict = $3, note = $4, position = $5, finished_at = $6, total_items = $7,
			done_items = $8,
		total_bytes = $9, done_bytes = $10, total_cleared = $11, total_unproven = $12, total_refused = $13,
			total_absent = $14, total_companions = $15 WHERE id = $1`,
		b.ID,
		b.State,
		b.Verdict,
		b.Note,
		b.Position,
		b.FinishedAt,
		b.Items,
		b.ItemsDone,
		b.Bytes,
		b.BytesDone,
		b.Cleared,
		b.Unproven,
		b.Refused,
		b.Absent,
		b.Companions,
	)
	return err
}

// OpenWork is a batch that is not finished, with its open slices.
type OpenWork struct {
	Batch      int64
	SourceKind string
	Source     string
	State      state.Batch
	// Stopping says that it is being ended before it is done.
	Stopping bool
	// Slices are the open ones that are due.
	Slices []DueSlice
}

// Unfinished lists the batches that are not finished.
func (s Reads) Unfinished(ctx context.Context) ([]OpenWork, error) {
	rows := []struct {
		ID         int64       `db:"id"`
		SourceKind string      `db:"source_kind"`
		Source     string      `db:"source"`
		State      state.Batch `db:"state"`
		Stopping   bool        `db:"stopping"`
		Slice      *int        `db:"slice"`
		Large      bool        `db:"large"`
	}{}
	if err := s.q.SelectContext(
		ctx,
		&rows,
		`SELECT b.id, b.source_kind, b.source, b.state, b.stop_state IS NOT NULL AS stopping, s.n AS slice,
			coalesce(s.large, false) AS large
		FROM batches b LEFT JOIN slices s ON s.batch_id = b.id AND NOT s.done AND s.queued
		WHERE b.state IN ('waiting', 'measuring') ORDER BY b.id, s.n`,
	); err != nil {
		return nil, explain(err)
	}
	var out []OpenWork
	for _, r := range rows {
		if len(out) == 0 || out[len(out)-1].Batch != r.ID {
			out = append(
				out,
				OpenWork{Batch: r.ID, SourceKind: r.SourceKind, Source: r.Source, State: r.State, Stopping: r.Stopping},
			)
		}
		if r.Slice != nil {
			last := &out[len(out)-1]
			last.Slices = append(last.Slices, DueSlice{*r.Slice, r.Large})
		}
	}
	return out, nil
}

// AbsentEntries returns the digest over what manifests of a batch list that is
// not there.
func (s Reads) AbsentEntries(ctx context.Context, batch int64) (string, error) {
	var out string
	err := s.q.GetContext(ctx, &out, `SELECT `+absentDigest+` FROM batches b WHERE b.id = $1`, batch)
	return out, explain(err)
}
