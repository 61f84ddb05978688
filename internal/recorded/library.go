package recorded

import (
	"context"
	"encoding/json"
	"fmt"
	"path"

	"endeixis/core/container"
	"endeixis/core/judge"
	"endeixis/core/release"
	"endeixis/core/survey"
	"endeixis/internal/store"
)

// A shelved outcome is one that the library has or, where support is nil, has not.
type shelved struct {
	support *judge.Support
}

// shelve says whether the library has an outcome.
func shelve(o *judge.Outcome) *shelved {
	if o.Role != survey.Artifact || !judge.Remembered(o.Verdict, o.Paths) {
		return &shelved{}
	}
	support := judge.SupportOf(o.Grounds, o.Paths)
	return &shelved{&support}
}

// shelving are bodies by which a file comes into the library.
type shelving interface {
	// shelf returns the item, and what it rests on, or nil where the library does not have it.
	shelf() (batch int64, n int, item string, support *judge.Support)
}

func (b ItemOutcome) shelf() (batch int64, n int, item string, support *judge.Support) {
	if b.shelved == nil && b.Verdict == judge.Cleared {
		if s, err := b.shown(); err == nil {
			b.shelved = shelve(outcomeIn(b.Item, b.Role, b.Verdict, s.grounds, b.Paths))
		}
	}
	if b.shelved != nil {
		support = b.shelved.support
	}
	return b.Batch, b.N, b.Item, support
}

func (b ItemRejudged) shelf() (batch int64, n int, item string, support *judge.Support) {
	if b.shelved == nil && b.Verdict == judge.Cleared {
		// Artifacts alone are judged again.
		b.shelved = shelve(outcomeIn(b.Item, survey.Artifact, b.Verdict, groundsIn(b.Grounds), b.Paths))
	}
	if b.shelved != nil {
		support = b.shelved.support
	}
	return b.Batch, b.N, b.Item, support
}

// outcomeIn is the outcome that a record has; what is odd in a record is told elsewhere.
func outcomeIn(
	item string, role survey.Role, verdict judge.Verdict, grounds []judge.Ground, paths json.RawMessage,
) *judge.Outcome {
	o := judge.Outcome{Path: item, Role: role, Verdict: verdict, Grounds: grounds}
	if json.Unmarshal(paths, &o.Paths) != nil {
		o.Paths = nil
	}
	return &o
}

// LibraryEntry returns what the library has by a record, or nil. Its number is one that the record does
// not say, unless it was written by this process.
func LibraryEntry(h Head, b Body) *store.LibraryEntry {
	out, _ := libraryEntry(h, b)
	return out
}

// libraryEntry is [LibraryEntry] with the path of the item.
func libraryEntry(h Head, b Body) (out *store.LibraryEntry, item string) {
	s, ok := b.(shelving)
	if !ok {
		return nil, ""
	}
	batch, n, item, support := s.shelf()
	if support == nil {
		return nil, ""
	}
	out = &store.LibraryEntry{
		Position: h.Position, Batch: batch, N: n, Publisher: support.Publisher, File: path.Base(item),
		Signed: support.Signed,
	}
	if container.Outermost(item) == item {
		name := release.Of(item)
		out.Stem, out.Release = name.Stem, name.Release
	}
	for _, key := range support.Keys {
		out.Signers = append(out.Signers, string(key))
	}
	for _, a := range support.Algorithms {
		out.Algorithms = append(out.Algorithms, a.String())
	}
	return out, item
}

// addLibrary adds to the library what is cleared by records.
func addLibrary[T Body](ctx context.Context, tx *store.Tx, heads []Head, bodies []T) error {
	var entries []store.LibraryEntry
	for i, b := range bodies {
		if e := LibraryEntry(heads[i], b); e != nil {
			entries = append(entries, *e)
		}
	}
	return tx.AddLibrary(ctx, entries)
}

// libraryRow is what the library has to have by a record, or nothing.
func libraryRow(h Head, b Body) []row {
	e, item := libraryEntry(h, b)
	if e == nil {
		return nil
	}
	return []row{{
		table: "library", key: fmt.Sprintf("batch %d, %s", e.Batch, item), position: h.Position,
		fields: []field{
			number(e.Batch), text(item), text(e.Publisher), text(e.File), text(e.Stem), text(e.Release),
			momentOrNone(e.Signed), list(e.Signers), list(e.Algorithms),
		},
	}}
}
