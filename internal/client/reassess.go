package client

import (
	"context"

	"endeixis/internal/wire"
)

// Reach tells what rests on a key, and what a withdrawal would change.
func (c *Client) Reach(ctx context.Context, fingerprint string) (wire.Reach, error) {
	return call(ctx, c, wire.ShowReach, wire.KeyAt{Fingerprint: fingerprint})
}

// Reassess asks that what is selected be judged again.
func (c *Client) Reassess(ctx context.Context, sel wire.Selection, reason string) (wire.Reassessment, error) {
	return call(ctx, c, wire.Reassess, wire.ReassessRequest{Body: wire.NewReassessment{Selection: sel, Reason: reason}})
}

// Reassessment shows a run with the beginning of what it changed.
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
