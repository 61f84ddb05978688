package query

import (
	"context"

	"endeixis/core/container"
	"endeixis/core/judge"
)

// Linked returns the numbers of the items that the links of an item's proof paths
// lead to, and of what holds it, by path.
func (s *Service) Linked(
	ctx context.Context, batch int64, path string, paths []judge.ProofPath,
) (map[string]int, error) {
	var refs []string
	for holder, _ := container.Within(path); holder != ""; holder, _ = container.Within(holder) {
		refs = append(refs, holder)
	}
	for _, p := range paths {
		for _, l := range p.Links {
			if l.Ref != "" {
				refs = append(refs, l.Ref)
			}
		}
	}
	if len(refs) == 0 {
		return nil, nil
	}
	return s.store.ItemNumbers(ctx, batch, refs)
}
