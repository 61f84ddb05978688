package client

import (
	"context"

	"endeixis/core/keyring"
	"endeixis/internal/wire"
)

// A KeyFilter says which keys are listed; the zero value lists all.
type KeyFilter struct {
	State     keyring.State
	Publisher string
	// Text is a part of a user ID or of the fingerprint.
	Text string
	// Waiting lists what waits for a curator.
	Waiting bool
}

// Keys lists the keyring.
func (c *Client) Keys(ctx context.Context, f KeyFilter) ([]wire.Key, error) {
	return all(0, func(cursor string) (wire.Page[wire.Key], error) {
		return call(
			ctx, c, wire.ListKeys,
			wire.ListKeysRequest{
				State: f.State, Publisher: f.Publisher, Text: f.Text, Waiting: f.Waiting, Cursor: cursor, Limit: 500,
			},
		)
	})
}

// Key returns one key.
func (c *Client) Key(ctx context.Context, fingerprint string) (wire.Key, error) {
	return call(ctx, c, wire.ShowKey, wire.KeyAt{Fingerprint: fingerprint})
}

// SightKey notes a sighting.
func (c *Client) SightKey(ctx context.Context, fingerprint string, s wire.NewSighting) (wire.Sight, error) {
	return call(ctx, c, wire.SightKey, wire.SightKeyRequest{Fingerprint: fingerprint, Body: s})
}

// AdmitKey admits a candidate or, where two curators decide, proposes it.
func (c *Client) AdmitKey(ctx context.Context, fingerprint string, a wire.Admission) (wire.Key, error) {
	return call(ctx, c, wire.AdmitKey, wire.AdmitKeyRequest{Fingerprint: fingerprint, Body: a})
}

// KeyUse tells what a key has signed that was verified here.
func (c *Client) KeyUse(ctx context.Context, fingerprint string) (wire.KeyUse, error) {
	return call(ctx, c, wire.ShowKeyUse, wire.KeyAt{Fingerprint: fingerprint})
}

// DeclineProposal turns down what another curator proposed.
func (c *Client) DeclineProposal(ctx context.Context, fingerprint, reason string) (wire.Key, error) {
	return c.keyStep(ctx, wire.DeclineProposal, fingerprint, reason)
}

// WithdrawKey ends that a key counts.
func (c *Client) WithdrawKey(ctx context.Context, fingerprint, reason string) (wire.Key, error) {
	return c.keyStep(ctx, wire.WithdrawKey, fingerprint, reason)
}

// SettleKey records that a key needs no attention as it is.
func (c *Client) SettleKey(ctx context.Context, fingerprint, reason string) (wire.Key, error) {
	return c.keyStep(ctx, wire.SettleKey, fingerprint, reason)
}

// ReconsiderKey makes a withdrawn key a candidate again.
func (c *Client) ReconsiderKey(ctx context.Context, fingerprint, reason string) (wire.Key, error) {
	return c.keyStep(ctx, wire.ReconsiderKey, fingerprint, reason)
}

func (c *Client) keyStep(
	ctx context.Context, step wire.Operation[wire.KeyStepRequest, wire.Key], fingerprint, reason string,
) (wire.Key, error) {
	return call(ctx, c, step, wire.KeyStepRequest{Fingerprint: fingerprint, Body: wire.Reasoned{Reason: reason}})
}

// ResolveConflict explains a sighting that contradicts its key, named by its
// record.
func (c *Client) ResolveConflict(ctx context.Context, record int64, reason string) (wire.Key, error) {
	return call(
		ctx, c, wire.ResolveConflict, wire.ResolveConflictRequest{Record: record, Body: wire.Reasoned{Reason: reason}},
	)
}
