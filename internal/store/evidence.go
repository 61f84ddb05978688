package store

import (
	"context"
	"encoding/json"

	"endeixis/core/plain"
	"endeixis/internal/fault"
)

// Evidence is what the record of an outcome says it rests on, in JSON. A record has it, and no
// other row.
type Evidence struct {
	Batch       int64           `json:"batch"`
	Item        string          `json:"item"`
	Verdict     string          `json:"verdict"`
	Survey      json.RawMessage `json:"survey"`
	Measurement json.RawMessage `json:"measurement"`
	Grounds     json.RawMessage `json:"grounds"`
	Paths       json.RawMessage `json:"paths"`
	// Record is that of the outcome.
	Record Record `json:"-"`
}

// evidenceAt reads the evidence of outcomes by the positions of their records. It returns a fault
// “ledger-altered” where a text is not the one that was written, as far as the database tells.
func (s Reads) evidenceAt(ctx context.Context, positions []int64) (map[int64]Evidence, error) {
	records, err := s.recordsAt(ctx, positions)
	if err != nil {
		return nil, err
	}
	out := make(map[int64]Evidence, len(positions))
	for _, position := range positions {
		r, ok := records[position]
		if !ok || !genuineText(&r) {
			return nil, unlike(position)
		}
		e := Evidence{Record: r}
		if err := json.Unmarshal(r.Body, &e); err != nil {
			return nil, unlike(position)
		}
		out[position] = e
	}
	return out, nil
}

// An about tells of which item a row is, the position of the record that has its evidence, or nil,
// and where the evidence goes.
type about struct {
	batch    int64
	path     string
	position *int64
	into     *Evidence
}

// told puts evidence into rows. A record that is of another item is none of a row's: then it
// returns a fault “ledger-altered”.
func told[T any](ctx context.Context, s Reads, rows []T, of func(*T) about) error {
	var positions []int64
	for i := range rows {
		if a := of(&rows[i]); a.position != nil {
			positions = append(positions, *a.position)
		}
	}
	all, err := s.evidenceAt(ctx, positions)
	if err != nil {
		return err
	}
	for i := range rows {
		a := of(&rows[i])
		if a.position == nil {
			continue
		}
		*a.into = all[*a.position]
		if a.into.Batch != a.batch || a.into.Item != a.path {
			return Mistaken(a.batch, a.path)
		}
	}
	return nil
}

// Mistaken says that a row is said to have the record of something else.
func Mistaken(batch int64, path string) error {
	return fault.New(
		fault.Altered, fault.LedgerAltered, "What is stored of %s in batch %d is not what its record says.",
		plain.Text(path), batch,
	).
		Advise(keepIt)
}
