package client

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"endeixis/internal/wire"
)

// Policies lists the changes of the policy and of what publishers have
// otherwise, the newest first.
func (c *Client) Policies(ctx context.Context) ([]wire.PolicyVersion, error) {
	return all[wire.PolicyVersion](ctx, c, "/policies", nil, 0)
}

// SetPolicy puts a new version of the policy in force. The document is a whole
// policy in JSON; the service refuses one with fields missing or unknown.
func (c *Client) SetPolicy(ctx context.Context, document json.RawMessage, reason string) (wire.PolicyVersion, error) {
	var out wire.PolicyVersion
	return out, c.call(ctx, http.MethodPost, "/policies", map[string]any{"document": document, "reason": reason}, &out)
}

// A NewWaiver asks for an exception.
type NewWaiver struct {
	Ground    string    `json:"ground"`
	Publisher string    `json:"publisher,omitempty"`
	Pattern   string    `json:"pattern,omitempty"`
	Until     time.Time `json:"until"`
	Reason    string    `json:"reason"`
}

// Waivers lists the waivers, the newest first.
func (c *Client) Waivers(ctx context.Context) ([]wire.Waiver, error) {
	return all[wire.Waiver](ctx, c, "/waivers", nil, 0)
}

// GrantWaiver grants a waiver.
func (c *Client) GrantWaiver(ctx context.Context, n NewWaiver) (wire.Waiver, error) {
	var out wire.Waiver
	return out, c.call(ctx, http.MethodPost, "/waivers", n, &out)
}

// EndWaiver ends a waiver before its day.
func (c *Client) EndWaiver(ctx context.Context, id int64, reason string) (wire.Waiver, error) {
	var out wire.Waiver
	return out, c.call(ctx, http.MethodPost, fmt.Sprintf("/waivers/%d/end", id), map[string]string{"reason": reason}, &out)
}

// SetOwnPolicy gives a publisher fields of its own; an empty object leaves it
// none.
func (c *Client) SetOwnPolicy(ctx context.Context, publisher string, fields json.RawMessage, reason string) (wire.PolicyVersion, error) {
	var out wire.PolicyVersion
	return out, c.call(ctx, http.MethodPost, "/publishers/"+url.PathEscape(publisher)+"/policies", map[string]any{"fields": fields, "reason": reason}, &out)
}
