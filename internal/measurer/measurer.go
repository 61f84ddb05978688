// Package measurer reads files where this program runs, for a batch that a service
// judges: it lists what there is, is told what to compute, and sends the results.
// docs/formats.md has what goes back and forth, for other programs that do the same.
package measurer

import (
	"context"
	"fmt"
	"io/fs"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"endeixis/core/digest"
	"endeixis/core/survey"
	"endeixis/core/verify"
	"endeixis/internal/state"
	"endeixis/internal/wire"
)

// A Service judges what is measured here.
type Service interface {
	SendListing(ctx context.Context, batch int64, n int, page wire.ListingPage) error
	CloseListing(ctx context.Context, batch int64, pages int) (wire.Batch, error)
	// FollowUntil returns a batch as soon as it is as wanted, or closed.
	FollowUntil(ctx context.Context, batch int64, reached func(wire.Batch) bool) (wire.Batch, error)
	Assignments(ctx context.Context, batch int64) ([]wire.Assignment, error)
	SendMeasurements(ctx context.Context, batch int64, measured []wire.Submission) (wire.Taken, error)
}

const (
	// sendEvery and sendItems bound what is measured before it is sent.
	sendEvery = 5 * time.Second
	sendItems = 2000
)

// List sends what was found in a folder.
func List(ctx context.Context, to Service, batch int64, found *survey.Findings) error {
	n := 0
	for page := range found.Pages(survey.PageLimits{}) {
		n++
		if err := to.SendListing(ctx, batch, n, wire.ListingOf(page)); err != nil {
			return err
		}
	}
	_, err := to.CloseListing(ctx, batch, n)
	return err
}

// Surveyed waits until the service has planned a batch. The batch is returned as it then
// stands, also one that has ended.
func Surveyed(ctx context.Context, at Service, batch int64) (wire.Batch, error) {
	return at.FollowUntil(ctx, batch, func(b wire.Batch) bool { return b.State != state.BatchWaiting })
}

// Progress tells how far measuring has come.
type Progress struct {
	// Read of Bytes are read, and Done of Items are sent.
	Read, Bytes int64
	Done, Items int
	// File is one that is being read.
	File string
}

// Measure measures what is left of a batch in folder, on all cores, and sends it.
// progress may be nil; it is called by several goroutines. Given up in between, it can be
// called again, and goes on with what is missing.
func Measure(
	ctx context.Context, to Service, batch int64, folder fs.FS, maxBytes int64, progress func(Progress),
) error {
	left, err := to.Assignments(ctx, batch)
	if err != nil {
		return err
	}
	assignments := make([]verify.Assignment, len(left))
	p := Progress{Items: len(left)}
	for i := range left {
		assignments[i] = verify.Assignment{Target: &left[i].Target, Expected: survey.EntriesOf(left[i].Expected)}
		if left[i].Target.Inside == nil {
			p.Bytes += left[i].Target.Size
		}
	}
	w := &worker{service: to, batch: batch, last: time.Now(), progress: progress, progressed: p}
	cores, parts := runtime.GOMAXPROCS(0), verify.Parts(assignments)
	var gain digest.Gain
	if len(parts) > cores { // else each core has one file at most, and nothing is gained
		gain = digest.MeasureGain(time.Now)
	}
	todo := verify.PartGroups(parts, gain, cores)
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	var next atomic.Int64
	var wg sync.WaitGroup
	for range min(cores, len(todo)) {
		wg.Go(func() {
			for i := int(next.Add(1)) - 1; i < len(todo) && ctx.Err() == nil; i = int(next.Add(1)) - 1 {
				if err := w.do(ctx, folder, todo[i], left, gain, maxBytes); err != nil {
					stop(err)
					return
				}
			}
		})
	}
	wg.Wait()
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return w.flush(ctx)
}

// A worker gathers results, and sends many at a time.
type worker struct {
	service  Service
	batch    int64
	progress func(Progress)

	mu sync.Mutex
	// waiting are results by file: those of a file and of what is inside it are sent
	// together.
	waiting    [][]wire.Submission
	items      int
	last       time.Time
	progressed Progress
}

// do measures files that go together, and takes what came of it.
func (w *worker) do(
	ctx context.Context, folder fs.FS, group []verify.Part, left []wire.Assignment, gain digest.Gain, maxBytes int64,
) error {
	var mu sync.Mutex
	before := int64(0)
	upTo := func(total int64) {
		mu.Lock()
		more := total - before
		before += max(more, 0)
		mu.Unlock()
		w.read(group[0].Path, max(more, 0))
	}
	done, err := verify.MeasureParts(ctx, folder, group, gain, maxBytes, upTo)
	if err != nil {
		return err
	}
	size := int64(0)
	for k, part := range group {
		measured := make([]wire.Submission, len(done[k]))
		for i, d := range done[k] {
			measured[i] = wire.Submission{N: left[part.At[i]].N, Reading: d.Reading, Diagnoses: d.Diagnoses}
		}
		if len(done[k]) > 0 {
			size += done[k][0].Reading.Size
		}
		if err := w.add(ctx, measured); err != nil {
			return err
		}
	}
	upTo(size)
	return nil
}

func (w *worker) read(file string, bytes int64) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.progressed.Read += bytes
	w.progressed.File = file
	w.tell()
}

func (w *worker) tell() {
	if w.progress != nil {
		w.progress(w.progressed)
	}
}

func (w *worker) add(ctx context.Context, measured []wire.Submission) error {
	w.mu.Lock()
	w.waiting, w.items = append(w.waiting, measured), w.items+len(measured)
	due := w.items >= sendItems || time.Since(w.last) >= sendEvery
	w.mu.Unlock()
	if !due {
		return nil
	}
	return w.flush(ctx)
}

// flush sends what waits.
func (w *worker) flush(ctx context.Context) error {
	w.mu.Lock()
	files := w.waiting
	w.waiting, w.items, w.last = nil, 0, time.Now()
	w.mu.Unlock()
	var send []wire.Submission
	for i, file := range files {
		send = append(send, file...)
		if len(send) < sendItems && i < len(files)-1 {
			continue
		}
		taken, err := w.service.SendMeasurements(ctx, w.batch, send)
		if err != nil {
			return err
		}
		if len(taken.Declined) > 0 {
			d := taken.Declined[0]
			return &DeclinedError{Item: d.N, Code: d.Code, Reason: d.Reason}
		}
		w.mu.Lock()
		w.progressed.Done += len(send)
		w.tell()
		w.mu.Unlock()
		send = nil
	}
	return nil
}

// A DeclinedError reports a result that the service did not use.
type DeclinedError struct {
	Item         int
	Code, Reason string
}

// Error says why.
func (e *DeclinedError) Error() string {
	return fmt.Sprintf("the service did not use what was measured of item %d: %s", e.Item, e.Reason)
}
