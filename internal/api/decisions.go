package api

import (
	"context"

	"endeixis/internal/keys"
	"endeixis/internal/wire"
)

// registerDecisions makes the steps of a key's life.
func (a *API) registerDecisions() {
	handle(a, wire.AdmitKey, a.admitKey)
	handle(a, wire.DeclineProposal, func(ctx context.Context, in *wire.KeyStepRequest) (*wire.Key, error) {
		p, _ := principal(ctx)
		return a.keyDecided(a.Keys.Decline(ctx, p.Name, in.Fingerprint, in.Body.Reason))
	})
	handle(a, wire.ReconsiderKey, func(ctx context.Context, in *wire.KeyStepRequest) (*wire.Key, error) {
		p, _ := principal(ctx)
		return a.keyDecided(a.Keys.Reconsider(ctx, p.Name, in.Fingerprint, in.Body.Reason))
	})
	handle(a, wire.SettleKey, func(ctx context.Context, in *wire.KeyStepRequest) (*wire.Key, error) {
		p, _ := principal(ctx)
		return a.keyDecided(a.Keys.Settle(ctx, p.Name, in.Fingerprint, in.Body.Reason))
	})
	handle(a, wire.WithdrawKey, func(ctx context.Context, in *wire.KeyStepRequest) (*wire.Key, error) {
		p, _ := principal(ctx)
		return a.keyDecided(a.Keys.Withdraw(ctx, p.Name, in.Fingerprint, in.Body.Reason))
	})
	handle(a, wire.ResolveConflict, func(ctx context.Context, in *wire.ResolveConflictRequest) (*wire.Key, error) {
		p, _ := principal(ctx)
		return a.keyDecided(a.Keys.Resolve(ctx, p.Name, in.Record, in.Body.Reason))
	})
}

// keyDecided is a key as a decision has left it, with the run that judges again what that concerns.
func (a *API) keyDecided(v keys.View, err error) (*wire.Key, error) {
	if err != nil {
		return nil, err
	}
	return answer(a.followed(v), nil)
}

func (a *API) admitKey(ctx context.Context, in *wire.AdmitKeyRequest) (*wire.Key, error) {
	p, _ := principal(ctx)
	return a.keyDecided(
		a.Keys.Admit(
			ctx, p.Name,
			keys.Admission{
				Fingerprint: in.Fingerprint, Typed: in.Body.Typed, Publisher: in.Body.Publisher, Role: in.Body.Role,
				Reason: in.Body.Reason, Until: in.Body.Until,
			},
		),
	)
}

// followed is a key with the run that judges again what has a signature by it.
func (a *API) followed(v keys.View) wire.Key {
	out := a.keyOf(v)
	out.Reassessment = someRun(v.Reassessment)
	return out
}
