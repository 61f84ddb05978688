package api

import (
	"context"

	"endeixis/internal/depots"
	"endeixis/internal/fault"
	"endeixis/internal/wire"
)

func (a *API) registerDepots() {
	handle(a, wire.ListDepots, a.listDepots)
	handle(a, wire.ListFolder, a.listFolder)
}

func (a *API) listDepots(_ context.Context, _ *wire.Nothing) (*wire.Page[wire.Depot], error) {
	out := wire.Page[wire.Depot]{Items: []wire.Depot{}}
	for _, name := range a.Depots.Names() {
		out.Items = append(out.Items, wire.Depot{Name: name})
	}
	return answer(out, nil)
}

func (a *API) listFolder(_ context.Context, in *wire.ListFolderRequest) (*wire.Page[wire.Entry], error) {
	f, err := a.Depots.Open(in.Depot, in.Path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	entries, err := f.List()
	if err != nil {
		err = fault.New(fault.Invalid, fault.FolderUnreadable, "The service may not list this folder.").At("path")
	}
	return answer(
		wire.Page[wire.Entry]{Items: convert(entries, func(e depots.Entry) wire.Entry { return wire.Entry(e) })},
		err,
	)
}
