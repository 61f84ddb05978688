package api

import (
	"cmp"
	"context"
	"encoding/json"
	"slices"
	"time"

	"endeixis/core/judge"
	"endeixis/core/openpgp"
	"endeixis/core/plain"
	"endeixis/internal/query"
	"endeixis/internal/reassess"
	"endeixis/internal/wire"
)

// shownRejudged bounds the changed items of one run that are shown.
const shownRejudged = 500

func (a *API) registerReassessments() {
	handle(a, wire.ShowReach, func(ctx context.Context, in *wire.KeyAt) (*wire.Reach, error) {
		r, err := a.reach(ctx, in.Fingerprint, nil)
		if err != nil {
			return nil, err
		}
		return answer(*r, nil)
	})
	handle(a, wire.ShowKeyUse, func(ctx context.Context, in *wire.KeyAt) (*wire.KeyUse, error) {
		v, err := a.Keys.Show(ctx, in.Fingerprint)
		if err != nil {
			return nil, err
		}
		u, err := a.Reassess.KeyUse(ctx, v.Key.Certificate.Primary.Fingerprint)
		if err != nil {
			return nil, err
		}
		out := wire.KeyUse{Artifacts: u.Artifacts, Batches: u.Batches, Last: u.Last, Newest: []int64{}}
		err = json.Unmarshal(u.Newest, &out.Newest)
		return answer(out, err)
	})
	handle(a, wire.Reassess, func(ctx context.Context, in *wire.ReassessRequest) (*wire.Reassessment, error) {
		p, _ := principal(ctx)
		sel := reassess.Selection{Batch: in.Body.Batch, Publisher: in.Body.Publisher, From: in.Body.From, To: in.Body.To, All: in.Body.All}
		if in.Body.Key != "" {
			v, err := a.Keys.Show(ctx, in.Body.Key)
			if err != nil {
				return nil, err
			}
			sel.Key = v.Key.Certificate.Primary.Fingerprint
		}
		r, err := a.Reassess.Ask(ctx, p.Name, sel, in.Body.Reason)
		if err != nil {
			return nil, err
		}
		return answer(reassessmentOf(r))
	})
	handle(a, wire.ListReassessments, func(ctx context.Context, in *wire.ListReassessmentsRequest) (*wire.Page[wire.Reassessment], error) {
		page, err := a.Query.Reassessments(ctx, in.Cursor, in.Limit)
		if err != nil {
			return nil, err
		}
		out := wire.Page[wire.Reassessment]{Items: []wire.Reassessment{}, Next: page.Next}
		for _, r := range page.Rows {
			view, err := reassessmentOf(r)
			if err != nil {
				return nil, err
			}
			out.Items = append(out.Items, view)
		}
		return answer(out, nil)
	})
	handle(a, wire.ShowReassessment, func(ctx context.Context, in *wire.ReassessmentAt) (*wire.Reassessment, error) {
		r, err := a.Query.Reassessment(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		out, err := reassessmentOf(r)
		if err != nil {
			return nil, err
		}
		page, err := a.rejudged(ctx, in.ID, "", shownRejudged)
		out.Items = page.Items
		return answer(out, err)
	})
	handle(a, wire.ListRejudged, func(ctx context.Context, in *wire.ListRejudgedRequest) (*wire.Page[wire.Rejudge], error) {
		return answer(a.rejudged(ctx, in.ID, in.Cursor, in.Limit))
	})
}

// rejudged returns a page of what a reassessment changed.
func (a *API) rejudged(ctx context.Context, id int64, cursor string, limit int) (wire.Page[wire.Rejudge], error) {
	page, err := a.Query.Rejudged(ctx, id, cursor, limit)
	if err != nil {
		return wire.Page[wire.Rejudge]{}, err
	}
	out := wire.Page[wire.Rejudge]{Items: []wire.Rejudge{}, Next: page.Next}
	for _, row := range page.Rows {
		one := wire.Rejudge{Batch: row.Batch, N: row.N, Shown: plain.Text(row.Path), From: judge.Verdict(row.Before), To: judge.Verdict(row.After), Record: &row.Position}
		var grounds []judge.Ground
		if err := json.Unmarshal(row.Grounds, &grounds); err != nil {
			return out, err
		}
		one.Why = judge.Deciding(judge.Verdict(row.After), grounds)
		out.Items = append(out.Items, one)
	}
	return out, nil
}

// reach tells what rests on a key, and what becomes of it when the key is
// withdrawn or, with newer, when that copy of it is imported.
func (a *API) reach(ctx context.Context, fingerprint string, newer *openpgp.Certificate) (*wire.Reach, error) {
	ring, fp, err := a.Keys.WithChange(ctx, fingerprint, newer)
	if err != nil {
		return nil, err
	}
	r, err := a.Reassess.Reach(ctx, fp, ring)
	if err != nil {
		return nil, err
	}
	out := &wire.Reach{Rests: r.Rests, Batches: r.Batches, Turns: []wire.Turn{}, Items: []wire.Rejudge{}}
	for turn, n := range r.Changed {
		out.Turns = append(out.Turns, wire.Turn{From: turn.From, To: turn.To, Count: n})
	}
	slices.SortFunc(out.Turns, func(x, y wire.Turn) int { return cmp.Or(cmp.Compare(x.From, y.From), cmp.Compare(x.To, y.To)) })
	for _, j := range r.Items {
		out.Items = append(out.Items, wire.Rejudge{
			Batch: j.Batch, N: j.N, Shown: plain.Text(j.Item.Path), From: j.Before, To: j.Outcome.Verdict, Why: judge.Deciding(j.Outcome.Verdict, j.Outcome.Grounds),
		})
	}
	return out, nil
}

func reassessmentOf(r query.Reassessment) (wire.Reassessment, error) {
	out := wire.Reassessment{
		ID: r.ID, Reason: plain.Text(r.Reason), By: r.AskedBy, Created: r.CreatedAt, Finished: r.FinishedAt, State: r.State, Note: plain.Text(r.Note),
		Policy: r.PolicyVersion, Judged: r.Items, Changed: r.Changed, Record: r.Position,
	}
	return out, json.Unmarshal(r.Selection, &out.Selection)
}

// nowOf returns what items of a batch became by reassessments, by number.
func (a *API) nowOf(ctx context.Context, batch int64, ns ...int) (map[int]*wire.Now, error) {
	rows, err := a.Query.Now(ctx, batch, ns...)
	if err != nil {
		return nil, err
	}
	out := map[int]*wire.Now{}
	for _, r := range rows {
		now := &wire.Now{Verdict: judge.Verdict(r.After), At: r.At.In(time.UTC), Reassessment: r.Reassessment, Record: r.Position, Grounds: []judge.Ground{}}
		if err := json.Unmarshal(r.Grounds, &now.Grounds); err != nil {
			return nil, err
		}
		now.Deciding = judge.Deciding(judge.Verdict(r.After), now.Grounds)
		out[r.N] = now
	}
	return out, nil
}
