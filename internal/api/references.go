package api

import (
	"context"
	"encoding/hex"
	"fmt"
	"strings"

	"endeixis/core/digest"
	"endeixis/core/keyring"
	"endeixis/core/plain"
	"endeixis/internal/fault"
	"endeixis/internal/publishers"
	"endeixis/internal/query"
	"endeixis/internal/wire"
)

// maxReferences bounds how many files with the same bytes are told.
const maxReferences = 50

func (a *API) registerReferences() {
	handle(a, wire.FindReferences, a.findReferences)
	handle(a, wire.NoteReferences, a.noteReferences)
	handle(a, wire.ListNotedReferences, a.listNotedReferences)
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
	digests, err := digestsIn(in.Digest)
	if err != nil {
		return nil, err
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

// digestIn reads a digest in hexadecimal, which stands in a field of a request.
func digestIn(text, field string) (digest.Value, error) {
	value, err := hex.DecodeString(text)
	if err != nil {
		return nil, fault.New(fault.Invalid, fault.BadDigest, "The digest is not written in hexadecimal.").At(field)
	}
	return value, nil
}

// digestsIn reads digests in hexadecimal with commas between.
func digestsIn(list string) ([]digest.Value, error) {
	var out []digest.Value
	for text := range strings.SplitSeq(list, ",") {
		value, err := digestIn(strings.TrimSpace(text), "digest")
		if err != nil {
			return nil, err
		}
		out = append(out, value)
	}
	return out, nil
}

func (a *API) noteReferences(ctx context.Context, in *wire.NoteReferencesRequest) (*wire.Noted, error) {
	p, _ := principal(ctx)
	n := publishers.NewNote{
		Publisher: in.Body.Publisher, Channel: in.Body.Channel, Place: in.Body.Place, Note: in.Body.Note,
	}
	for i, f := range in.Body.Files {
		value, err := digestIn(f.Digest, fmt.Sprintf("files[%d].digest", i))
		if err != nil {
			return nil, err
		}
		file := publishers.NotedFile{Name: f.Name, Digest: value, Size: f.Size}
		if f.Algorithm != "" {
			if file.Algorithm, err = digest.Parse(f.Algorithm); err != nil {
				return nil, fault.New(fault.Invalid, fault.BadDigest, "There is no algorithm %s.", plain.Quoted(f.Algorithm)).
					At(fmt.Sprintf("files[%d].algorithm", i))
			}
		}
		n.Files = append(n.Files, file)
	}
	first, err := a.Publishers.NoteReferences(ctx, p.Name, n)
	return answer(wire.Noted{Record: first, Files: len(n.Files)}, err)
}

func (a *API) listNotedReferences(
	ctx context.Context, in *wire.ListNotedReferencesRequest,
) (*wire.Page[wire.NotedReference], error) {
	var digests []digest.Value
	if in.Digest != "" {
		var err error
		if digests, err = digestsIn(in.Digest); err != nil {
			return nil, err
		}
	}
	page, err := a.Query.NotedReferences(
		ctx, digests, query.ReferenceFilter{Publisher: in.Publisher, Match: in.Match, Limit: in.Limit}, in.Cursor,
	)
	return answer(pageOf(page, func(r query.NotedReference) wire.NotedReference {
		return wire.NotedReference{
			Name: plain.Text(r.Name), Publisher: r.Publisher, Algorithm: r.Algorithm,
			Digest: digest.Value(r.Digest).String(), Size: r.Size, Channel: keyring.Channel(r.Channel),
			Place: plain.Text(r.Place), Note: plain.Text(r.Note), By: r.By, At: r.At.UTC(), Record: r.Position,
		}
	}), err)
}
