package query

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"

	"endeixis/core/judge"
	"endeixis/core/measure"
	"endeixis/core/survey"
	"endeixis/internal/fault"
	"endeixis/internal/store"
)

// An Item is an item of a batch with all that is known of it.
type Item struct {
	N      int
	Path   string
	Role   survey.Role
	Size   int64
	Survey survey.Item
	// Verdict is nil for what is no artifact and for what has no outcome yet.
	Verdict *judge.Verdict
	// Record is the position of the record of the outcome, or nil; without it there are no
	// Measurement, Grounds and Paths.
	Record      *int64
	Measurement measure.Measurement
	Grounds     []judge.Ground
	Paths       []judge.ProofPath
}

func itemOf(row store.JudgedItem) (Item, error) {
	out := Item{
		N: row.N, Path: row.Path, Role: survey.Role(row.Role), Size: row.Size, Verdict: verdictOf(row.Verdict),
		Record: row.Position, Grounds: []judge.Ground{}, Paths: []judge.ProofPath{},
	}
	if err := json.Unmarshal(row.Survey, &out.Survey); err != nil || row.Position == nil {
		return out, err
	}
	return out, errors.Join(
		json.Unmarshal(row.Evidence.Measurement, &out.Measurement), json.Unmarshal(row.Evidence.Grounds, &out.Grounds),
		json.Unmarshal(row.Evidence.Paths, &out.Paths),
	)
}

// An ItemRow is what a row of a list shows of an item.
type ItemRow struct {
	N    int
	Path string
	Role survey.Role
	Size int64
	// Verdict is nil for what is no artifact and for what has no outcome yet, and Now is the
	// verdict that the newest reassessment made of it, or nil.
	Verdict, Now *judge.Verdict
	// Settled is set for what has an outcome, and Deciding is the sentence of what decides now.
	Settled  bool
	Deciding string
}

func itemRowOf(row store.ItemRow) (ItemRow, error) {
	out := ItemRow{
		N: row.N, Path: row.Path, Role: survey.Role(row.Role), Size: row.Size, Verdict: verdictOf(row.Verdict),
		Now: verdictOf(row.Now), Settled: row.Position != nil,
	}
	if row.Deciding != nil {
		out.Deciding = *row.Deciding
	}
	if out.Now != nil {
		var grounds []judge.Ground
		err := json.Unmarshal(row.NowGrounds, &grounds)
		out.Deciding = judge.Deciding(*out.Now, grounds)
		return out, err
	}
	if row.Evidence.Grounds == nil {
		return out, nil
	}
	// An earlier version stored no sentence with the outcome.
	var item survey.Item
	var o judge.Outcome
	if err := errors.Join(
		json.Unmarshal(row.Evidence.Survey, &item), json.Unmarshal(row.Evidence.Grounds, &o.Grounds),
	); err != nil {
		return out, err
	}
	if out.Verdict != nil {
		o.Verdict = *out.Verdict
	}
	out.Deciding = judge.Line(&item, &o)
	return out, nil
}

// An ItemFilter says which items are listed; what is empty does not limit them.
type ItemFilter struct {
	Verdict judge.Verdict
	// Role may also be “evidence”, for all that is no artifact.
	Role string
	// Match is a pattern with * and ? for the path or its last part.
	Match string
	// Limit is how many are in a page at most.
	Limit int
}

// An Absent is an entry of a manifest without a file.
type Absent struct {
	N              int
	Name, Manifest string
	Line           int
}

func absentOf(row store.Absent) Absent {
	return Absent{N: row.N, Name: row.Name, Manifest: row.Manifest, Line: row.Line}
}

// A Copy is a copy of a batch's manifest, from another channel.
type Copy struct {
	// Of is the path of the manifest.
	Of      string
	Channel survey.Channel
	Place   string
	// Read is what was found in it, or nil before it was had.
	Read *survey.CopyRead
}

// Items lists the items of a batch: the refused first, then those unproven,
// cleared, and what is no artifact, each by path; last what has no outcome yet.
func (s *Service) Items(ctx context.Context, batch int64, f ItemFilter, cursor string) (Page[Item], error) {
	return itemPage(
		ctx, s.store.Items, batch, f, cursor,
		func(i store.JudgedItem) store.ItemPlace { return store.ItemPlace{Rank: i.Rank, N: i.N} }, itemOf,
	)
}

// Rows lists items as [Service.Items] does, with what a row of a list shows.
func (s *Service) Rows(ctx context.Context, batch int64, f ItemFilter, cursor string) (Page[ItemRow], error) {
	return itemPage(
		ctx, s.store.ItemRows, batch, f, cursor,
		func(i store.ItemRow) store.ItemPlace { return store.ItemPlace{Rank: i.Rank, N: i.N} }, itemRowOf,
	)
}

// itemPage asks for a page of a batch's items, in whatever shape list has them; of makes of each
// row what is told of it.
func itemPage[Row, T any](
	ctx context.Context, list func(context.Context, int64, store.ItemFilter) ([]Row, error), batch int64,
	f ItemFilter, cursor string, place func(Row) store.ItemPlace, of func(Row) (T, error),
) (Page[T], error) {
	rank, n, ok, err := pair(cursor)
	if err != nil {
		return Page[T]{}, err
	}
	asked := store.ItemFilter{Verdict: string(f.Verdict), Role: f.Role, Match: f.Match, Limit: f.Limit + 1}
	if ok {
		asked.After = &store.ItemPlace{Rank: int(rank), N: n}
	}
	rows, err := list(ctx, batch, asked)
	if err != nil {
		return Page[T]{}, err
	}
	page := pageOf(rows, f.Limit, func(r Row) string { return fmt.Sprintf("%d.%d", place(r).Rank, place(r).N) })
	out := Page[T]{Rows: make([]T, len(page.Rows)), Next: page.Next}
	for i, row := range page.Rows {
		if out.Rows[i], err = of(row); err != nil {
			return Page[T]{}, err
		}
	}
	return out, nil
}

// Item returns an item of a batch by its number.
func (s *Service) Item(ctx context.Context, batch int64, n int) (Item, error) {
	row, err := s.store.ItemAt(ctx, batch, n)
	if errors.Is(err, store.ErrNotFound) {
		err = fault.New(fault.NotFound, fault.ItemUnknown, "Batch %d has no item %d.", batch, n)
	}
	if err != nil {
		return Item{}, err
	}
	return itemOf(row)
}

// Now returns what items of a batch became by being judged again, for those
// that did.
func (s *Service) Now(ctx context.Context, batch int64, ns ...int) ([]Rejudged, error) {
	rows, err := s.store.RejudgedOf(ctx, batch, ns)
	if err != nil {
		return nil, err
	}
	return rejudgedOf(rows)
}

// Copies lists the copies of a batch's manifests, in the order that they were
// given.
func (s *Service) Copies(ctx context.Context, batch int64) ([]Copy, error) {
	rows, err := s.store.Copies(ctx, batch)
	if err != nil {
		return nil, err
	}
	out := make([]Copy, len(rows))
	for at, row := range rows {
		out[at] = Copy{Of: row.Of, Channel: survey.Channel(row.Channel), Place: row.Place}
		if row.Summary == nil {
			continue
		}
		out[at].Read = &survey.CopyRead{}
		if err := json.Unmarshal(row.Summary, out[at].Read); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Absents lists the entries of a batch whose files are not here.
func (s *Service) Absents(ctx context.Context, batch int64, cursor string, limit int) (Page[Absent], error) {
	after, err := Number(cursor, -1)
	if err == nil && after > math.MaxInt32 {
		err = badCursor()
	}
	if err != nil {
		return Page[Absent]{}, err
	}
	rows, err := s.store.Absents(ctx, batch, int(after), limit+1)
	return pageOf(each(rows, absentOf), limit, func(a Absent) string { return fmt.Sprint(a.N) }), err
}
