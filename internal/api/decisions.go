package api

import (
	"context"

	"endeixis/internal/keys"
	"endeixis/internal/wire"
)

// registerDecisions makes the steps of a key's life.
func (a *API) registerDecisions() {
	decided := func(v keys.View, err error) (*wire.Key, error) {
		if err != nil {
			return nil, err
		}
		return answer(a.keyOf(v), nil)
	}
	handle(a, wire.AdmitKey, func(ctx context.Context, in *wire.AdmitKeyRequest) (*wire.Key, error) {
		p, _ := principal(ctx)
		return decided(
			a.Keys.Admit(
				ctx, p.Name,
				keys.Admission{
					Fingerprint: in.Fingerprint, Typed: in.Body.Typed, Publisher: in.Body.Publisher, Role: in.Body.Role,
					Reason: in.Body.Reason, Until: in.Body.Until,
				},
			),
		)
	})
	handle(a, wire.DeclineProposal, func(ctx context.Context, in *wire.KeyStepRequest) (*wire.Key, error) {
		p, _ := principal(ctx)
		return decided(a.Keys.Decline(ctx, p.Name, in.Fingerprint, in.Body.Reason))
	})
	handle(a, wire.ReconsiderKey, func(ctx context.Context, in *wire.KeyStepRequest) (*wire.Key, error) {
		p, _ := principal(ctx)
		return decided(a.Keys.Reconsider(ctx, p.Name, in.Fingerprint, in.Body.Reason))
	})
	handle(a, wire.WithdrawKey, func(ctx context.Context, in *wire.KeyStepRequest) (*wire.Key, error) {
		p, _ := principal(ctx)
		v, err := a.Keys.Withdraw(ctx, p.Name, in.Fingerprint, in.Body.Reason)
		if err != nil {
			return nil, err
		}
		return answer(a.followed(v), nil)
	})
	handle(a, wire.ResolveConflict, func(ctx context.Context, in *wire.ResolveConflictRequest) (*wire.Key, error) {
		p, _ := principal(ctx)
		v, err := a.Keys.Resolve(ctx, p.Name, in.Record, in.Body.Reason)
		if err != nil {
			return nil, err
		}
		return answer(a.followed(v), nil)
	})
}

// followed is a key with the run that judges again what rests on it.
func (a *API) followed(v keys.View) wire.Key {
	out := a.keyOf(v)
	if v.Reassessment != 0 {
		out.Reassessment = &v.Reassessment
	}
	return out
}
