package query

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"endeixis/core/digest"
	"endeixis/core/judge"
	"endeixis/internal/fault"
	"endeixis/internal/store"
)

// A Reference is a file that was cleared here.
type Reference struct {
	Batch         int64
	N             int
	Path          string
	Size          int64
	Source, Label string
	// Publishers are those that were expected.
	Publishers []string
	Algorithm  string
	Digest     digest.Value
	Record     int64
	At         time.Time
	// Now is the verdict that the newest reassessment made of it, or nil.
	Now *judge.Verdict
	// Publisher is whose signature it rests on, or empty, and Release what its name says, which is a guess.
	Publisher, Release string
}

func referenceOf(row store.Reference) Reference {
	out := Reference{
		Batch: row.Batch, N: row.N, Path: row.Path, Size: row.Size, Source: row.Source, Label: row.Label,
		Publishers: []string{}, Algorithm: row.Algorithm, Digest: row.Digest, Record: row.Record, At: row.At,
		Now: verdictOf(row.Now), Publisher: row.Publisher, Release: row.Release,
	}
	var expected judge.Expectation
	if json.Unmarshal(row.Expected, &expected) == nil && expected.Publishers != nil {
		out.Publishers = expected.Publishers
	}
	return out
}

// References finds the files that were cleared with the same bytes, by digests of any
// algorithm. A digest that is too short to tell files apart, such as a CRC, finds nothing
// and is a [*fault.Fault].
func (s *Service) References(ctx context.Context, digests []digest.Value, limit int) ([]Reference, error) {
	raw := make([][]byte, len(digests))
	for i, d := range digests {
		if len(d) < 16 || digest.OfSize(len(d)) == nil {
			return nil, fault.New(
				fault.Invalid, fault.BadDigest, "A value of %d bytes is no digest by which a file can be found.", len(d),
			).
				Advise("Give the whole of an MD5, SHA-1, SHA-2, SHA-3 or BLAKE digest.").
				At("digest")
		}
		raw[i] = d
	}
	rows, err := s.store.References(ctx, raw, limit)
	return each(rows, referenceOf), err
}

// A ReferenceFilter narrows the files that were cleared here; empty fields match all.
type ReferenceFilter struct {
	Publisher string
	// Match is a part of a file's name.
	Match string
	Limit int
}

// Library lists the files that were cleared here, the newest first, with what became of them.
func (s *Service) Library(ctx context.Context, f ReferenceFilter, cursor string) (Page[Reference], error) {
	before, err := Number(cursor, 0)
	if err != nil {
		return Page[Reference]{}, err
	}
	rows, err := s.store.Library(
		ctx, store.ReferenceFilter{Publisher: f.Publisher, Match: f.Match, Before: before, Limit: f.Limit + 1},
	)
	return pageOf(each(rows, referenceOf), f.Limit, func(r Reference) string { return fmt.Sprint(r.Record) }), err
}

// A NotedReference is a digest that somebody has read somewhere.
type NotedReference = store.NotedReference

// NotedReferences lists digests that were noted, the newest first: those with one of some digests, where these are
// given.
func (s *Service) NotedReferences(
	ctx context.Context, digests []digest.Value, f ReferenceFilter, cursor string,
) (Page[NotedReference], error) {
	before, err := Number(cursor, 0)
	if err != nil {
		return Page[NotedReference]{}, err
	}
	var raw [][]byte
	for _, d := range digests {
		raw = append(raw, d)
	}
	rows, err := s.store.NotedReferences(
		ctx, raw, store.ReferenceFilter{Publisher: f.Publisher, Match: f.Match, Before: before, Limit: f.Limit + 1},
	)
	return pageOf(rows, f.Limit, func(r NotedReference) string { return fmt.Sprint(r.Position) }), err
}

// A ReadBack is a medium that was read back against a file.
type ReadBack struct {
	Batch int64
	N     int
	// Medium is the name of it, and Source where it was read.
	Medium, Source string
	At             time.Time
	// Now is the verdict that the newest reassessment made of it, or nil.
	Verdict, Now *judge.Verdict
}

// maxReadBacks bounds how many of one file are told.
const maxReadBacks = 100

// ReadBacks lists the media that were read back against an item, the newest first.
func (s *Service) ReadBacks(ctx context.Context, batch int64, n int) ([]ReadBack, error) {
	rows, err := s.store.ReadBacks(ctx, batch, n, maxReadBacks)
	return each(rows, func(row store.ReadBack) ReadBack {
		return ReadBack{
			Batch: row.Batch, N: row.N, Medium: row.Medium, Source: row.Source, At: row.At,
			Verdict: verdictOf(row.Verdict), Now: verdictOf(row.Now),
		}
	}), err
}
