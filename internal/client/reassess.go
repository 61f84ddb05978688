package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"endeixis/internal/wire"
)

// Reach tells what rests on a key, and what a withdrawal would change.
func (c *Client) Reach(ctx context.Context, fingerprint string) (wire.Reach, error) {
	var out wire.Reach
	return out, c.call(ctx, http.MethodGet, "/keys/"+url.PathEscape(fingerprint)+"/reach", nil, &out)
}

// Reassess asks that what is selected be judged again.
func (c *Client) Reassess(ctx context.Context, sel wire.Selection, reason string) (wire.Reassessment, error) {
	var out wire.Reassessment
	in := struct {
		wire.Selection
		Reason string `json:"reason"`
	}{sel, reason}
	return out, c.call(ctx, http.MethodPost, "/reassessments", in, &out)
}

// Reassessment shows a run with what it changed.
func (c *Client) Reassessment(ctx context.Context, id int64) (wire.Reassessment, error) {
	var out wire.Reassessment
	return out, c.call(ctx, http.MethodGet, fmt.Sprintf("/reassessments/%d", id), nil, &out)
}

// Reassessments lists the runs, the newest first.
func (c *Client) Reassessments(ctx context.Context) ([]wire.Reassessment, error) {
	return all[wire.Reassessment](ctx, c, "/reassessments", nil, 0)
}
