package client

import (
	"context"
	"encoding/json"

	"endeixis/internal/wire"
)

// Policies lists the changes of the policy and of what publishers have
// otherwise, the newest first.
func (c *Client) Policies(ctx context.Context) ([]wire.PolicyVersion, error) {
	page, err := call(ctx, c, wire.ListPolicies, wire.Nothing{})
	return page.Items, err
}

// SetPolicy puts a new version of the policy in force. The document is a whole
// policy in JSON; the service refuses one with fields missing or unknown.
func (c *Client) SetPolicy(ctx context.Context, document json.RawMessage, reason string) (wire.PolicyVersion, error) {
	return call(ctx, c, asWritten, asWrittenRequest{Body: asWrittenPolicy{document, reason}})
}

// asWritten is [wire.SetPolicy] with the document as somebody wrote it, so that
// it is the service that says what is wrong with it.
var asWritten = wire.Operation[asWrittenRequest, wire.PolicyVersion]{
	Method: wire.SetPolicy.Method, Path: wire.SetPolicy.Path,
}

type asWrittenRequest struct{ Body asWrittenPolicy }

type asWrittenPolicy struct {
	Document json.RawMessage `json:"document"`
	Reason   string          `json:"reason"`
}

// Waivers lists the waivers, the newest first.
func (c *Client) Waivers(ctx context.Context) ([]wire.Waiver, error) {
	page, err := call(ctx, c, wire.ListWaivers, wire.Nothing{})
	return page.Items, err
}

// GrantWaiver grants a waiver.
func (c *Client) GrantWaiver(ctx context.Context, n wire.NewWaiver) (wire.Waiver, error) {
	return call(ctx, c, wire.GrantWaiver, wire.GrantWaiverRequest{Body: n})
}

// EndWaiver ends a waiver before its day.
func (c *Client) EndWaiver(ctx context.Context, id int64, reason string) (wire.Waiver, error) {
	return call(ctx, c, wire.EndWaiver, wire.EndWaiverRequest{ID: id, Body: wire.Reasoned{Reason: reason}})
}

// SetOwnPolicy gives a publisher fields of its own; an empty object leaves it
// none.
func (c *Client) SetOwnPolicy(
	ctx context.Context, publisher string, fields json.RawMessage, reason string,
) (wire.PolicyVersion, error) {
	return call(
		ctx, c, wire.SetOwnPolicy,
		wire.SetOwnPolicyRequest{Slug: publisher, Body: wire.OwnPolicy{Fields: fields, Reason: reason}},
	)
}
