package api

import (
	"context"
	"encoding/hex"
	"strings"

	"endeixis/core/digest"
	"endeixis/core/plain"
	"endeixis/internal/fault"
	"endeixis/internal/query"
	"endeixis/internal/wire"
)

// maxReferences bounds how many files with the same bytes are told.
const maxReferences = 50

func (a *API) registerReferences() {
	handle(a, wire.FindReferences, a.findReferences)
}

func (a *API) findReferences(ctx context.Context, in *wire.FindReferencesRequest) (*wire.Page[wire.Reference], error) {
	if in.Digest == "" {
		page, err := a.Query.Library(
			ctx, query.ReferenceFilter{Publisher: in.Publisher, Match: in.Match, Limit: in.Limit}, in.Cursor,
		)
		return answer(pageOf(page, referenceOf), err)
	}
	if in.Publisher != "" || in.Match != "" {
		return nil, fault.New(
			fault.Invalid, fault.BadDigest, "Files are found by a digest, or listed by publisher and name.",
		).At("digest")
	}
	var digests []digest.Value
	for text := range strings.SplitSeq(in.Digest, ",") {
		value, err := hex.DecodeString(strings.TrimSpace(text))
		if err != nil {
			return nil, fault.New(fault.Invalid, fault.BadDigest, "The digest is not written in hexadecimal.").
				At("digest")
		}
		digests = append(digests, value)
	}
	found, err := a.Query.References(ctx, digests, maxReferences)
	return answer(wire.Page[wire.Reference]{Items: convert(found, referenceOf)}, err)
}

func referenceOf(r query.Reference) wire.Reference {
	return wire.Reference{
		Name: plain.Text(r.Path), Size: r.Size, Algorithm: r.Algorithm, Digest: r.Digest.String(),
		Publishers: r.Publishers, Source: plain.Text(r.Source), Label: plain.Text(r.Label), Batch: r.Batch, Item: r.N,
		Record: r.Record, Cleared: r.At.UTC(), Now: r.Now, SignedBy: r.Publisher, Release: plain.Text(r.Release),
	}
}
