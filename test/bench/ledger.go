package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"endeixis/internal/pgserver"
	"endeixis/internal/recorded"
	"endeixis/internal/records"
	"endeixis/internal/store"
)

// ofRecords is a ledger of the benchmarks, without a service around it.
type ofRecords struct {
	store   *store.Store
	records *records.Service
	size    int
}

// append writes records, as many of them together as a slice of a batch does.
func (l *ofRecords) append(ctx context.Context, n int) error {
	for written := 0; written < n; {
		entries := make([]records.Entry, min(5000, n-written))
		for i := range entries {
			name := fmt.Sprintf("part-%07d.img", l.size+i)
			entries[i] = records.Entry{
				By: "bench", Subject: name,
				Body: recorded.BatchCancelled{Batch: int64(i), Reason: strings.Repeat(name+" ", 25)},
			}
		}
		if err := l.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
			_, err := l.records.Append(ctx, tx, entries...)
			return err
		}); err != nil {
			return err
		}
		written, l.size = written+len(entries), l.size+len(entries)
	}
	return nil
}

// middle returns the median of some runs.
func middle(n int, f func(i int) error) (time.Duration, error) {
	var all []time.Duration
	for i := range n {
		start := time.Now()
		if err := f(i); err != nil {
			return 0, err
		}
		all = append(all, time.Since(start))
	}
	slices.Sort(all)
	return all[n/2], nil
}

// theLedger measures what is done with a ledger of 10,000 records and of 1,000,000.
func theLedger(dir string) ([]row, error) {
	ctx := context.Background()
	url, err := pgserver.CreateDatabase(ctx, os.Getenv(pgserver.TestVariable))
	if err != nil {
		return nil, err
	}
	s, err := store.Open(ctx, url)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	if err := s.Migrate(ctx); err != nil {
		return nil, err
	}
	l := &ofRecords{
		store: s, records: records.New(s, func() time.Time { return time.Now().UTC().Truncate(time.Microsecond) }),
	}
	if _, err := l.records.Init(ctx, filepath.Join(dir, "records.key"), "bench.example"); err != nil {
		return nil, err
	}
	if err := l.records.Resume(ctx); err != nil {
		return nil, err
	}
	type times struct{ one, receipt, news time.Duration }
	audit := func(q records.AuditQuestion) error {
		report, err := l.records.Audit(ctx, q, func(int64, int64) {})
		if err == nil && !report.Clean {
			err = fmt.Errorf("the audit found: %s", report.Sentence)
		}
		return err
	}
	at := func(size int) (t times, err error) {
		if err := l.append(ctx, size-l.size); err != nil {
			return t, err
		}
		if _, err := s.Pool.Exec(ctx, "VACUUM ANALYZE"); err != nil {
			return t, err
		}
		if _, _, err := l.records.Sign(ctx); err != nil {
			return t, err
		}
		if err := audit(records.AuditQuestion{}); err != nil {
			return t, err
		}
		if t.one, err = middle(101, func(int) error { return l.append(ctx, 1) }); err != nil {
			return t, err
		}
		if t.receipt, err = middle(
			101, func(i int) error { _, err := l.records.Receipt(ctx, int64(i*(size/101))); return err },
		); err != nil {
			return t, err
		}
		if err := audit(records.AuditQuestion{}); err != nil {
			return t, err
		}
		if err := l.append(ctx, 1000); err != nil {
			return t, err
		}
		start := time.Now()
		err = audit(records.AuditQuestion{})
		t.news = time.Since(start)
		return t, err
	}
	limits, err := at(10_000)
	if err != nil {
		return nil, err
	}
	many, err := at(1_000_000)
	if err != nil {
		return nil, err
	}
	peak := watchMemory()
	start := time.Now()
	if err := audit(records.AuditQuestion{Full: true}); err != nil {
		return nil, err
	}
	whole, used := time.Since(start), peak()
	return []row{
		cost("one record appended, at 1,000,000", "the same at 10,000", 2, many.one, limits.one),
		cost("a receipt, at 1,000,000 records", "the same at 10,000", 2, many.receipt, limits.receipt),
		cost("an audit after 1,000 new records, at 1,000,000", "the same at 10,000", 2, many.news, limits.news),
		{
			work:    "an audit of 1,000,000 records from the first on: memory",
			floor:   "—",
			aim:     "≤ 64 MiB more",
			ours:    whole,
			against: whole,
			reached: used <= 64<<20,
			figure:  fmt.Sprintf("%d MiB", used>>20),
			note:    "the times are the audit's",
		},
	}, nil
}

// watchMemory returns by how much the heap in use has grown at most until it is asked.
func watchMemory() func() uint64 {
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	before, most := m.HeapInuse, m.HeapInuse
	stop, done := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(done)
		for {
			select {
			case <-stop:
				return
			case <-time.After(50 * time.Millisecond):
				runtime.ReadMemStats(&m)
				most = max(most, m.HeapInuse)
			}
		}
	}()
	return func() uint64 {
		close(stop)
		<-done
		return most - before
	}
}
