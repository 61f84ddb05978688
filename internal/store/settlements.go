package store

import (
	"context"
	"time"
)

// A Settlement says that a batch or a key needs no attention as it was then.
type Settlement struct {
	Position int64 `db:"position"`
	// Batch or Fingerprint is what was settled.
	Batch       *int64    `db:"batch_id"`
	Fingerprint []byte    `db:"fingerprint"`
	Reason      string    `db:"reason"`
	By          string    `db:"by_name"`
	At          time.Time `db:"at"`
}

// AddSettlement stores one.
func (t *Tx) AddSettlement(ctx context.Context, s Settlement) error {
	_, err := t.tx.ExecContext(
		ctx, `INSERT INTO settlements (position, batch_id, fingerprint, reason, by_name, at)
		VALUES ($1, $2, $3, $4, $5, $6)`, s.Position, s.Batch, s.Fingerprint, s.Reason, s.By, s.At,
	)
	return explain(err)
}

// KeySettlements returns the newest settlement of each key that has one.
func (s Reads) KeySettlements(ctx context.Context) ([]Settlement, error) {
	out := []Settlement{}
	err := s.q.SelectContext(ctx, &out, `SELECT DISTINCT ON (fingerprint) * FROM settlements
		WHERE fingerprint IS NOT NULL ORDER BY fingerprint, position DESC`)
	return out, explain(err)
}

// needsAttention is a condition for a batch b with what it has become, w: nobody has settled it since, and no later
// batch of the same place is cleared. Another medium in the same drive says nothing of the one before.
var needsAttention = `NOT EXISTS (SELECT FROM settlements s WHERE s.batch_id = b.id
		AND s.position > coalesce(w.position, b.position, 0))
	AND (EXISTS (SELECT FROM measurers m WHERE m.batch_id = b.id AND m.against IS NOT NULL)
		OR NOT EXISTS (SELECT FROM batches l WHERE l.source = b.source AND l.source_kind = b.source_kind AND l.id > b.id
			AND l.state = 'done' AND ` + verdictNow("l") + ` = 'cleared'))`

// NeedsAttention reports whether a batch is refused or unproven by now, and unsettled.
func (s Reads) NeedsAttention(ctx context.Context, id int64) (needed bool, err error) {
	err = s.q.GetContext(
		ctx, &needed, `SELECT EXISTS (SELECT FROM (`+selectBatches+`WHERE b.id = $1 AND
			coalesce(w.verdict, b.verdict) IN ('refused', 'unproven') AND `+needsAttention+`) needing)`, id,
	)
	return needed, explain(err)
}
