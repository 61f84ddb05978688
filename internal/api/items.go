package api

import (
	"encoding/json"
	"errors"

	"endeixis/core/judge"
	"endeixis/core/measure"
	"endeixis/core/plain"
	"endeixis/core/survey"
	"endeixis/internal/query"
	"endeixis/internal/wire"
)

func itemOf(row query.Item) (wire.Item, error) {
	v := wire.Item{
		N:       row.N,
		Path:    row.Path,
		Shown:   plain.Text(row.Path),
		Role:    survey.Role(row.Role),
		Size:    row.Size,
		Verdict: verdictOf(row.Verdict),
		Record:  row.Position,
		Grounds: []judge.Ground{},
		Paths:   []judge.ProofPath{},
		Digests: map[string]string{},
	}
	var item survey.Item
	if err := json.Unmarshal(row.Survey, &item); err != nil {
		return v, err
	}
	v.Why = item.Why
	v.Inside, v.Holds = wire.InsideAndHolds(&item)
	v.Against = againstOf(item.Against)
	if row.Position == nil {
		return v, nil
	}
	v.Settled = true
	var m measure.Measurement
	if err := errors.Join(
		json.Unmarshal(row.Evidence.Measurement, &m), json.Unmarshal(row.Evidence.Grounds, &v.Grounds),
		json.Unmarshal(row.Evidence.Paths, &v.Paths),
	); err != nil {
		return v, err
	}
	v.Where, v.Readback, v.Device = m.Where, m.Readback, m.Device
	if m.Device != nil {
		v.Shown = plain.Text(m.Device.SlotTitle + " of " + m.Device.Device)
	}
	if v.Role == survey.Artifact {
		v.Compared = judge.Compared(v.Grounds)
	}
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
