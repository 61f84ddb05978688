package api

import (
	"endeixis/core/judge"
	"endeixis/core/plain"
	"endeixis/core/survey"
	"endeixis/internal/query"
	"endeixis/internal/wire"
)

func itemOf(i query.Item) wire.Item {
	v := wire.Item{
		N:       i.N,
		Path:    i.Path,
		Shown:   plain.Text(i.Path),
		Role:    i.Role,
		Size:    i.Size,
		Verdict: i.Verdict,
		Record:  i.Record,
		Grounds: i.Grounds,
		Paths:   i.Paths,
		Digests: map[string]string{},
		Why:     i.Survey.Why,
		Against: againstOf(i.Survey.Against),
	}
	v.Inside, v.Holds = wire.InsideAndHolds(&i.Survey)
	if i.Record == nil {
		return v
	}
	m := i.Measurement
	v.Settled, v.Where, v.Readback, v.Device = true, m.Where, m.Readback, m.Device
	if m.Device != nil {
		v.Shown = plain.Text(m.Device.SlotTitle + " of " + m.Device.Device)
	}
	if v.Role == survey.Artifact {
		v.Compared = judge.Compared(v.Grounds)
	}
	outcome := judge.Outcome{Grounds: v.Grounds}
	if i.Verdict != nil {
		outcome.Verdict = *i.Verdict
	}
	v.Deciding = judge.Line(&i.Survey, &outcome)
	for a, d := range m.Digests {
		v.Digests[a.String()] = d.String()
	}
	return v
}

func rowOf(i query.ItemRow) wire.ItemRow {
	return wire.ItemRow{
		N: i.N, Shown: plain.Text(i.Path), Role: i.Role, Size: i.Size, Verdict: i.Verdict, Now: i.Now,
		Settled: i.Settled, Deciding: i.Deciding,
	}
}
