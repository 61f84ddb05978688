package api

import (
	"endeixis/core/digest"
	"endeixis/core/manifest"
	"endeixis/core/plain"
	"endeixis/core/survey"
	"endeixis/internal/wire"
)

func surveyOf(plan *survey.Survey) wire.Survey {
	out := wire.Survey{Items: []wire.Planned{}, Absent: []wire.Absent{}}
	for _, item := range plan.Items {
		p := wire.Planned{
			Path: item.Path, Shown: plain.Text(item.Path), Role: item.Role, Why: plain.Text(item.Why), Size: item.Size,
			Algorithms: []string{}, Listed: []wire.Vouched{}, Signatures: []wire.Vouched{},
		}
		p.Inside, p.Holds = insideAndHolds(&item)
		if item.Problem != nil {
			p.Problem = item.Problem.Message
		}
		for _, d := range item.Digests {
			p.Algorithms = append(p.Algorithms, d.String())
		}
		for _, l := range item.Listed {
			why := "it names this file"
			if l.Name == "" {
				why = "it holds one digest, and this is the file it is about"
			}
			if l.Doubtful {
				why = "it names this file or another of the same name; the digest will decide"
			}
			v := wire.Vouched{By: plain.Text(l.Manifest), Line: l.Line, Why: why}
			if n := len(p.Listed); n == 0 || p.Listed[n-1] != v { // a line can state several digests
				p.Listed = append(p.Listed, v)
			}
		}
		for _, o := range item.Signatures {
			p.Signatures = append(p.Signatures, wire.Vouched{By: plain.Text(o.File), Why: o.Why})
		}
		out.Items = append(out.Items, p)
	}
	for _, e := range plan.Absent {
		out.Absent = append(out.Absent, wire.Absent{Name: plain.Text(e.Name), Manifest: plain.Text(e.Manifest), Line: e.Line})
	}
	return out
}

// shownEntries bounds the entries of a manifest that are shown at once.
const shownEntries = 5000

func readingOf(m *manifest.Manifest) wire.Reading {
	out := wire.Reading{Format: m.Format, Entries: []wire.ReadEntry{}, Problems: []wire.ReadProblem{}, MoreProblems: m.MoreProblems, LeftAside: []wire.ReadAside{}, MoreAside: m.MoreLeftAside, Cut: m.Entries.Len() > shownEntries}
	for i, e := range m.Entries.All() {
		if i == shownEntries {
			break
		}
		entry := wire.ReadEntry{Name: plain.Text(e.Name), Candidates: []string{}, Digest: e.Digest.String(), Size: e.Size, Line: e.Line}
		if e.Algorithm != digest.Unknown {
			name := e.Algorithm.String()
			entry.Algorithm = &name
		}
		for _, c := range e.Candidates() {
			entry.Candidates = append(entry.Candidates, c.String())
		}
		out.Entries = append(out.Entries, entry)
	}
	for _, p := range m.Problems {
		out.Problems = append(out.Problems, wire.ReadProblem{Line: p.Line, Code: p.Code, Message: plain.Text(p.Message)})
	}
	for _, a := range m.LeftAside {
		out.LeftAside = append(out.LeftAside, wire.ReadAside{Line: a.Line, Column: a.Column, Length: a.Length, Text: plain.Text(a.Text), Why: plain.Text(a.Why)})
	}
	return out
}
