package api

import (
	"context"
	"net/http"

	"endeixis/internal/access"
	"endeixis/internal/depots"
	"endeixis/internal/fault"
	"endeixis/internal/wire"
)

func (a *API) registerDepots() {
	handle(a, op(http.MethodGet, "/depots", "list-depots", "List the depots", access.Auditor), func(context.Context, *struct{}) (*body[wire.Page[wire.Depot]], error) {
		out := wire.Page[wire.Depot]{Items: []wire.Depot{}}
		for _, name := range a.Depots.Names() {
			out.Items = append(out.Items, wire.Depot{Name: name})
		}
		return answer(out, nil)
	})
	type folder struct {
		Depot string `path:"depot"`
		Path  string `query:"path" maxLength:"4096"`
	}
	handle(a, op(http.MethodGet, "/depots/{depot}/entries", "list-folder", "List what lies in a folder of a depot", access.Auditor), func(_ context.Context, in *folder) (*body[wire.Page[wire.Entry]], error) {
		f, err := a.Depots.Open(in.Depot, in.Path)
		if err != nil {
			return nil, err
		}
		defer f.Close()
		entries, err := f.List()
		if err != nil {
			err = fault.New(fault.Invalid, "folder-unreadable", "The service may not list this folder.").At("path")
		}
		return answer(wire.Page[wire.Entry]{Items: convert(entries, func(e depots.Entry) wire.Entry { return wire.Entry(e) })}, err)
	})
}
