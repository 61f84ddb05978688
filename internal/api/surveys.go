package api

import (
	"endeixis/core/digest"
	"endeixis/core/manifest"
	"endeixis/core/plain"
	"endeixis/internal/wire"
)

// shownEntries bounds the entries of a manifest that are shown at once.
const shownEntries = 5000

func manifestContentOf(m *manifest.Manifest) wire.ManifestContent {
	out := wire.ManifestContent{
		Format: m.Format, Entries: []wire.ReadEntry{}, Problems: []wire.ReadProblem{}, MoreProblems: m.MoreProblems,
		LeftAside: []wire.ReadAside{}, MoreAside: m.MoreLeftAside, Cut: m.Entries.Len() > shownEntries,
	}
	for i, e := range m.Entries.All() {
		if i == shownEntries {
			break
		}
		entry := wire.ReadEntry{
			Name: plain.Text(e.Name), Candidates: []string{}, Digest: e.Digest.String(), Size: e.Size, Line: e.Line,
			Span: wire.Span(e.Span()), Guessed: e.Guessed.Names(),
		}
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
		out.Problems = append(
			out.Problems,
			wire.ReadProblem{Line: p.Line, Code: p.Code, Message: plain.Text(p.Message), Span: wire.Span(p.Span)},
		)
	}
	for _, a := range m.LeftAside {
		out.LeftAside = append(
			out.LeftAside,
			wire.ReadAside{
				Line: a.Line, Column: a.Column, Length: a.Length, Span: wire.Span(a.Span), Text: plain.Text(a.Text),
				Why: plain.Text(a.Why),
			},
		)
	}
	return out
}
