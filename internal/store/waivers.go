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

// AddWaiver stores a waiver.
func (t *Tx) AddWaiver(ctx context.Context, w Waiver) error {
	_, err := t.tx.ExecContext(
		ctx,
		`INSERT INTO waivers (ground, publisher, pattern, reason, by_name, created_at, until, position)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8)`,
		w.Ground,
		w.Publisher,
		w.Pattern,
		w.Reason,
		w.By,
		w.CreatedAt,
		w.Until,
		w.Position,
	)
	return explain(err)
}

// WaiverOf returns the waiver that a record granted, or [ErrNotFound].
func (s Reads) WaiverOf(ctx context.Context, position int64) (Waiver, error) {
	var w Waiver
	err := s.q.GetContext(ctx, &w, `SELECT * FROM waivers WHERE position = $1`, position)
	return w, explain(err)
}

// LockWaiver returns a waiver and keeps others from ending it until the
// transaction ends, or returns [ErrNotFound].
func (t *Tx) LockWaiver(ctx context.Context, id int64) (Waiver, error) {
	var w Waiver
	err := t.tx.GetContext(ctx, &w, `SELECT * FROM waivers WHERE id = $1 FOR UPDATE`, id)
	return w, explain(err)
}

// EndWaiver ends a waiver, which a record granted, before its day.
func (t *Tx) EndWaiver(ctx context.Context, position int64, at time.Time, by, reason string) error {
	_, err := t.tx.ExecContext(
		ctx, `UPDATE waivers SET ended_at = $2, ended_by = $3, end_reason = $4 WHERE position = $1`, position, at, by,
		reason,
	)
	return err
}

// Waivers lists all waivers, the newest first.
func (s Reads) Waivers(ctx context.Context) ([]Waiver, error) {
	out := []Waiver{}
	err := s.q.SelectContext(ctx, &out, `SELECT * FROM waivers ORDER BY id DESC`)
	return out, explain(err)
}
