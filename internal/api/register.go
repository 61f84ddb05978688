package api

import (
	"endeixis/internal/query"
	"endeixis/internal/wire"
)

// register describes every operation.
func (a *API) register() {
	a.registerAccess()
	a.registerDepots()
	a.registerBatches()
	a.registerMeasurer()
	a.registerReferences()
	a.registerDevices()
	a.registerSatchels()
	a.registerDrills()
	a.registerPublishers()
	a.registerKeyring()
	a.registerRecords()
	a.registerPolicies()
	a.registerReassessments()
}

// pageOf makes a page of the API from one of the read side.
func pageOf[A, B any](page query.Page[A], f func(A) B) wire.Page[B] {
	return wire.Page[B]{
		Items: convert(page.Rows, f), Next: page.Next, Count: page.Count, AtLeast: page.AtLeast,
	}
}

// convert makes a list of one kind from a list of another; never nil, so that
// it becomes [] in JSON.
func convert[A, B any](in []A, f func(A) B) []B {
	out := make([]B, len(in))
	for i, v := range in {
		out[i] = f(v)
	}
	return out
}
