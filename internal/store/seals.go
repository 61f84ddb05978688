package store

import (
	"context"
	"fmt"

	"golang.org/x/mod/sumdb/tlog"
)

// A Seal is the MAC over records that were appended together, see [ledger.Seal].
type Seal struct {
	First   int64  `db:"first"`
	Records int64  `db:"records"`
	Seal    []byte `db:"seal"`
}

// A Sealer computes the seal of records that are appended together.
type Sealer func(first int64, leaves []tlog.Hash) []byte

// Seals lists the seals of the records from a position on, a page of them. first is that of a
// seal, or the end of one.
func (s Reads) Seals(ctx context.Context, first int64, limit int) ([]Seal, error) {
	out := []Seal{}
	err := s.q.SelectContext(ctx, &out, `SELECT first, records, seal FROM seals WHERE first >= $1 ORDER BY first LIMIT $2`, first, limit)
	return out, explain(err)
}

// SealsOver lists the seals over records at some positions.
func (s Reads) SealsOver(ctx context.Context, positions []int64) ([]Seal, error) {
	out := []Seal{}
	err := s.q.SelectContext(ctx, &out, `SELECT DISTINCT s.* FROM unnest($1::bigint[]) p (position)
		CROSS JOIN LATERAL (SELECT first, records, seal FROM seals WHERE first <= p.position ORDER BY first DESC LIMIT 1) s ORDER BY first`, positions)
	return out, explain(err)
}

// Leaves reads the leaf hashes that stand beside the records at positions first to end-1.
func (s Reads) Leaves(ctx context.Context, first, end int64) ([]tlog.Hash, error) {
	rows := []struct {
		Position int64  `db:"position"`
		Leaf     []byte `db:"leaf"`
	}{}
	if err := s.q.SelectContext(ctx, &rows, `SELECT position, leaf FROM ledger_records WHERE position >= $1 AND position < $2 ORDER BY position`, first, end); err != nil {
		return nil, explain(err)
	}
	if int64(len(rows)) != end-first {
		return nil, fmt.Errorf("of the records %d to %d only %d are there", first, end-1, len(rows))
	}
	out := make([]tlog.Hash, len(rows))
	for i, r := range rows {
		if r.Position != first+int64(i) || len(r.Leaf) != tlog.HashSize {
			return nil, fmt.Errorf("record %d is not there", first+int64(i))
		}
		copy(out[i][:], r.Leaf)
	}
	return out, nil
}

// AddSeal stores the seal of records that were appended before there were seals.
func (t *Tx) AddSeal(ctx context.Context, s Seal) error {
	_, err := t.tx.ExecContext(ctx, `INSERT INTO seals (first, records, seal) VALUES ($1, $2, $3)`, s.First, s.Records, s.Seal)
	return err
}

// LockLedger keeps others from appending until the transaction ends, and returns the size.
func (t *Tx) LockLedger(ctx context.Context) (int64, error) {
	var size int64
	err := t.tx.GetContext(ctx, &size, `SELECT size FROM ledger_state FOR UPDATE`)
	return size, explain(err)
}
