package batches

import (
	"context"
	"encoding/json"
	"errors"
	"io"
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
		return nil // whoever has the files sends what they measure
	}
	rows, err := s.store.SliceItems(ctx, id, slice)
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
	fsys := folder.FS()
	known := otherFiles{
		s.store, id, sync.OnceValues(func() (map[string]diagnose.StatedAt, error) { return s.stated(ctx, id) }),
	}
	content := verify.Bytes{Folder: fsys, Again: func(d *verify.Item) (io.ReadCloser, error) {
		return verify.Content(ctx, fsys, d.Planned, d.Holders)
	}}

	var batch []verify.Item
	read := int64(0)
	lastFlush, lastProgress := time.Now(), time.Time{}
	items, err := itemsOf(rows)
	if err != nil {
		return err
	}
	files := verify.Files(items)
	// What is measured when the batch is being ended is still stored.
	reading, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	flush := func(last bool) error {
		if err := session.Settle(ctx, batch, content, known); err != nil {
			return err
		}
		err := s.flush(ctx, b, slice, batch, last)
		batch, lastFlush = nil, time.Now()
		return err
	}
	var shown sync.Mutex
	progress := func(total int64) {
		shown.Lock()
		defer shown.Unlock()
		if time.Since(lastProgress) >= progressEvery {
			lastProgress = time.Now()
			if stopping, err := s.store.SliceProgress(ctx, id, slice, read+total); err == nil && stopping {
				stop(errStopping)
			}
		}
	}
	for _, group := range verify.Groups(files, s.gain) {
		measured, err := verify.Open(reading, fsys, group, s.witness(b.AskedBy), s.gain, progress)
		if errors.Is(context.Cause(reading), errStopping) {
			return flush(false)
		}
		if err != nil {
			return err
		}
		for _, file := range group {
			read += measured[file.Path].Size
			for i, item := range file.Items {
				batch = append(
					batch,
					verify.Item{
						N: rows[file.At[i]].N, Planned: item, Measurement: measured[item.Path], Holders: file.Items[:i],
					},
				)
			}
		}
		// A file and what it holds are stored together.
		if time.Since(lastFlush) >= flushEvery || len(batch) >= s.limits.SliceItems {
			if err := flush(false); err != nil {
				return err
			}
		}
	}
	return flush(true)
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

// flush stores outcomes and their records in one transaction. Outcomes that
// another worker has stored meanwhile are left out.
func (s *Service) flush(ctx context.Context, b store.Batch, slice int, batch []verify.Item, last bool) error {
	return s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		var expected judge.Expectation
		if err := json.Unmarshal(b.Expected, &expected); err != nil {
			return err
		}
		open, err := unsettled(ctx, tx, b.ID, slice, batch)
		if err != nil {
			return err
		}
		if last {
			if err := tx.SliceDone(ctx, b.ID, slice); err != nil {
				return err
			}
			next, err := tx.NextDue(ctx, b.ID, slice)
			if err != nil {
				return err
			}
			if err := s.jobs.Slices(ctx, tx, b.ID, sources.Queue(sourceOf(b)), next); err != nil {
				return err
			}
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
