package store

import (
	"context"
	"encoding/json"
)

// Evidence is what the record of an outcome says it rests on, in JSON. A record has it, and no
// other row.
type Evidence struct {
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

// told puts evidence into rows, where place tells the position of a row's record and where its
// evidence goes; one without a position has none.
func told[T any](ctx context.Context, s Reads, rows []T, place func(*T) (*int64, *Evidence)) error {
	var positions []int64
	for i := range rows {
		if position, _ := place(&rows[i]); position != nil {
			positions = append(positions, *position)
		}
	}
	all, err := s.evidenceAt(ctx, positions)
	if err != nil {
		return err
	}
	for i := range rows {
		if position, into := place(&rows[i]); position != nil {
			*into = all[*position]
		}
	}
	return nil
}
