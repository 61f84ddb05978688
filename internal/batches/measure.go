package batches

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"sync"
	"time"

	"endeixis/core/diagnose"
	"endeixis/core/judge"
	"endeixis/core/survey"
	"endeixis/core/verify"
	"endeixis/internal/sources"
	"endeixis/internal/state"
	"endeixis/internal/store"
)

const (
	// flushEvery bounds the work that a killed worker has to repeat.
	flushEvery = 2 * time.Second
	// progressEvery bounds how often progress inside a file is announced.
	progressEvery = 250 * time.Millisecond
)

// Measure works on one slice of a batch: it measures, judges and records the
// items that have no outcome yet, a few at a time.
func (s *Service) Measure(ctx context.Context, id int64, slice int) error {
	b, err := s.batch(ctx, id)
	if err != nil || b.State != state.BatchMeasuring || b.StopState != nil {
		return err
	}
	if sourceOf(b).HasMeasurer() {
		return nil // its measurer sends the results
	}
	rows, err := s.store.SliceItems(ctx, id, slice)
	if err != nil {
		return err
	}
	items, err := itemsOf(rows)
	if err != nil {
		return err
	}
	ring, err := s.ringOf(ctx, b)
	if err != nil {
		return err
	}
	session, err := s.Session(ctx, b, ring)
	if err != nil {
		return err
	}
	folder, err := s.sources.Open(sourceOf(b))
	if err != nil {
		return s.unopened(ctx, b, err)
	}
	defer folder.Close()
	if err := s.opened(ctx, b); err != nil {
		return err
	}
	work := sliceWork{
		service: s, batch: b, slice: slice, rows: rows, session: session, folder: folder.FS(), flushed: time.Now(),
		stated: otherFiles{
			s.store, id, sync.OnceValues(func() (map[string]diagnose.StatedAt, error) { return s.stated(ctx, id) }),
		},
	}
	return work.measure(ctx, verify.Files(items))
}

// A sliceWork is a slice that is being measured.
type sliceWork struct {
	service *Service
	batch   store.Batch
	slice   int
	rows    []store.Item
	session *verify.Session
	folder  fs.FS
	stated  otherFiles
	// measured are those that are not stored yet, and read counts the bytes of all.
	measured []verify.Item
	read     int64
	flushed  time.Time

	mu    sync.Mutex
	shown time.Time
}

// measure measures files, and stores what comes of it now and then. A batch that is being ended
// ends it; what is measured by then is still stored.
func (w *sliceWork) measure(ctx context.Context, files []*verify.File) error {
	s := w.service
	reading, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	progress := func(total int64) { w.progress(ctx, total, stop) }
	for _, group := range verify.Groups(files, s.gain) {
		measured, err := verify.Open(reading, w.folder, group, s.witness(w.batch.AskedBy), s.gain, progress)
		if errors.Is(context.Cause(reading), errStopping) {
			return w.flush(ctx, s.keepSome)
		}
		if err != nil {
			return err
		}
		for _, file := range group {
			w.read += measured[file.Path].Size
			for i, item := range file.Items {
				w.measured = append(
					w.measured,
					verify.Item{
						N: w.rows[file.At[i]].N, Planned: item, Measurement: measured[item.Path],
						Holders: file.Items[:i],
					},
				)
			}
		}
		// A file and what it holds are stored together.
		if time.Since(w.flushed) >= flushEvery || len(w.measured) >= s.limits.SliceItems {
			if err := w.flush(ctx, s.keepSome); err != nil {
				return err
			}
		}
	}
	return w.flush(ctx, s.keepLast)
}

// A keeper stores outcomes of a slice.
type keeper func(ctx context.Context, b store.Batch, slice int, items []verify.Item) error

// flush judges what was measured, and has it stored.
func (w *sliceWork) flush(ctx context.Context, keep keeper) error {
	content := verify.Bytes{Folder: w.folder, Again: func(d *verify.Item) (io.ReadCloser, error) {
		return verify.Content(ctx, w.folder, d.Planned, d.Holders)
	}}
	if err := w.session.Settle(ctx, w.measured, content, w.stated); err != nil {
		return err
	}
	err := keep(ctx, w.batch, w.slice, w.measured)
	w.measured, w.flushed = nil, time.Now()
	return err
}

// progress tells how much of a file is read, and stops the reading of a batch that is being ended.
func (w *sliceWork) progress(ctx context.Context, total int64, stop context.CancelCauseFunc) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if time.Since(w.shown) < progressEvery {
		return
	}
	w.shown = time.Now()
	stopping, err := w.service.store.SliceProgress(ctx, w.batch.ID, w.slice, w.read+total)
	if err == nil && stopping {
		stop(errStopping)
	}
}

var errStopping = errors.New("the batch is being ended")

func itemsOf(rows []store.Item) ([]*survey.Item, error) {
	out := make([]*survey.Item, len(rows))
	for i := range rows {
		if err := json.Unmarshal(rows[i].Survey, &out[i]); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// keepSome stores the outcomes of some items of a slice.
func (s *Service) keepSome(ctx context.Context, b store.Batch, slice int, items []verify.Item) error {
	return s.keepAnd(ctx, b, slice, items, func(context.Context, *store.Tx) error { return nil })
}

// keepLast stores the outcomes of the last items of a slice, and orders the next slice.
func (s *Service) keepLast(ctx context.Context, b store.Batch, slice int, items []verify.Item) error {
	return s.keepAnd(ctx, b, slice, items, func(ctx context.Context, tx *store.Tx) error {
		if err := tx.SliceDone(ctx, b.ID, slice); err != nil {
			return err
		}
		next, err := tx.NextDue(ctx, b.ID, slice)
		if err != nil {
			return err
		}
		return s.jobs.Slices(ctx, tx, b.ID, sources.Queue(sourceOf(b)), next)
	})
}

// keepAnd stores outcomes of a slice, and does what belongs to that in the same transaction.
// Items that have an outcome already keep it.
func (s *Service) keepAnd(
	ctx context.Context, b store.Batch, slice int, items []verify.Item,
	and func(ctx context.Context, tx *store.Tx) error,
) error {
	return s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		var expected judge.Expectation
		if err := json.Unmarshal(b.Expected, &expected); err != nil {
			return err
		}
		open, err := unsettled(ctx, tx, b.ID, slice, items)
		if err != nil {
			return err
		}
		if err := and(ctx, tx); err != nil {
			return err
		}
		if err := tx.Announce(ctx, b.ID); err != nil {
			return err
		}
		return s.settle(ctx, tx, b, expected, open)
	})
}

// unsettled locks a slice, and returns those of some of its items that have no outcome
// yet.
func unsettled(
	ctx context.Context, tx *store.Tx, batch int64, slice int, settled []verify.Item,
) ([]verify.Item, error) {
	ns := make([]int, len(settled))
	for i := range settled {
		ns[i] = settled[i].N
	}
	open, err := tx.LockSlice(ctx, batch, slice, ns)
	if err != nil {
		return nil, err
	}
	var out []verify.Item
	for _, d := range settled {
		if open[d.N] {
			out = append(out, d)
		}
	}
	return out, nil
}
