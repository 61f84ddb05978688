// Package query is the read side: lists in pages, in the order that a person
// wants, and what the overview shows. It decides nothing and stores nothing.
package query

import (
	"context"
	"math"
	"strconv"
	"strings"
	"time"

	"endeixis/internal/fault"
	"endeixis/internal/store"
)

// Service answers.
type Service struct {
	store *store.Store
	// A search looks through the newest records, a window of them at a time. One
	// that has no index goes on until it has been patient for this long.
	window   int64
	patience time.Duration
	// few is up to how many records are looked at one by one for a name.
	few int
	// atOnce is how many records one question of a search looks at, and up to how many are counted.
	atOnce int
}

// New returns a Service.
func New(s *store.Store) *Service {
	return &Service{store: s, window: 4_000, patience: 50 * time.Millisecond, few: 20_000, atOnce: 10_000}
}

// A Page is a part of a list, and where to go on. Next is empty at the end.
type Page[T any] struct {
	Rows []T
	Next string
	// Count is how many there are in all, where that was counted, and nil where not. AtLeast says that there
	// may be more.
	Count   *int
	AtLeast bool
}

// pageOf makes a page of rows of which one more than the limit was asked for.
func pageOf[T any](rows []T, limit int, next func(last T) string) Page[T] {
	if len(rows) <= limit {
		return Page[T]{Rows: rows}
	}
	rows = rows[:limit]
	return Page[T]{Rows: rows, Next: next(rows[limit-1])}
}

// each returns what f makes of each row.
func each[Row, T any](rows []Row, f func(Row) T) []T {
	out := make([]T, len(rows))
	for i, row := range rows {
		out[i] = f(row)
	}
	return out
}

// badCursor reports a cursor that was not given out.
func badCursor() error {
	return fault.New(fault.Invalid, fault.BadCursor, "This is not a cursor that was given out with a list.").At("cursor")
}

// Number reads a cursor that is one number; an empty one is start. It returns a [*fault.Fault] for any other.
func Number(cursor string, start int64) (int64, error) {
	if cursor == "" {
		return start, nil
	}
	n, err := strconv.ParseInt(cursor, 10, 64)
	if err != nil || n < 0 {
		return 0, badCursor()
	}
	return n, nil
}

// pair reads a cursor that is two numbers; ok is false for an empty one.
func pair(cursor string) (first int64, second int, ok bool, err error) {
	if cursor == "" {
		return 0, 0, false, nil
	}
	a, b, found := strings.Cut(cursor, ".")
	first, err1 := strconv.ParseInt(a, 10, 64)
	second, err2 := strconv.Atoi(b)
	if !found || err1 != nil || err2 != nil || first < 0 || second < 0 || second > math.MaxInt32 {
		return 0, 0, false, badCursor()
	}
	return first, second, true, nil
}

// Size returns how many records there are.
func (s *Service) Size(ctx context.Context) (int64, error) { return s.store.LedgerSize(ctx) }

// Full reports whether the database had no space left when something was last to be
// stored.
func (s *Service) Full() bool { return s.store.Full() }

// Answers fails when the database does not answer.
func (s *Service) Answers(ctx context.Context) error { return s.store.Ping(ctx) }
