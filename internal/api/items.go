package api

import (
	"encoding/json"
	"errors"
	"fmt"

	"endeixis/core/judge"
	"endeixis/core/measure"
	"endeixis/core/plain"
	"endeixis/core/survey"
	"endeixis/internal/query"
	"endeixis/internal/wire"
)

func itemOf(row query.Item) (wire.Item, error) {
	v := wire.Item{
		N: row.N, Path: row.Path, Shown: plain.Text(row.Path), Role: survey.Role(row.Role), Size: row.Size, Verdict: verdictOf(row.Verdict), Record: row.Position,
		Grounds: []judge.Ground{}, Paths: []judge.ProofPath{}, Digests: map[string]string{},
	}
	var item survey.Item
	if err := json.Unmarshal(row.Survey, &item); err != nil {
		return v, err
	}
	v.Why = item.Why
	v.Inside, v.Holds = insideAndHolds(&item)
	if row.Position == nil {
		return v, nil
	}
	v.Settled = true
	var m measure.Measurement
	if err := errors.Join(json.Unmarshal(row.Measurement, &m), json.Unmarshal(row.Grounds, &v.Grounds), json.Unmarshal(row.Paths, &v.Paths)); err != nil {
		return v, err
	}
	v.Where = m.Where
	outcome := judge.Outcome{Grounds: v.Grounds}
	if row.Verdict != nil {
		outcome.Verdict = judge.Verdict(*row.Verdict)
	}
	v.Deciding = judge.Line(&item, &outcome)
	for a, d := range m.Digests {
		v.Digests[a.String()] = d.String()
	}
	return v, nil
}

// insideAndHolds tells what holds an item, and what it holds.
func insideAndHolds(item *survey.Item) (inside, holds string) {
	if item.Inside != nil {
		inside = plain.Text(item.Inside.Of)
	}
	if h := item.Holds; h != nil {
		holds = h.String()
		if h.Trouble == "" && h.Members > 0 {
			holds += fmt.Sprintf(", %d spoken of", h.Spoken)
		}
	}
	return inside, holds
}

func rowOf(row query.ItemRow) wire.ItemRow {
	out := wire.ItemRow{
		N: row.N, Shown: plain.Text(row.Path), Role: survey.Role(row.Role), Size: row.Size,
		Verdict: verdictOf(row.Verdict), Now: verdictOf(row.Now), Settled: row.Position != nil,
	}
	if row.Deciding != nil {
		out.Deciding = *row.Deciding
	}
	return out
}
