package api

import (
	"context"

	"endeixis/core/plain"
	"endeixis/internal/satchels"
	"endeixis/internal/wire"
)

// maxDiffers bounds how many files of one outcome are told that differ.
const maxDiffers = 500

func (a *API) registerSatchels() {
	handle(a, wire.PackSatchel, func(ctx context.Context, in *wire.PackSatchelRequest) (*wire.PackedSatchel, error) {
		p, _ := principal(ctx)
		packed, file, err := a.Satchels.Pack(ctx, p.Name, in.Body.Publishers, in.Body.Days, in.Body.Label)
		return answer(wire.PackedSatchel{Satchel: a.satchelOf(packed), File: file}, err)
	})
	handle(a, wire.ListSatchels, func(ctx context.Context, _ *wire.Nothing) (*wire.Page[wire.Satchel], error) {
		all, err := a.Satchels.All(ctx)
		return answer(wire.Page[wire.Satchel]{Items: convert(all, a.satchelOf)}, err)
	})
	handle(a, wire.ShowSatchel, a.showSatchel)
	handle(a, wire.ReturnOutcomes, func(ctx context.Context, in *wire.ReturnRequest) (*wire.SatchelShown, error) {
		p, _ := principal(ctx)
		packed, visits, err := a.Satchels.Return(ctx, p.Name, satchels.Returned(in.Body))
		return answer(wire.SatchelShown{Satchel: a.satchelOf(packed), Visits: convert(visits, visitOf)}, err)
	})
}

func (a *API) showSatchel(ctx context.Context, in *wire.SatchelAt) (*wire.SatchelShown, error) {
	packed, err := a.Satchels.Satchel(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	visits, err := a.Satchels.Visits(ctx, in.ID)
	return answer(wire.SatchelShown{Satchel: a.satchelOf(packed), Visits: convert(visits, visitOf)}, err)
}

func (a *API) satchelOf(s satchels.Satchel) wire.Satchel {
	return wire.Satchel{
		ID:            s.ID,
		Label:         plain.Text(s.Label),
		Publishers:    append([]string{}, s.Publishers...),
		Keys:          append([]string{}, s.Keys...),
		OtherKeys:     s.OtherKeys,
		References:    s.References,
		PolicyVersion: s.PolicyVersion,
		By:            s.By,
		Packed:        s.At.UTC(),
		Until:         s.Until.UTC(),
		Ended:         !a.Now().Before(s.Until),
		Returned:      s.Returned,
		Record:        s.Position,
	}
}

func visitOf(v satchels.Visit) wire.Visit {
	out := wire.Visit{
		Number:   v.Visit.N,
		Of:       v.Kind,
		SealedBy: v.Key,
		Label:    plain.Text(v.Label),
		At:       v.At.UTC(),
		By:       plain.Text(v.By),
		Host:     plain.Text(v.Host),
		Path:     plain.Text(v.Path),
		Clock:    v.Clock,
		OnSite:   v.Verdict,
		State:    v.Now.State,
		Batch:    v.Batch,
		Record:   v.Position,
		Files:    v.Files,
		Known:    v.Known,
		Refused:  v.Refused,
		Differs:  []wire.VisitDiffers{},
	}
	if out.Now = v.Now.Verdict; v.Now.Now != nil {
		out.Now = &v.Now.Now.Verdict
	}
	for i, d := range v.Differs {
		if i == maxDiffers {
			out.More = len(v.Differs) - maxDiffers
			break
		}
		out.Differs = append(
			out.Differs,
			wire.VisitDiffers{
				N: d.N, Shown: plain.Text(d.Path), OnSite: d.OnSite, WhyOnSite: d.WhyOnSite, Now: d.Now,
				Why: d.Deciding,
			},
		)
	}
	return out
}
