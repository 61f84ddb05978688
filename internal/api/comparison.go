package api

import (
	"context"
	"strconv"

	"endeixis/core/compare"
	"endeixis/core/judge"
	"endeixis/core/manifest"
	"endeixis/core/openpgp"
	"endeixis/core/plain"
	"endeixis/internal/batches"
	"endeixis/internal/fault"
	"endeixis/internal/wire"
)

func (a *API) compareBatches(ctx context.Context, in *wire.CompareBatchesRequest) (*wire.Comparison, error) {
	from := 0
	if in.Cursor != "" {
		var err error
		if from, err = strconv.Atoi(in.Cursor); err != nil || from < 0 {
			return nil, fault.New(fault.Invalid, fault.BadCursor, "The cursor is not one that a page has named.").
				At("cursor")
		}
	}
	// Lists of packages are read from depots, of which a limited token may see its own only.
	p, _ := principal(ctx)
	c, err := a.Batches.Compare(ctx, in.Before, in.After, from == 0 && !p.Limited())
	if err != nil {
		return nil, err
	}
	out := wire.Comparison{
		Before: comparedBatchOf(c.Before), After: comparedBatchOf(c.After), Counts: map[manifest.ChangeKind]int{},
		Files: []wire.FileChange{},
	}
	n := 0
	for _, f := range c.Files {
		out.Counts[f.Kind]++
		if f.Kind == manifest.Unchanged {
			continue
		}
		if n++; n <= from {
			continue
		}
		if len(out.Files) == in.Limit {
			out.Next = strconv.Itoa(from + in.Limit)
			continue
		}
		out.Files = append(out.Files, wire.FileChange{
			Kind: f.Kind, Before: comparedFileOf(f.Before, f.Was), After: comparedFileOf(f.After, f.Now),
		})
	}
	out.Packages = convert(c.Packages, func(p batches.PackageLists) wire.PackageLists {
		return wire.PackageLists{
			Before: plain.Text(p.Before), After: plain.Text(p.After), Trouble: p.Trouble,
			Changes: convert(p.Changes, func(c compare.PackageChange) wire.PackageChange {
				return wire.PackageChange{
					Kind: c.Kind, Name: plain.Text(c.Name), Before: plain.Text(c.Before), After: plain.Text(c.After),
				}
			}),
		}
	})
	return answer(out, nil)
}

func comparedBatchOf(c batches.Compared) wire.ComparedBatch {
	return wire.ComparedBatch{Batch: batchOf(c.Batch), Keys: append([]openpgp.Fingerprint{}, c.Keys...)}
}

func comparedFileOf(f *compare.File, verdict judge.Verdict) *wire.ComparedFile {
	if f == nil {
		return nil
	}
	return &wire.ComparedFile{
		Item: f.N, Name: plain.Text(f.Path), Size: f.Size, SHA256: f.SHA256.String(), Verdict: verdict,
	}
}
