package api

import (
	"context"
	"net/http"

	"endeixis/core/keyring"
	"endeixis/internal/access"
	"endeixis/internal/keys"
	"endeixis/internal/wire"
)

// registerDecisions makes the steps of a key's life.
func (a *API) registerDecisions() {
	decided := func(v keys.View, err error) (*body[wire.Key], error) {
		if err != nil {
			return nil, err
		}
		return answer(a.keyOf(v), nil)
	}
	type admit struct {
		Fingerprint string `path:"fingerprint" maxLength:"200"`
		Body        struct {
			Typed     string `json:"typed" maxLength:"500" doc:"The fingerprint as the curator read and typed it."`
			Publisher string `json:"publisher" maxLength:"64"`
			Role      string `json:"role,omitempty" enum:"release,anchor" doc:"What the key is for: releases, or certifying other keys."`
			Reason    string `json:"reason"`
		}
	}
	handle(a, op(http.MethodPost, "/keys/{fingerprint}/admission", "admit-key", "Admit a candidate for a publisher, or propose it where two curators decide", access.Curator), func(ctx context.Context, in *admit) (*body[wire.Key], error) {
		p, _ := principal(ctx)
		return decided(a.Keys.Admit(ctx, p.Name, keys.Admission{Fingerprint: in.Fingerprint, Typed: in.Body.Typed, Publisher: in.Body.Publisher, Role: keyring.Role(in.Body.Role), Reason: in.Body.Reason}))
	})
	type step struct {
		Fingerprint string `path:"fingerprint" maxLength:"200"`
		Body        struct {
			Reason string `json:"reason"`
		}
	}
	for _, d := range []struct {
		path, id, does string
		do             func(ctx context.Context, by, fingerprint, reason string) (keys.View, error)
	}{
		{"decline", "decline-proposal", "Decline what another curator proposed, or take it back", a.Keys.Decline},
		{"reconsideration", "reconsider-key", "Make a withdrawn key a candidate again", a.Keys.Reconsider},
	} {
		handle(a, op(http.MethodPost, "/keys/{fingerprint}/"+d.path, d.id, d.does, access.Curator), func(ctx context.Context, in *step) (*body[wire.Key], error) {
			p, _ := principal(ctx)
			return decided(d.do(ctx, p.Name, in.Fingerprint, in.Body.Reason))
		})
	}
	handle(a, op(http.MethodPost, "/keys/{fingerprint}/withdrawal", "withdraw-key", "Withdraw an admitted key, and judge again what rests on it", access.Curator), func(ctx context.Context, in *step) (*body[wire.Key], error) {
		p, _ := principal(ctx)
		v, err := a.Keys.Withdraw(ctx, p.Name, in.Fingerprint, in.Body.Reason)
		if err != nil {
			return nil, err
		}
		out := a.keyOf(v)
		if v.Reassessment != 0 {
			out.Reassessment = &v.Reassessment
		}
		return answer(out, nil)
	})
	type resolution struct {
		Record int64 `path:"record" minimum:"0"`
		Body   struct {
			Reason string `json:"reason"`
		}
	}
	handle(a, op(http.MethodPost, "/sightings/{record}/resolution", "resolve-conflict", "Explain a sighting that contradicts its key", access.Curator), func(ctx context.Context, in *resolution) (*body[wire.Key], error) {
		p, _ := principal(ctx)
		return decided(a.Keys.Resolve(ctx, p.Name, in.Record, in.Body.Reason))
	})
	type changePublisher struct {
		Slug string `path:"slug"`
		Body struct {
			Name    *string  `json:"name,omitempty" maxLength:"200"`
			Contact *string  `json:"contact,omitempty" maxLength:"2000"`
			Scope   []string `json:"scope,omitempty" maxItems:"100" doc:"In place of the patterns there are."`
		}
	}
	handle(a, op(http.MethodPatch, "/publishers/{slug}", "set-publisher", "Change what is known about a publisher", access.Curator), func(ctx context.Context, in *changePublisher) (*body[wire.Publisher], error) {
		p, _ := principal(ctx)
		row, err := a.Keys.SetPublisher(ctx, p.Name, in.Slug, keys.PublisherChange{Name: in.Body.Name, Contact: in.Body.Contact, Scope: in.Body.Scope})
		return answer(publisherOf(row), err)
	})
}
