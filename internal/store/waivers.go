package store

import (
	"context"
	"time"
)

// A Waiver is an exception that was granted.
type Waiver struct {
	ID        int64      `db:"id"`
	Ground    string     `db:"ground"`
	Publisher string     `db:"publisher"`
	Pattern   string     `db:"pattern"`
	Reason    string     `db:"reason"`
	By        string     `db:"by_name"`
	CreatedAt time.Time  `db:"created_at"`
	Until     time.Time  `db:"until"`
	Position  int64      `db:"position"`
	EndedAt   *time.Time `db:"ended_at"`
	EndedBy   string     `db:"ended_by"`
	EndReason string     `db:"end_reason"`
}

// AddWaiver stores a waiver and returns its number.
func (t *Tx) AddWaiver(ctx context.Context, w Waiver) (int64, error) {
	var id int64
	err := t.tx.GetContext(ctx, &id, `INSERT INTO waivers (ground, publisher, pattern, reason, by_name, created_at, until, position)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8) RETURNING id`, w.Ground, w.Publisher, w.Pattern, w.Reason, w.By, w.CreatedAt, w.Until, w.Position)
	return id, err
}

// LockWaiver returns a waiver and keeps others from ending it until the
// transaction ends, or returns [ErrNotFound].
func (t *Tx) LockWaiver(ctx context.Context, id int64) (Waiver, error) {
	var w Waiver
	err := t.tx.GetContext(ctx, &w, `SELECT * FROM waivers WHERE id = $1 FOR UPDATE`, id)
	return w, explain(err)
}

// EndWaiver ends a waiver before its day.
func (t *Tx) EndWaiver(ctx context.Context, id int64, at time.Time, by, reason string) error {
	_, err := t.tx.ExecContext(ctx, `UPDATE waivers SET ended_at = $2, ended_by = $3, end_reason = $4 WHERE id = $1`, id, at, by, reason)
	return err
}

// Waivers lists all waivers, the newest first.
func (s Reads) Waivers(ctx context.Context) ([]Waiver, error) {
	out := []Waiver{}
	err := s.q.SelectContext(ctx, &out, `SELECT * FROM waivers ORDER BY id DESC`)
	return out, explain(err)
}

// WaiversAsOf lists the waivers that had been granted at a time, and neither
// ended nor run out.
func (s Reads) WaiversAsOf(ctx context.Context, at time.Time) ([]Waiver, error) {
	out := []Waiver{}
	err := s.q.SelectContext(ctx, &out, `SELECT * FROM waivers WHERE created_at <= $1 AND until > $1 AND (ended_at IS NULL OR ended_at > $1) ORDER BY id`, at)
	return out, explain(err)
}
