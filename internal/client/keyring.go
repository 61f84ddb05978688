package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"endeixis/internal/wire"
)

// Keys lists the keyring.
func (c *Client) Keys(ctx context.Context, f KeyFilter) ([]wire.Key, error) {
	query := url.Values{"limit": {"500"}}
	for name, value := range map[string]string{"state": f.State, "publisher": f.Publisher, "text": f.Text} {
		if value != "" {
			query.Set(name, value)
		}
	}
	if f.Waiting {
		query.Set("waiting", "true")
	}
	return all[wire.Key](ctx, c, "/keys", query, 0)
}

// A KeyFilter says which keys are listed; the zero value lists all.
type KeyFilter struct {
	State, Publisher string
	// Text is a part of a user ID or of the fingerprint.
	Text string
	// Waiting lists what waits for a curator.
	Waiting bool
}

// Key returns one key.
func (c *Client) Key(ctx context.Context, fingerprint string) (wire.Key, error) {
	var out wire.Key
	return out, c.call(ctx, http.MethodGet, "/keys/"+url.PathEscape(fingerprint), nil, &out)
}

// SightKey notes a sighting.
func (c *Client) SightKey(ctx context.Context, fingerprint, read, channel, place, note string) (wire.Sight, error) {
	var out wire.Sight
	in := map[string]string{"read": read, "channel": channel, "place": place, "note": note}
	return out, c.call(ctx, http.MethodPost, "/keys/"+url.PathEscape(fingerprint)+"/sightings", in, &out)
}

// An Admission asks that a candidate count for a publisher.
type Admission struct {
	Typed     string `json:"typed"`
	Publisher string `json:"publisher"`
	// Role is "release" or "anchor"; empty means the former.
	Role   string `json:"role,omitempty"`
	Reason string `json:"reason"`
}

// AdmitKey admits a candidate or, where two curators decide, proposes it.
func (c *Client) AdmitKey(ctx context.Context, fingerprint string, a Admission) (wire.Key, error) {
	var out wire.Key
	return out, c.call(ctx, http.MethodPost, "/keys/"+url.PathEscape(fingerprint)+"/admission", a, &out)
}

// KeyUse tells what a key has signed that was verified here.
func (c *Client) KeyUse(ctx context.Context, fingerprint string) (wire.KeyUse, error) {
	var out wire.KeyUse
	return out, c.call(ctx, http.MethodGet, "/keys/"+url.PathEscape(fingerprint)+"/use", nil, &out)
}

// DeclineProposal turns down what another curator proposed.
func (c *Client) DeclineProposal(ctx context.Context, fingerprint, reason string) (wire.Key, error) {
	return c.keyStep(ctx, fingerprint, "decline", reason)
}

// WithdrawKey ends that a key counts.
func (c *Client) WithdrawKey(ctx context.Context, fingerprint, reason string) (wire.Key, error) {
	return c.keyStep(ctx, fingerprint, "withdrawal", reason)
}

// ReconsiderKey makes a withdrawn key a candidate again.
func (c *Client) ReconsiderKey(ctx context.Context, fingerprint, reason string) (wire.Key, error) {
	return c.keyStep(ctx, fingerprint, "reconsideration", reason)
}

func (c *Client) keyStep(ctx context.Context, fingerprint, step, reason string) (wire.Key, error) {
	var out wire.Key
	return out, c.call(ctx, http.MethodPost, "/keys/"+url.PathEscape(fingerprint)+"/"+step, map[string]string{"reason": reason}, &out)
}

// ResolveConflict explains a sighting that contradicts its key, named by its
// record.
func (c *Client) ResolveConflict(ctx context.Context, record int64, reason string) (wire.Key, error) {
	var out wire.Key
	return out, c.call(ctx, http.MethodPost, fmt.Sprintf("/sightings/%d/resolution", record), map[string]string{"reason": reason}, &out)
}
