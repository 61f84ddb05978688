package api

import (
	"context"
	"slices"

	"endeixis/core/keyring"
	"endeixis/core/plain"
	"endeixis/internal/keys"
	"endeixis/internal/query"
	"endeixis/internal/roles"
	"endeixis/internal/wire"
)

// shownWaiting bounds the keys of an overview.
const shownWaiting = 20

func (a *API) overview(ctx context.Context) (wire.Overview, error) {
	o := wire.Overview{Candidates: []wire.Key{}, Conflicts: []wire.Key{}, Expiring: []wire.Key{}}
	seen, err := a.Query.Overview(ctx, a.Now())
	if err != nil {
		return o, err
	}
	o.Refused = convert(seen.Refused, batchOf)
	o.Unproven = convert(seen.Unproven, batchOf)
	o.Running = convert(seen.Running, batchOf)
	o.Recent = convert(seen.Recent, batchOf)
	o.Days = convert(seen.Days, func(d query.DayCount) wire.DayCount {
		return wire.DayCount{Day: d.Day, Verdict: d.Verdict, Count: d.Count}
	})
	o.Records = seen.Records
	if p, _ := principal(ctx); !decidesOnKeys(p.Role) {
		return o, nil
	}
	standing, err := a.standingKeys(ctx)
	if err != nil {
		return o, err
	}
	key := func(e wire.Attention) wire.Key { return *e.Key }
	o.Conflicts = convert(standing.conflicts, key)
	o.Expiring = convert(standing.ending, key)
	o.Candidates = convert(standing.candidates, key)
	return o, nil
}

// decidesOnKeys reports whether keys that need attention concern somebody: those who decide about them, and those who
// read everything. An operator can do nothing about them.
func decidesOnKeys(role roles.Role) bool { return role != roles.Operator }

// standingKeys are the keys that need attention: those that a sighting contradicts, those that have ended or will soon,
// and those that nobody has decided about.
type standingKeys struct {
	conflicts, ending, candidates []wire.Attention
}

func (a *API) standingKeys(ctx context.Context) (out standingKeys, err error) {
	now := a.Now()
	waiting, _, err := a.Keys.List(ctx, keys.Filter{Waiting: true, Unsettled: true, Limit: shownWaiting})
	if err != nil {
		return out, err
	}
	expiring, _, err := a.Keys.List(
		ctx,
		keys.Filter{
			State: keyring.Admitted, ExpiresBefore: now.AddDate(0, 0, keys.Stages()[0]), Unsettled: true,
			Limit: shownWaiting,
		},
	)
	if err != nil {
		return out, err
	}
	for _, v := range waiting {
		k := a.keyOf(v)
		if k.Conflict {
			out.conflicts = append(out.conflicts, wire.Attention{
				Word: "conflict", Key: &k, Why: "A sighting shows another fingerprint than the key's.",
				Act: "Find out which is right, and explain why the other differs, or withdraw the key.",
			})
			continue
		}
		out.candidates = append(out.candidates, wire.Attention{
			Word: "candidate", Key: &k, Why: "It waits for somebody to decide whether it counts.",
			Act: "Confirm its fingerprint on independent channels and admit it, or settle it if nobody will.",
		})
	}
	for _, v := range expiring {
		k := a.keyOf(v)
		e := wire.Attention{
			Word: "expiring", Key: &k, Why: "It expires within two months; what it signs then does not count.",
			Act: "Ask the publisher for a copy with a later date, and import it.",
		}
		switch {
		case k.Revoked != nil:
			e.Word, e.Why = "revoked", "Its owner has revoked it. It counts for nothing new."
			e.Act = "Withdraw it, or settle it; its publisher needs another key."
		case k.Expired:
			e.Word, e.Why = "expired", "It has expired, and counts for nothing new."
			e.Act = "Import a newer copy if there is one. If its publisher uses another key, withdraw it or settle it."
		}
		out.ending = append(out.ending, e)
	}
	return out, nil
}

func (a *API) listAttention(
	ctx context.Context, in *wire.ListAttentionRequest,
) (*wire.Page[wire.Attention], error) {
	page, err := a.Query.Standing(ctx, in.Cursor, in.Limit)
	if err != nil {
		return nil, err
	}
	out := wire.Page[wire.Attention]{Items: []wire.Attention{}}
	var standing standingKeys
	if p, _ := principal(ctx); decidesOnKeys(p.Role) && (in.Cursor == "" || page.Next == "") {
		if standing, err = a.standingKeys(ctx); err != nil {
			return nil, err
		}
	}
	// Keys that have come into question go before the batches, and those that only wait behind them.
	if in.Cursor == "" {
		out.Items = slices.Concat(out.Items, standing.conflicts, standing.ending)
	}
	out.Items = append(out.Items, convert(page.Rows, func(s query.Standing) wire.Attention {
		b := batchOf(s.Batch)
		return wire.Attention{
			Word: string(*b.Present()), Batch: &b, N: s.N, Path: plain.Text(s.Path), Why: s.Why, Act: s.Act,
		}
	})...)
	if out.Next = page.Next; out.Next == "" {
		out.Items = append(out.Items, standing.candidates...)
	}
	return &out, nil
}
