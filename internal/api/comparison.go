package api

import (
	"context"
	"fmt"

	"endeixis/core/compare"
	"endeixis/core/manifest"
	"endeixis/core/openpgp"
	"endeixis/core/plain"
	"endeixis/internal/batches"
	"endeixis/internal/query"
	"endeixis/internal/wire"
)

func (a *API) compareBatches(ctx context.Context, in *wire.CompareBatchesRequest) (*wire.Comparison, error) {
	from, err := query.Number(in.Cursor, 0)
	if err != nil {
		return nil, err
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
	var n int64
	for _, f := range c.Files {
		out.Counts[f.Kind]++
		if f.Kind == manifest.Unchanged {
			continue
		}
		if n++; n <= from {
			continue
		}
		if len(out.Files) == in.Limit {
			out.Next = fmt.Sprint(from + int64(in.Limit))
			continue
		}
		out.Files = append(out.Files, wire.FileChange{
			Kind: f.Kind, Before: comparedFileOf(f.Before), After: comparedFileOf(f.After),
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

func comparedFileOf(f *compare.File) *wire.ComparedFile {
	if f == nil {
		return nil
	}
	return &wire.ComparedFile{
		Item: f.N, Name: plain.Text(f.Path), Size: f.Size, SHA256: f.SHA256.String(), Verdict: f.Verdict,
	}
}
