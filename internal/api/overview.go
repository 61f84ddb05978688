package api

import (
	"context"

	"endeixis/core/keyring"
	"endeixis/internal/keys"
	"endeixis/internal/query"
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
	waiting, _, err := a.Keys.List(ctx, keys.Filter{Waiting: true, Limit: shownWaiting})
	if err != nil {
		return o, err
	}
	for _, v := range waiting {
		k := a.keyOf(v)
		if k.Conflict {
			o.Conflicts = append(o.Conflicts, k)
		} else {
			o.Candidates = append(o.Candidates, k)
		}
	}
	expiring, _, err := a.Keys.List(
		ctx,
		keys.Filter{
			State: keyring.Admitted, ExpiresBefore: a.Now().AddDate(0, 0, keys.Stages()[0]), Limit: shownWaiting,
		},
	)
	if err != nil {
		return o, err
	}
	o.Expiring = convert(expiring, a.keyOf)
	return o, nil
}
