// Package query is the read side: lists in pages, in the order that a person
// wants, and what the overview shows. It decides nothing and stores nothing.
package query

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
	"time"
	"unicode"

	"endeixis/core/container"
	"endeixis/core/judge"
	"endeixis/core/survey"
	"endeixis/internal/fault"
	"endeixis/internal/state"
	"endeixis/internal/store"
)

// What is listed, as stored.
type (
	Batch        = store.Batch
	BatchFilter  = store.BatchFilter
	Item         = store.JudgedItem
	ItemFilter   = store.ItemFilter
	ItemRow      = store.ItemRow
	Absent       = store.Absent
	Copy         = store.Copy
	Record       = store.Record
	RecordFilter = store.RecordFilter
	Reassessment = store.Reassessment
	Rejudged     = store.Rejudged
	DayCount     = store.DayCount
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
}

// New returns a Service.
func New(s *store.Store) *Service {
	return &Service{store: s, window: 4_000, patience: 50 * time.Millisecond, few: 20_000}
}

// A Page is a part of a list, and where to go on. Next is empty at the end.
type Page[T any] struct {
	Rows []T
	Next string
}

// pageOf makes a page of rows of which one more than the limit was asked for.
func pageOf[T any](rows []T, limit int, next func(last T) string) Page[T] {
	if len(rows) <= limit {
		return Page[T]{Rows: rows}
	}
	rows = rows[:limit]
	return Page[T]{rows, next(rows[limit-1])}
}

// badCursor reports a cursor that was not given out.
func badCursor() error {
	return fault.New(fault.Invalid, fault.BadCursor, "This is not a cursor that was given out with a list.").At("cursor")
}

// number reads a cursor that is one number; an empty one is start.
func number(cursor string, start int64) (int64, error) {
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

// Batches lists batches, the newest first.
func (s *Service) Batches(ctx context.Context, f BatchFilter, cursor string) (Page[Batch], error) {
	var err error
	if f.Before, err = number(cursor, 0); err != nil {
		return Page[Batch]{}, err
	}
	limit := f.Limit
	f.Limit++
	rows, err := s.store.Batches(ctx, f)
	return pageOf(rows, limit, func(b Batch) string { return fmt.Sprint(b.ID) }), err
}

// Items lists the items of a batch: the refused first, then those unproven,
// cleared, and what is no artifact, each by path; last what has no outcome yet.
func (s *Service) Items(ctx context.Context, batch int64, f ItemFilter, cursor string) (Page[Item], error) {
	return itemPage(
		ctx, s.store.Items, batch, f, cursor,
		func(i Item) store.ItemPlace { return store.ItemPlace{Rank: i.Rank, N: i.N} },
	)
}

// Rows lists items as [Service.Items] does, with what a row of a list shows.
func (s *Service) Rows(ctx context.Context, batch int64, f ItemFilter, cursor string) (Page[ItemRow], error) {
	page, err := itemPage(
		ctx, s.store.ItemRows, batch, f, cursor,
		func(i ItemRow) store.ItemPlace { return store.ItemPlace{Rank: i.Rank, N: i.N} },
	)
	if err != nil {
		return page, err
	}
	for i := range page.Rows {
		if err := decide(&page.Rows[i]); err != nil {
			return page, err
		}
	}
	return page, nil
}

// itemPage asks for a page of a batch's items, in whatever shape list has them.
func itemPage[T any](
	ctx context.Context, list func(context.Context, int64, ItemFilter) ([]T, error), batch int64, f ItemFilter,
	cursor string, place func(T) store.ItemPlace,
) (Page[T], error) {
	rank, n, ok, err := pair(cursor)
	if err != nil {
		return Page[T]{}, err
	}
	if ok {
		f.After = &store.ItemPlace{Rank: int(rank), N: n}
	}
	limit := f.Limit
	f.Limit++
	rows, err := list(ctx, batch, f)
	return pageOf(rows, limit, func(i T) string { return fmt.Sprintf("%d.%d", place(i).Rank, place(i).N) }), err
}

// decide fills in the sentence of a row that an earlier version stored.
func decide(row *ItemRow) error {
	if row.Evidence.Grounds == nil {
		return nil
	}
	var item survey.Item
	var o judge.Outcome
	if err := errors.Join(
		json.Unmarshal(row.Evidence.Survey, &item), json.Unmarshal(row.Evidence.Grounds, &o.Grounds),
	); err != nil {
		return err
	}
	if row.Verdict != nil {
		o.Verdict = judge.Verdict(*row.Verdict)
	}
	line := judge.Line(&item, &o)
	row.Deciding = &line
	return nil
}

// Item returns an item of a batch by its number.
func (s *Service) Item(ctx context.Context, batch int64, n int) (Item, error) {
	row, err := s.store.ItemAt(ctx, batch, n)
	if errors.Is(err, store.ErrNotFound) {
		err = fault.New(fault.NotFound, fault.ItemUnknown, "Batch %d has no item %d.", batch, n)
	}
	return row, err
}

// Now returns what items of a batch became by being judged again, for those
// that did.
func (s *Service) Now(ctx context.Context, batch int64, ns ...int) ([]Rejudged, error) {
	return s.store.RejudgedOf(ctx, batch, ns)
}

// Copies lists the copies of a batch's manifests, in the order that they were
// given.
func (s *Service) Copies(ctx context.Context, batch int64) ([]Copy, error) {
	return s.store.Copies(ctx, batch)
}

// Absents lists the entries of a batch whose files are not here.
func (s *Service) Absents(ctx context.Context, batch int64, cursor string, limit int) (Page[Absent], error) {
	after, err := number(cursor, -1)
	if err == nil && after > math.MaxInt32 {
		err = badCursor()
	}
	if err != nil {
		return Page[Absent]{}, err
	}
	rows, err := s.store.Absents(ctx, batch, int(after), limit+1)
	return pageOf(rows, limit, func(a Absent) string { return fmt.Sprint(a.N) }), err
}

// Records lists records, the newest first, without their bodies. A search for a
// name of one or two characters, which has no index, looks back for a moment
// only: then its page may be short, or empty, and Next says where to go on.
func (s *Service) Records(ctx context.Context, f RecordFilter, cursor string) (Page[Record], error) {
	var err error
	if f.Before, err = number(cursor, 0); err != nil {
		return Page[Record]{}, err
	}
	limit := f.Limit
	f.Limit++
	next := func(r Record) string { return strconv.FormatInt(r.Position, 10) }
	if f.Name == "" {
		rows, err := s.store.Records(ctx, f)
		return pageOf(rows, limit, next), err
	}
	if f.Before == 0 {
		if f.Before, err = s.store.LedgerSize(ctx); err != nil {
			return Page[Record]{}, err
		}
	}
	rows := []Record{}
	for start := time.Now(); ; {
		f.From = max(0, f.Before-s.window)
		found, err := s.store.Records(ctx, f)
		if err != nil {
			return Page[Record]{}, err
		}
		rows, f.Limit, f.Before, f.From = append(rows, found...), f.Limit-len(found), f.From, 0
		switch {
		case f.Limit == 0 || f.Before == 0:
			return pageOf(rows, limit, next), nil
		case indexed(f.Name):
			found, err := s.recordsByName(ctx, f)
			return pageOf(append(rows, found...), limit, next), err
		case time.Since(start) > s.patience:
			return Page[Record]{rows, strconv.FormatInt(f.Before, 10)}, nil
		}
	}
}

// recordsByName asks the index of names: the newest records were not enough, so
// that the name is likely in few.
func (s *Service) recordsByName(ctx context.Context, f RecordFilter) ([]Record, error) {
	if word := rarest(f.Name); word != "" {
		var found []Record
		var selective bool
		err := s.store.Look(ctx, func(ctx context.Context, reads store.Reads) (err error) {
			found, selective, err = reads.RecordsByWord(ctx, f, word, s.few)
			return err
		})
		if selective || err != nil {
			return found, err
		}
	}
	return s.store.RecordsByName(ctx, f)
}

// indexed reports whether the index of names can find a part of one: it holds
// every three letters or digits in a row.
func indexed(name string) bool {
	run := 0
	for _, r := range name {
		if run++; !unicode.IsLetter(r) && !unicode.IsDigit(r) {
			run = 0
		}
		if run == 3 {
			return true
		}
	}
	return false
}

// rarest returns the part of a name that is likely in the fewest names: the
// longest number in it of two digits or more, with the signs around it. It
// returns nothing when there is none.
func rarest(name string) string {
	best := ""
	for _, found := range numbers.FindAllString(name, -1) {
		if len(found) > len(best) {
			best = found
		}
	}
	return best
}

// numbers are whole words to the index of names. The sign behind one may be the
// one before the next, so that of two neighbours the first is seen alone.
var numbers = regexp.MustCompile(`[-_./ ][0-9]{2,}[-_./ ]`)

// Reassessments lists runs of judging again, the newest first.
func (s *Service) Reassessments(ctx context.Context, cursor string, limit int) (Page[Reassessment], error) {
	before, err := number(cursor, 0)
	if err != nil {
		return Page[Reassessment]{}, err
	}
	rows, err := s.store.Reassessments(ctx, before, limit+1)
	return pageOf(rows, limit, func(r Reassessment) string { return fmt.Sprint(r.ID) }), err
}

// Reassessment returns a run of judging again by its number.
func (s *Service) Reassessment(ctx context.Context, id int64) (Reassessment, error) {
	r, err := s.store.Reassessment(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		err = fault.New(fault.NotFound, fault.ReassessmentUnknown, "There is no reassessment %d.", id)
	}
	return r, err
}

// Rejudged lists the artifacts whose verdict a run of judging again changed.
func (s *Service) Rejudged(ctx context.Context, id int64, cursor string, limit int) (Page[Rejudged], error) {
	batch, n, ok, err := pair(cursor)
	if err != nil {
		return Page[Rejudged]{}, err
	}
	if !ok {
		n = -1
	}
	rows, err := s.store.RejudgedIn(ctx, id, batch, n, limit+1)
	return pageOf(rows, limit, func(r Rejudged) string { return fmt.Sprintf("%d.%d", r.Batch, r.N) }), err
}

// Size returns how many records there are.
func (s *Service) Size(ctx context.Context) (int64, error) { return s.store.LedgerSize(ctx) }

// Full reports whether the database had no space left when something was last to be
// stored.
func (s *Service) Full() bool { return s.store.Full() }

// Answers fails when the database does not answer.
func (s *Service) Answers(ctx context.Context) error { return s.store.Ping(ctx) }

// An Overview is what is to be seen first. Each list is the beginning of a
// longer one.
type Overview struct {
	Refused, Unproven, Running, Recent []Batch
	// Days counts the verdicts of the last thirty days.
	Days    []DayCount
	Records int64
}

// Overview gathers it.
func (s *Service) Overview(ctx context.Context, now time.Time) (Overview, error) {
	var o Overview
	for _, part := range []struct {
		into   *[]Batch
		filter BatchFilter
	}{
		{&o.Refused, BatchFilter{Verdict: "refused", Limit: 5}},
		{&o.Unproven, BatchFilter{Verdict: "unproven", Limit: 5}},
		{&o.Running, BatchFilter{State: state.BatchMeasuring, Limit: 10}},
		{&o.Running, BatchFilter{State: state.BatchWaiting, Limit: 10}},
		{&o.Recent, BatchFilter{Limit: 8}},
	} {
		rows, err := s.store.Batches(ctx, part.filter)
		if err != nil {
			return o, err
		}
		*part.into = append(*part.into, rows...)
	}
	var err error
	if o.Days, err = s.store.OutcomesByDay(ctx, now.AddDate(0, 0, -30)); err != nil {
		return o, err
	}
	o.Records, err = s.store.LedgerSize(ctx)
	return o, err
}

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
