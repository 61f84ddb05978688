package client

import (
	"context"
	"time"

	"endeixis/internal/state"
	"endeixis/internal/wire"
)

// Reach tells what rests on a key, and what a withdrawal would change. progress,
// which may be nil, is called now and then.
func (c *Client) Reach(ctx context.Context, fingerprint string, progress func(wire.Inquiry)) (wire.Reach, error) {
	asked, err := call(ctx, c, wire.AskReach, wire.KeyAt{Fingerprint: fingerprint})
	if err != nil {
		return wire.Reach{}, err
	}
	done, err := c.answer(ctx, asked, progress)
	if err != nil {
		return wire.Reach{}, err
	}
	return *done.Reach, nil
}

// ReachAsked returns the answer to a question about a reach that was asked
// before.
func (c *Client) ReachAsked(ctx context.Context, inquiry int64) (wire.Reach, error) {
	done, err := c.answer(ctx, wire.Inquiry{ID: inquiry, State: state.RunWaiting}, nil)
	if err != nil {
		return wire.Reach{}, err
	}
	return *done.Reach, nil
}

// An Unanswered error reports that a question could not be answered.
type Unanswered struct{ Note string }

// Error says why.
func (u *Unanswered) Error() string { return u.Note }

// answer waits until a question is answered.
func (c *Client) answer(ctx context.Context, q wire.Inquiry, progress func(wire.Inquiry)) (wire.Inquiry, error) {
	for pause := 50 * time.Millisecond; q.State == state.RunWaiting; pause = min(2*pause, time.Second) {
		if progress != nil {
			progress(q)
		}
		select {
		case <-ctx.Done():
			return q, context.Cause(ctx)
		case <-time.After(pause):
		}
		var err error
		if q, err = call(ctx, c, wire.ShowInquiry, wire.InquiryAt{ID: q.ID}); err != nil {
			return q, err
		}
	}
	if q.State == state.RunFailed {
		return q, &Unanswered{q.Note}
	}
	return q, nil
}

// Reassess asks that what is selected be judged again.
func (c *Client) Reassess(ctx context.Context, sel wire.Selection, reason string) (wire.Reassessment, error) {
	return call(ctx, c, wire.Reassess, wire.ReassessRequest{Body: wire.NewReassessment{Selection: sel, Reason: reason}})
}

// Reassessment shows a run.
func (c *Client) Reassessment(ctx context.Context, id int64) (wire.Reassessment, error) {
	return call(ctx, c, wire.ShowReassessment, wire.ReassessmentAt{ID: id})
}

// Rejudged lists all that a run changed.
func (c *Client) Rejudged(ctx context.Context, id int64) ([]wire.Rejudge, error) {
	return all(0, func(cursor string) (wire.Page[wire.Rejudge], error) {
		return call(ctx, c, wire.ListRejudged, wire.ListRejudgedRequest{ID: id, Cursor: cursor, Limit: 500})
	})
}

// Reassessments lists the runs, the newest first.
func (c *Client) Reassessments(ctx context.Context) ([]wire.Reassessment, error) {
	return all(0, func(cursor string) (wire.Page[wire.Reassessment], error) {
		return call(ctx, c, wire.ListReassessments, wire.ListReassessmentsRequest{Cursor: cursor, Limit: 200})
	})
}
