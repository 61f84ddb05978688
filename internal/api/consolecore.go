package api

import (
	"reflect"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"endeixis/internal/consolecore"
	"endeixis/internal/version"
)

// CoreDocument returns a description of the functions of the core in a browser, in YAML and in
// the form of an OpenAPI document: each function is a path that takes and answers JSON. The
// console's types are made from it, with the vocabularies and shapes of the API.
func CoreDocument() ([]byte, error) {
	huma.DefaultArrayNullable = false // nor are the core's lists
	schemas := huma.NewMapRegistry("#/components/schemas/", schemaName)
	speak(schemas, slices.Concat(vocabularies, coreVocabularies))
	document := huma.OpenAPI{
		OpenAPI:    "3.1.0",
		Info:       &huma.Info{Title: "The core in a browser", Version: version.Version},
		Components: &huma.Components{Schemas: schemas},
		Paths:      map[string]*huma.PathItem{},
	}
	shape := func(t reflect.Type) map[string]*huma.MediaType {
		return map[string]*huma.MediaType{"application/json": {Schema: schemas.Schema(t, true, "")}}
	}
	for _, f := range consolecore.Functions() {
		name, in, out := f.Shape()
		document.Paths["/"+name] = &huma.PathItem{Post: &huma.Operation{
			OperationID: name,
			RequestBody: &huma.RequestBody{Required: true, Content: shape(in)},
			Responses:   map[string]*huma.Response{"200": {Description: "What it answers.", Content: shape(out)}},
		}}
	}
	settleNulls(schemas)
	return document.YAML()
}
