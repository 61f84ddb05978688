package api

import (
	"context"
	"encoding/json"
	"time"

	"endeixis/core/judge"
	"endeixis/core/openpgp"
	"endeixis/core/plain"
	"endeixis/internal/inquiries"
	"endeixis/internal/query"
	"endeixis/internal/reassess"
	"endeixis/internal/records"
	"endeixis/internal/state"
	"endeixis/internal/wire"
)

func (a *API) registerReassessments() {
	handle(a, wire.AskReach, a.askReachOfKey)
	handle(a, wire.ShowInquiry, func(ctx context.Context, in *wire.InquiryAt) (*wire.Inquiry, error) {
		return a.inquiry(ctx, in.ID)
	})
	handle(a, wire.ShowKeyUse, a.showKeyUse)
	handle(a, wire.Reassess, a.reassess)
	handle(a, wire.ListReassessments, a.listReassessments)
	handle(a, wire.ShowReassessment, a.showReassessment)
	handle(
		a, wire.ListRejudged,
		func(ctx context.Context, in *wire.ListRejudgedRequest) (*wire.Page[wire.Rejudge], error) {
			return answer(a.rejudged(ctx, in.ID, in.Cursor, in.Limit))
		},
	)
}

func (a *API) askReachOfKey(ctx context.Context, in *wire.KeyAt) (*wire.Inquiry, error) {
	id, err := a.askReach(ctx, in.Fingerprint, nil)
	if err != nil {
		return nil, err
	}
	return a.inquiry(ctx, id)
}

func (a *API) showKeyUse(ctx context.Context, in *wire.KeyAt) (*wire.KeyUse, error) {
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
}

func (a *API) reassess(ctx context.Context, in *wire.ReassessRequest) (*wire.Reassessment, error) {
	p, _ := principal(ctx)
	sel := reassess.Selection{
		Batch: in.Body.Batch, Publisher: in.Body.Publisher, From: in.Body.From, To: in.Body.To,
		Waiting: in.Body.Waiting, All: in.Body.All,
	}
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
}

func (a *API) listReassessments(
	ctx context.Context, in *wire.ListReassessmentsRequest,
) (*wire.Page[wire.Reassessment], error) {
	f := query.RunFilter{Rules: in.Rules, Limit: in.Limit}
	if in.Key != "" {
		v, err := a.Keys.Show(ctx, in.Key)
		if err != nil {
			return nil, err
		}
		f.Key = v.Key.Certificate.Primary.Fingerprint
	}
	page, err := a.Query.Reassessments(ctx, f, in.Cursor)
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
}

func (a *API) showReassessment(ctx context.Context, in *wire.ReassessmentAt) (*wire.Reassessment, error) {
	r, err := a.Query.Reassessment(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	return answer(reassessmentOf(r))
}

// rejudged returns a page of what a reassessment changed.
func (a *API) rejudged(ctx context.Context, id int64, cursor string, limit int) (wire.Page[wire.Rejudge], error) {
	page, err := a.Query.Rejudged(ctx, id, cursor, limit)
	if err != nil {
		return wire.Page[wire.Rejudge]{}, err
	}
	out := wire.Page[wire.Rejudge]{Items: []wire.Rejudge{}, Next: page.Next}
	for _, row := range page.Rows {
		shown := wire.Rejudge{
			Batch: row.Batch, N: row.N, Shown: plain.Text(row.Path), From: row.Before, To: row.After,
			Record: &row.Record, Why: judge.Deciding(row.After, row.Grounds),
		}
		out.Items = append(out.Items, shown)
	}
	return out, nil
}

// askReach asks what rests on a key, and what becomes of it when the key is
// withdrawn or, with newer, when that copy of it is imported. It returns the
// number of the inquiry.
func (a *API) askReach(ctx context.Context, fingerprint string, newer *openpgp.Certificate) (int64, error) {
	_, fp, err := a.Keys.WithChange(ctx, fingerprint, newer)
	if err != nil {
		return 0, err
	}
	q := reassess.ReachQuestion{Key: fp}
	if newer != nil {
		q.Newer = newer.Bytes()
	}
	p, _ := principal(ctx)
	asked, err := a.Inquiries.Ask(ctx, p.Name, inquiries.Reach, q)
	return asked.ID, err
}

// inquiry returns an inquiry, with its answer when it is done.
func (a *API) inquiry(ctx context.Context, id int64) (*wire.Inquiry, error) {
	q, err := a.Inquiries.Get(ctx, id)
	if err != nil {
		return nil, err
	}
	out := &wire.Inquiry{
		ID: q.ID, State: q.State, Done: q.Done, Total: q.Total, Created: q.CreatedAt, Finished: q.FinishedAt,
		Note: plain.Text(q.Note),
	}
	if q.State != state.RunDone {
		return out, nil
	}
	switch q.Kind {
	case inquiries.Audit:
		var report records.Report
		err = json.Unmarshal(q.Answer, &report)
		audit := wire.Audit(report)
		out.Audit = &audit
	case inquiries.Reach:
		var reach reassess.Reach
		err = json.Unmarshal(q.Answer, &reach)
		out.Reach = reachOf(reach)
	}
	return out, err
}

func reachOf(r reassess.Reach) *wire.Reach {
	return &wire.Reach{
		Rests:   r.Rests,
		Batches: r.Batches,
		VerdictChanges: convert(r.VerdictChanges, func(c reassess.VerdictChange) wire.VerdictChange {
			return wire.VerdictChange(c)
		}),
		Items: convert(r.Items, func(c reassess.Change) wire.Rejudge {
			return wire.Rejudge{Batch: c.Batch, N: c.N, Shown: plain.Text(c.Path), From: c.From, To: c.To, Why: c.Why}
		}),
	}
}

func reassessmentOf(r query.Reassessment) (wire.Reassessment, error) {
	out := wire.Reassessment{
		ID:       r.ID,
		Reason:   plain.Text(r.Reason),
		By:       r.AskedBy,
		Created:  r.CreatedAt,
		Finished: r.FinishedAt,
		State:    r.State,
		Note:     plain.Text(r.Note),
		Policy:   r.PolicyVersion,
		Judged:   r.Items,
		Changed:  r.Changed,
		Record:   r.Record,
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
		out[r.N] = &wire.Now{
			Verdict: r.After, At: r.At.In(time.UTC), Reassessment: r.Reassessment, Record: r.Record, Grounds: r.Grounds,
			Deciding: judge.Deciding(r.After, r.Grounds),
		}
	}
	return out, nil
}
