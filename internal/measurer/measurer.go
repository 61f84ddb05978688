// Package measurer reads files where this program runs, for a batch that a service
// judges: it lists what there is, is told what to compute, and sends the results.
// docs/formats.md has what goes back and forth, for other programs that do the same.
package measurer

import (
	"context"
	"encoding/base64"
	"fmt"
	"io/fs"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"endeixis/core/container"
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
	Batch(ctx context.Context, batch int64) (wire.Batch, error)
	Assignments(ctx context.Context, batch int64) ([]wire.Assignment, error)
	SendMeasurements(ctx context.Context, batch int64, measured []wire.Submission) (wire.Taken, error)
}

const (
	// pageFiles and pageBytes bound a page of the list of files, the second the
	// content in it.
	pageFiles = 2000
	pageBytes = 8 << 20
	// sendEvery and sendItems bound what is measured before it is sent.
	sendEvery = 5 * time.Second
	sendItems = 2000
)

// List sends what was found in a folder.
func List(ctx context.Context, to Service, batch int64, found *survey.Findings) error {
	n := 0
	page := wire.ListingPage{Files: []wire.ListedFile{}}
	weight := 0
	send := func() error {
		n++
		err := to.SendListing(ctx, batch, n, page)
		page, weight = wire.ListingPage{Files: []wire.ListedFile{}}, 0
		return err
	}
	room := func(bytes int) error {
		if len(page.Files)+len(page.Containers) >= pageFiles || weight > 0 && weight+bytes > pageBytes {
			if err := send(); err != nil {
				return err
			}
		}
		weight += bytes
		return nil
	}
	for _, f := range found.Files {
		listed := wire.ListedFile{
			Path: f.Path, Size: f.Size, ModTime: f.ModTime, Problem: f.Problem, Promised: f.Promised,
			Given: wire.GivenOf(f.Given),
		}
		if !f.Changed.IsZero() {
			listed.Changed = &f.Changed
		}
		if f.Content == nil {
			if err := room(len(f.Path)); err != nil {
				return err
			}
			page.Files = append(page.Files, listed)
			continue
		}
		for part := range parts(f.Content) {
			if err := room(len(part)); err != nil {
				return err
			}
			text := base64.StdEncoding.EncodeToString(part)
			listed.Content = &text
			page.Files = append(page.Files, listed)
			listed.Continued = true
		}
	}
	for _, c := range found.Containers {
		listed := wire.ListedContainer{Path: c.Path, Trouble: c.Trouble}
		for members := range layouts(c.Layout) {
			if err := room(200 * len(members.Members)); err != nil {
				return err
			}
			listed.Layout = members
			page.Containers = append(page.Containers, listed)
			listed.Continued = true
		}
		for name, content := range c.Contents {
			for part := range parts(content) {
				if err := room(len(part)); err != nil {
					return err
				}
				page.Containers = append(page.Containers, wire.ListedContainer{
					Path:      c.Path,
					Contents:  map[string]string{name: base64.StdEncoding.EncodeToString(part)},
					Continued: true,
				})
			}
		}
	}
	if err := send(); err != nil {
		return err
	}
	_, err := to.CloseListing(ctx, batch, n)
	return err
}

// parts cuts content into what fits in a page, at least one.
func parts(content []byte) func(func([]byte) bool) {
	return func(yield func([]byte) bool) {
		for first := true; first || len(content) > 0; first = false {
			n := min(len(content), pageBytes)
			if !yield(content[:n]) {
				return
			}
			content = content[n:]
		}
	}
}

// layouts cuts a layout into what fits in a page, at least one.
func layouts(whole *container.Layout) func(func(*container.Layout) bool) {
	return func(yield func(*container.Layout) bool) {
		part := container.Layout{}
		if whole != nil {
			part = *whole
		}
		members := part.Members
		for first := true; first || len(members) > 0; first = false {
			n := min(len(members), 20_000)
			part.Members = members[:n]
			page := part
			if !yield(&page) {
				return
			}
			members = members[n:]
			part = container.Layout{Format: part.Format, Compression: part.Compression}
		}
	}
}

// Surveyed waits until the service has planned a batch. The batch is returned as it then
// stands, also one that has ended.
func Surveyed(ctx context.Context, at Service, batch int64) (wire.Batch, error) {
	// Whoever waits loses at most a quarter of what it takes.
	for wait := 5 * time.Millisecond; ; wait = min(wait+wait/4, time.Second/2) {
		b, err := at.Batch(ctx, batch)
		if err != nil || b.State != state.BatchWaiting {
			return b, err
		}
		select {
		case <-ctx.Done():
			return b, context.Cause(ctx)
		case <-time.After(wait):
		}
	}
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
		assignments[i] = verify.Assignment{Target: &left[i].Target}
		for _, s := range left[i].Expected {
			assignments[i].Expected = append(assignments[i].Expected, s.Entry())
		}
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
