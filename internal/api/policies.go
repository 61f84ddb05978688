package api

import (
	"context"
	"encoding/json"
	"net/http"
	"time"

	"endeixis/core/judge"
	"endeixis/core/plain"
	"endeixis/internal/access"
	"endeixis/internal/keys"
	"endeixis/internal/store"
	"endeixis/internal/wire"
)

func (a *API) registerPolicies() {
	handle(a, op(http.MethodGet, "/policies", "list-policies", "List the changes of the policy and of what publishers have otherwise, the newest first", access.Auditor), func(ctx context.Context, _ *struct{}) (*body[wire.Page[wire.PolicyVersion]], error) {
		versions, err := a.Keys.PolicyHistory(ctx)
		return answer(wire.Page[wire.PolicyVersion]{Items: convert(versions, policyOf)}, err)
	})
	handle(a, op(http.MethodGet, "/policy-fields", "list-policy-fields", "Tell what each field of the policy does", access.Auditor), func(context.Context, *struct{}) (*body[wire.Page[judge.PolicyField]], error) {
		return answer(wire.Page[judge.PolicyField]{Items: judge.PolicyFields()}, nil)
	})
	type newPolicy struct {
		Body struct {
			Document judge.Policy `json:"document" doc:"The whole policy; “endeixis policy show” prints the one in force."`
			Reason   string       `json:"reason" minLength:"3" maxLength:"1000"`
		}
	}
	handle(a, op(http.MethodPost, "/policies", "set-policy", "Put a new version of the policy in force", access.Curator), func(ctx context.Context, in *newPolicy) (*body[wire.PolicyVersion], error) {
		p, _ := principal(ctx)
		version, err := a.Keys.SetPolicy(ctx, p.Name, in.Body.Document, in.Body.Reason)
		return answer(policyOf(version), err)
	})
	handle(a, op(http.MethodGet, "/waivers", "list-waivers", "List the waivers, the newest first", access.Auditor), func(ctx context.Context, _ *struct{}) (*body[wire.Page[wire.Waiver]], error) {
		rows, err := a.Store.Waivers(ctx)
		return answer(wire.Page[wire.Waiver]{Items: convert(rows, a.waiverOf)}, err)
	})
	type newWaiver struct {
		Body struct {
			Ground    judge.Code `json:"ground" doc:"weak-digest-only, manifest-unsigned, signature-weak or signer-expired."`
			Publisher string     `json:"publisher,omitempty" maxLength:"64"`
			Pattern   string     `json:"pattern,omitempty" maxLength:"500" doc:"A pattern for the names of the files that the ground is about."`
			Until     time.Time  `json:"until" doc:"The moment from which it counts no longer."`
			Reason    string     `json:"reason"`
		}
	}
	handle(a, op(http.MethodPost, "/waivers", "grant-waiver", "Grant a waiver", access.Curator), func(ctx context.Context, in *newWaiver) (*body[wire.Waiver], error) {
		p, _ := principal(ctx)
		w, err := a.Keys.GrantWaiver(ctx, p.Name, keys.NewWaiver{Ground: in.Body.Ground, Publisher: in.Body.Publisher, Pattern: in.Body.Pattern, Until: in.Body.Until, Reason: in.Body.Reason})
		return answer(a.waiverOf(w), err)
	})
	type endWaiver struct {
		ID   int64 `path:"id" minimum:"1"`
		Body struct {
			Reason string `json:"reason"`
		}
	}
	handle(a, op(http.MethodPost, "/waivers/{id}/end", "end-waiver", "End a waiver before its day", access.Curator), func(ctx context.Context, in *endWaiver) (*body[wire.Waiver], error) {
		p, _ := principal(ctx)
		w, err := a.Keys.EndWaiver(ctx, p.Name, in.ID, in.Body.Reason)
		return answer(a.waiverOf(w), err)
	})
	type ownPolicy struct {
		Slug string `path:"slug"`
		Body struct {
			Fields json.RawMessage `json:"fields" doc:"An object with the fields of the policy that this publisher has otherwise; an empty one leaves it none."`
			Reason string          `json:"reason" minLength:"3" maxLength:"1000"`
		}
	}
	handle(a, op(http.MethodPost, "/publishers/{slug}/policies", "set-own-policy", "Give a publisher fields of the policy of its own", access.Curator), func(ctx context.Context, in *ownPolicy) (*body[wire.PolicyVersion], error) {
		p, _ := principal(ctx)
		version, err := a.Keys.SetOwnPolicy(ctx, p.Name, in.Slug, in.Body.Fields, in.Body.Reason)
		return answer(policyOf(version), err)
	})
}

func (a *API) waiverOf(w store.Waiver) wire.Waiver {
	out := wire.Waiver{
		ID: w.ID, Ground: w.Ground, Publisher: w.Publisher, Pattern: plain.Text(w.Pattern), Reason: plain.Text(w.Reason), By: w.By, Created: w.CreatedAt, Until: w.Until,
		State: "in force", Ended: w.EndedAt, EndedBy: w.EndedBy, EndReason: plain.Text(w.EndReason), Record: w.Position,
	}
	switch {
	case w.EndedAt != nil:
		out.State = "ended"
	case !a.Now().Before(w.Until):
		out.State = "run out"
	}
	return out
}

func policyOf(v keys.PolicyVersion) wire.PolicyVersion {
	return wire.PolicyVersion{
		Version: v.Version, Publisher: v.Publisher, Reason: plain.Text(v.Reason), Created: v.CreatedAt, By: v.CreatedBy,
		Document: v.Document, Own: v.Own,
	}
}
