package query

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"endeixis/core/judge"
)

// A Standing is a batch that needs attention, with the reason and the one act that helps.
type Standing struct {
	Batch
	// Item and Path are the file that decides, or 0 and empty where no file does.
	N        int
	Path     string
	Why, Act string
}

// standingOrder is that of the verdicts that need attention.
var standingOrder = []judge.Verdict{judge.Refused, judge.Unproven}

// Standing lists the batches that need attention, the refused first, each the newest first.
func (s *Service) Standing(ctx context.Context, cursor string, limit int) (Page[Standing], error) {
	from, before := 0, int64(0)
	if cursor != "" {
		verdict, id, _ := strings.Cut(cursor, ".")
		n, err := strconv.ParseInt(id, 10, 64)
		for from < len(standingOrder) && string(standingOrder[from]) != verdict {
			from++
		}
		if err != nil || n < 0 || from == len(standingOrder) {
			return Page[Standing]{}, badCursor()
		}
		before = n
	}
	var batches []Batch
	for _, verdict := range standingOrder[from:] {
		asked := BatchFilter{Verdict: verdict, Unsettled: true, Limit: limit + 1 - len(batches)}.store()
		asked.Before = before
		rows, err := s.store.Batches(ctx, asked)
		if err != nil {
			return Page[Standing]{}, err
		}
		batches, before = append(batches, each(rows, BatchOf)...), 0
		if len(batches) > limit {
			break
		}
	}
	page := pageOf(batches, limit, func(b Batch) string { return fmt.Sprintf("%s.%d", b.present(), b.ID) })
	out := Page[Standing]{Rows: make([]Standing, len(page.Rows)), Next: page.Next}
	for i, b := range page.Rows {
		standing, err := s.standing(ctx, b)
		if err != nil {
			return Page[Standing]{}, err
		}
		out.Rows[i] = standing
	}
	return out, nil
}

// present is the verdict of a batch by now.
func (b *Batch) present() judge.Verdict {
	if b.Now != nil {
		return b.Now.Verdict
	}
	if b.Verdict != nil {
		return *b.Verdict
	}
	return ""
}

// standing says why a batch needs attention: by its worst artifact or, where none is as bad as the batch, by its note.
func (s *Service) standing(ctx context.Context, b Batch) (Standing, error) {
	out := Standing{Batch: b, Why: b.Note}
	if out.Why == "" {
		out.Why = "Nothing in it is cleared."
	}
	found, err := s.Items(ctx, b.ID, ItemFilter{Verdict: b.present(), Role: "artifact", Limit: 1}, "")
	if err != nil || len(found.Rows) == 0 {
		return out, err
	}
	item := found.Rows[0]
	grounds := item.Grounds
	now, err := s.Now(ctx, b.ID, item.N)
	if err != nil {
		return out, err
	}
	if len(now) == 1 {
		grounds = now[0].Grounds
	}
	out.N, out.Path = item.N, item.Path
	if why := judge.Deciding(b.present(), grounds); why != "" {
		out.Why = why
	}
	for i := range grounds {
		if grounds[i].Sentence == out.Why {
			out.Act = grounds[i].Advice
		}
	}
	return out, nil
}
