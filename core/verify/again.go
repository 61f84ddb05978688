package verify

import (
	"context"
	"errors"
	"runtime"
	"slices"
	"sync"

	"endeixis/core/judge"
	"endeixis/core/measure"
	"endeixis/core/survey"
)

// A Rejudgement is an artifact that was judged again.
type Rejudgement struct {
	// N is the number that it was given with.
	N       int
	Item    *survey.Item
	Outcome judge.Outcome
	// Bears: a signature by one of the issuers that were asked for bears on it,
	// or on a container around it.
	Bears bool
}

// Again judges stored items again, on all cores, and returns the artifacts among
// n, in their order. load returns an item and its measurement as stored; it is
// called from several goroutines. Containers come first, in their order: what
// they hold rests on them. Their outcomes are kept for the next call.
//
// issuers are what signatures by the key in question may name, or nil.
func (s *Session) Again(
	ctx context.Context, n int, load func(i int) (*survey.Item, *measure.Measurement, error), issuers []string,
) ([]Rejudgement, error) {
	items, measured := make([]*survey.Item, n), make([]*measure.Measurement, n)
	if err := each(n, func(i int) (err error) {
		items[i], measured[i], err = load(i)
		return err
	}); err != nil {
		return nil, err
	}
	if err := s.Recall(ctx, n, func(i int) (*survey.Item, *measure.Measurement) {
		return items[i], measured[i]
	}); err != nil {
		return nil, err
	}
	outcomes := make([]judge.Outcome, n)
	for i, item := range items {
		if item.Holds != nil {
			outcomes[i] = s.Judge(item, measured[i])
			s.bears[item.Path] = s.bearsOn(item, &outcomes[i], issuers)
		}
	}
	if err := each(n, func(i int) error {
		if items[i].Holds == nil && items[i].Role == survey.Artifact {
			outcomes[i] = s.Judge(items[i], measured[i])
		}
		return nil
	}); err != nil {
		return nil, err
	}
	var out []Rejudgement
	for i, item := range items {
		if item.Role == survey.Artifact {
			out = append(
				out, Rejudgement{N: i, Item: item, Outcome: outcomes[i], Bears: s.bearsOn(item, &outcomes[i], issuers)},
			)
		}
	}
	return out, nil
}

// bearsOn reports whether a signature by one of the issuers bears on an outcome,
// or on that of a container around it.
func (s *Session) bearsOn(item *survey.Item, o *judge.Outcome, issuers []string) bool {
	return item.Inside != nil && s.bears[item.Inside.Of] || slices.ContainsFunc(o.Grounds, func(g judge.Ground) bool {
		f := g.Signature
		return f != nil &&
			(slices.Contains(issuers, string(f.Key)) || slices.Contains(issuers, string(f.MadeBy)) ||
				slices.Contains(issuers, f.Issuer))
	})
}

// each calls f for every number below n, on all cores, and returns the errors.
func each(n int, f func(i int) error) error {
	workers := min(runtime.GOMAXPROCS(0), n)
	failed := make([]error, workers)
	var wg sync.WaitGroup
	for w := range workers {
		wg.Go(func() {
			for i := w; i < n; i += workers {
				if err := f(i); err != nil {
					failed[w] = err
					return
				}
			}
		})
	}
	wg.Wait()
	return errors.Join(failed...)
}
