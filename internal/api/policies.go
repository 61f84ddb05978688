package api

import (
	"context"

	"endeixis/core/judge"
	"endeixis/core/plain"
	"endeixis/internal/policy"
	"endeixis/internal/state"
	"endeixis/internal/wire"
)

func (a *API) registerPolicies() {
	handle(a, wire.ListPolicies, func(ctx context.Context, _ *wire.Nothing) (*wire.Page[wire.PolicyVersion], error) {
		versions, err := a.Policy.History(ctx)
		return answer(wire.Page[wire.PolicyVersion]{Items: convert(versions, policyOf)}, err)
	})
	handle(a, wire.ListPolicyFields, func(_ context.Context, _ *wire.Nothing) (*wire.Page[judge.PolicyField], error) {
		return answer(wire.Page[judge.PolicyField]{Items: judge.PolicyFields()}, nil)
	})
	handle(a, wire.SetPolicy, func(ctx context.Context, in *wire.SetPolicyRequest) (*wire.PolicyVersion, error) {
		p, _ := principal(ctx)
		version, err := a.Policy.Set(ctx, p.Name, seen(in.IfMatch), in.Body.Document, in.Body.Reason)
		return answer(policyOf(version), err)
	})
	handle(a, wire.ListWaivers, func(ctx context.Context, _ *wire.Nothing) (*wire.Page[wire.Waiver], error) {
		rows, err := a.Policy.Waivers(ctx)
		return answer(wire.Page[wire.Waiver]{Items: convert(rows, a.waiverOf)}, err)
	})
	handle(a, wire.GrantWaiver, a.grantWaiver)
	handle(a, wire.EndWaiver, func(ctx context.Context, in *wire.EndWaiverRequest) (*wire.Waiver, error) {
		p, _ := principal(ctx)
		w, err := a.Policy.End(ctx, p.Name, in.ID, in.Body.Reason)
		return answer(a.waiverOf(w), err)
	})
	handle(a, wire.SetOwnPolicy, func(ctx context.Context, in *wire.SetOwnPolicyRequest) (*wire.PolicyVersion, error) {
		p, _ := principal(ctx)
		version, err := a.Policy.SetOwn(ctx, p.Name, in.Slug, seen(in.IfMatch), in.Body.Fields, in.Body.Reason)
		return answer(policyOf(version), err)
	})
}

func (a *API) grantWaiver(ctx context.Context, in *wire.GrantWaiverRequest) (*wire.Waiver, error) {
	p, _ := principal(ctx)
	w, err := a.Policy.Grant(
		ctx, p.Name,
		policy.NewWaiver{
			Ground: judge.Code(in.Body.Ground), Publisher: in.Body.Publisher, Pattern: in.Body.Pattern,
			Until: in.Body.Until, Reason: in.Body.Reason,
		},
	)
	return answer(a.waiverOf(w), err)
}

func (a *API) waiverOf(w policy.Waiver) wire.Waiver {
	out := wire.Waiver{
		ID:        w.ID,
		Ground:    w.Ground,
		Publisher: w.Publisher,
		Pattern:   plain.Text(w.Pattern),
		Reason:    plain.Text(w.Reason),
		By:        w.By,
		Created:   w.CreatedAt,
		Until:     w.Until,
		State:     state.WaiverInForce,
		Ended:     w.EndedAt,
		EndedBy:   w.EndedBy,
		EndReason: plain.Text(w.EndReason),
		Record:    w.Position,

		Reassessment: someRun(w.Reassessment),
	}
	switch {
	case w.EndedAt != nil:
		out.State = state.WaiverEnded
	case !a.Now().Before(w.Until):
		out.State = state.WaiverRunOut
	}
	return out
}

func policyOf(v policy.Version) wire.PolicyVersion {
	return wire.PolicyVersion{
		Version: v.Version, Publisher: v.Publisher, Reason: plain.Text(v.Reason), Created: v.CreatedAt, By: v.CreatedBy,
		Document: v.Document, Own: v.Own, Reassessment: someRun(v.Reassessment),
	}
}

// someRun returns the number of a reassessment that a decision has entailed, or nil where it is 0.
func someRun(id int64) *int64 {
	if id == 0 {
		return nil
	}
	return &id
}
