package verify

import (
	"context"
	"fmt"
	"io/fs"
	"sync"
	"sync/atomic"

	"endeixis/core/digest"
	"endeixis/core/measure"
	"endeixis/core/survey"
)

// FromMeasurer puts into words of the plan what somebody else read of an item, and sees that it
// is the file that was listed.
func FromMeasurer(item *survey.Item, r measure.Reading, w measure.Attribution) measure.Measurement {
	m := Of(item, r, w)
	if m.Problem == nil && item.Inside == nil && m.Size != item.Size && item.Against == nil {
		m.Problem = &measure.Problem{
			Code:    measure.ChangedWhileReading,
			Message: fmt.Sprintf("it was %d bytes in the list of files, and %d were read", item.Size, m.Size),
		}
		m.Digests, m.SignatureHashes = nil, nil
	}
	return m
}

// An OnSite takes a folder through measure and judge where its files are, with nobody to
// ask.
type OnSite struct {
	Folder      fs.FS
	Plan        *survey.Survey
	Session     *Session
	Attribution measure.Attribution
	OtherFiles  OtherFiles
	Gain        digest.Gain
	Cores       int
	// MaxBytes bounds the files that are read again to explain a difference.
	MaxBytes int64
	// Progress, which may be nil, is told how many bytes were read.
	Progress func(total int64)
}

// Run measures and judges everything in the plan. The items are in its order; done has by
// path what was read here, as it is sent to a service.
func (o *OnSite) Run(ctx context.Context) (items []Item, done map[string]Submission, err error) {
	measured, err := Read(ctx, o.Plan, o.Attribution)
	if err != nil {
		return nil, nil, err
	}
	var assignments []Assignment
	var at []int
	for i := range o.Plan.Items {
		item := &o.Plan.Items[i]
		if m, ok := measured[item.Path]; ok {
			o.Session.Evidence(item, &m)
			continue
		}
		target, _ := item.Target()
		assignments, at = append(assignments, Assignment{Target: target, Expected: item.Listed}), append(at, i)
	}
	results, err := o.measure(ctx, assignments)
	if err != nil {
		return nil, nil, err
	}
	done = map[string]Submission{}
	for i, r := range results {
		item := &o.Plan.Items[at[i]]
		m := FromMeasurer(item, r.Reading, o.Attribution)
		m.Diagnoses = r.Diagnoses
		measured[item.Path], done[item.Path] = m, r
		o.Session.Evidence(item, &m)
	}
	for i := range o.Plan.Items {
		item := &o.Plan.Items[i]
		items = append(items, Item{N: i, Planned: item, Measurement: measured[item.Path]})
	}
	return items, done, o.Session.Settle(ctx, items, Bytes{}, o.OtherFiles)
}

// measure does assignments on all cores, and returns what came of each.
func (o *OnSite) measure(ctx context.Context, assignments []Assignment) ([]Submission, error) {
	out := make([]Submission, len(assignments))
	groups := PartGroups(Parts(assignments), o.Gain, o.Cores)
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	var next, read atomic.Int64
	var wg sync.WaitGroup
	for range min(max(1, o.Cores), len(groups)) {
		wg.Go(func() {
			for i := next.Add(1) - 1; int(i) < len(groups) && ctx.Err() == nil; i = next.Add(1) - 1 {
				last := int64(0)
				results, err := MeasureParts(ctx, o.Folder, groups[i], o.Gain, o.MaxBytes, func(total int64) {
					sum := read.Add(total - last)
					last = total
					if o.Progress != nil {
						o.Progress(sum)
					}
				})
				if err != nil {
					stop(err)
					return
				}
				for k, part := range groups[i] {
					for n, where := range part.At {
						out[where] = results[k][n]
					}
				}
			}
		})
	}
	wg.Wait()
	return out, context.Cause(ctx)
}
