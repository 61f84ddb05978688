package store

import (
	"context"
	"fmt"

	"endeixis/core/ledger"

	"golang.org/x/mod/sumdb/tlog"
)

// A Seal is one with its MAC, as stored.
type Seal struct {
	First     int64  `db:"first"`
	Records   int64  `db:"records"`
	Decisions int64  `db:"decisions"`
	Over      []byte `db:"over_leaves"`
	MAC       []byte `db:"mac"`
}

const selectSeals = `SELECT first, records, decisions, over_leaves, mac FROM seals `

// A Sealer makes the seal of records that are appended behind the last seal, which is nil for
// the first.
type Sealer func(last *Seal, first int64, records []*Record, leaves []tlog.Hash) (Seal, error)

// Seals lists the seals of the records from a position on, a page of them.
func (s Reads) Seals(ctx context.Context, first int64, limit int) ([]Seal, error) {
	out := []Seal{}
	err := s.q.SelectContext(ctx, &out, selectSeals+`WHERE first >= $1 ORDER BY first LIMIT $2`, first, limit)
	return out, explain(err)
}

// LastSeal returns the ledger's size and the newest seal, which is nil where there is none, as
// they were at one moment.
func (s Reads) LastSeal(ctx context.Context) (size int64, last *Seal, err error) {
	var row struct {
		Size      int64  `db:"size"`
		First     *int64 `db:"first"`
		Records   int64  `db:"records"`
		Decisions int64  `db:"decisions"`
		Over      []byte `db:"over_leaves"`
		MAC       []byte `db:"mac"`
	}
	err = s.q.GetContext(
		ctx,
		&row,
		`SELECT l.size, s.first, coalesce(s.records, 0) AS records, coalesce(s.decisions, 0) AS decisions,
			s.over_leaves, s.mac
		FROM ledger_state l LEFT JOIN LATERAL (`+selectSeals+`ORDER BY first DESC LIMIT 1) s ON true`,
	)
	if err != nil || row.First == nil {
		return row.Size, nil, explain(err)
	}
	return row.Size, &Seal{*row.First, row.Records, row.Decisions, row.Over, row.MAC}, nil
}

// SealsOver lists the seals over records at some positions.
func (s Reads) SealsOver(ctx context.Context, positions []int64) ([]Seal, error) {
	out := []Seal{}
	err := s.q.SelectContext(
		ctx,
		&out,
		selectSeals+`WHERE first IN (SELECT (SELECT max(o.first) FROM seals o WHERE o.first <= p)
			FROM unnest($1::bigint[]) p) ORDER BY first`,
		positions,
	)
	return out, explain(err)
}

// LeavesOf reads the leaf hashes that stand beside the records of some seals, by position.
func (s Reads) LeavesOf(ctx context.Context, seals []Seal) (map[int64]tlog.Hash, error) {
	firsts, counts := make([]int64, len(seals)), make([]int64, len(seals))
	for i, seal := range seals {
		firsts[i], counts[i] = seal.First, seal.Records
	}
	rows := []struct {
		Position int64  `db:"position"`
		Leaf     []byte `db:"leaf"`
	}{}
	err := s.q.SelectContext(
		ctx,
		&rows,
		`SELECT r.position, r.leaf FROM unnest($1::bigint[], $2::bigint[]) s (first, records)
		JOIN ledger_records r ON r.position >= s.first AND r.position < s.first + s.records`,
		firsts,
		counts,
	)
	out := make(map[int64]tlog.Hash, len(rows))
	for _, r := range rows {
		if len(r.Leaf) == tlog.HashSize {
			out[r.Position] = tlog.Hash(r.Leaf)
		}
	}
	return out, explain(err)
}

// Leaves reads the leaf hashes that stand beside the records at positions first to end-1.
func (s Reads) Leaves(ctx context.Context, first, end int64) ([]tlog.Hash, error) {
	rows := []struct {
		Position int64  `db:"position"`
		Leaf     []byte `db:"leaf"`
	}{}
	if err := s.q.SelectContext(
		ctx, &rows,
		`SELECT position, leaf FROM ledger_records WHERE position >= $1 AND position < $2 ORDER BY position`, first,
		end,
	); err != nil {
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

// AddSeal stores the seal of records.
func (t *Tx) AddSeal(ctx context.Context, s Seal) error {
	_, err := t.tx.NamedExecContext(
		ctx,
		`INSERT INTO seals (first, records, decisions, over_leaves, mac)
			VALUES (:first, :records, :decisions, :over_leaves, :mac)`,
		s,
	)
	return err
}

// SetSeals stores the MACs of seals.
func (t *Tx) SetSeals(ctx context.Context, seals []Seal) error {
	firsts, macs := make([]int64, len(seals)), make([][]byte, len(seals))
	for i, s := range seals {
		firsts[i], macs[i] = s.First, s.MAC
	}
	_, err := t.tx.ExecContext(
		ctx,
		`UPDATE seals s SET mac = n.mac FROM unnest($1::bigint[], $2::bytea[]) n (first, mac) WHERE n.first = s.first`,
		firsts, macs,
	)
	return explain(err)
}

// recordsAtOnce bounds how many records are read at a time.
const recordsAtOnce = 1000

// EachOfBatch calls f for the records of a batch in order, a page of them at a time: their places,
// kinds, texts and leaves.
func (s Reads) EachOfBatch(ctx context.Context, batch int64, f func(page []Record) error) error {
	return s.pages(ctx, 0, `batch_id = $1`, batch, f)
}

// EachOfKinds does that for the records of some kinds from a position on.
func (s Reads) EachOfKinds(ctx context.Context, kinds []ledger.Kind, from int64, f func(page []Record) error) error {
	return s.pages(ctx, from, `kind = ANY($1::text[])`, kinds, f)
}

func (s Reads) pages(ctx context.Context, from int64, where string, arg any, f func(page []Record) error) error {
	for {
		page := []Record{}
		if err := s.q.SelectContext(
			ctx, &page,
			`SELECT `+recordText+` FROM ledger_records WHERE `+where+` AND position >= $2 ORDER BY position LIMIT $3`,
			arg, from, recordsAtOnce,
		); err != nil {
			return explain(err)
		}
		if err := s.fill(ctx, page); err != nil {
			return err
		}
		if len(page) > 0 {
			from = page[len(page)-1].Position + 1
			if err := f(page); err != nil {
				return err
			}
		}
		if len(page) < recordsAtOnce {
			return nil
		}
	}
}

// LockLedger keeps others from appending until the transaction ends, and returns the size.
func (t *Tx) LockLedger(ctx context.Context) (int64, error) {
	var size int64
	err := t.tx.GetContext(ctx, &size, `SELECT size FROM ledger_state FOR UPDATE`)
	return size, explain(err)
}
