package api

import (
	"crypto/sha256"
	"encoding/base64"
	"html/template"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"endeixis/internal/roles"
)

const docsStyle = `
body { font: 16px/1.45 system-ui, sans-serif; max-width: 60rem; margin: 2rem auto; padding: 0 1rem; color: #23221f; background: #fbfaf7 }
code { font-family: ui-monospace, monospace } h2 { border-top: 1px solid #dcd8ce; padding-top: .8rem; font-size: 1.05rem }
table { border-collapse: collapse } td { padding: .1rem 1rem .1rem 0; vertical-align: top } .role { color: #6b3f7d }
`

// docsPolicy lets the page have its own style, and nothing else.
var docsPolicy = func() string {
	sum := sha256.Sum256([]byte(docsStyle))
	return "default-src 'none'; style-src 'sha256-" + base64.StdEncoding.EncodeToString(
		sum[:],
	) + "'; frame-ancestors 'none'; base-uri 'none'"
}()

// docsPage shows the OpenAPI document to people. It is made here, and loads
// nothing from elsewhere: the service often runs where there is no elsewhere.
var docsPage = template.Must(template.New("docs").Parse(`<!doctype html>
<html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width">
<title>Endeixis API</title>
<style>{{.Style}}</style>
<h1>Endeixis API</h1>
<p>JSON below <code>/api/v1</code>; problems as in RFC 9457 with a stable <code>code</code>. The same description for programs:
<a href="/api/v1/openapi.yaml">OpenAPI 3.1</a>. Send a token as <code>Authorization: Bearer …</code>.</p>
{{range .Operations}}<h2><code>{{.Method}} {{.Path}}</code></h2>
<p>{{.Summary}}. {{if .Role}}<span class="role">Needs the role {{.Role}}.</span>{{else}}Open to all.{{end}}</p>
{{with .Fields}}<table>{{range .}}<tr><td><code>{{.Name}}</code></td><td>{{.In}}</td><td>{{.Type}}</td><td>{{.Doc}}</td></tr>{{end}}</table>{{end}}
{{end}}</html>
`))

type docsOperation struct {
	Method, Path, Summary string
	Role                  roles.Role
	Fields                []docsField
}

type docsField struct{ Name, In, Type, Doc string }

// docs serves the readable description.
func (a *API) docs(c *gin.Context) {
	document := a.huma.OpenAPI()
	var all []docsOperation
	for path, item := range document.Paths {
		for method, o := range map[string]*huma.Operation{
			http.MethodGet: item.Get, http.MethodPost: item.Post, http.MethodPut: item.Put,
			http.MethodPatch: item.Patch, http.MethodDelete: item.Delete,
		} {
			if o == nil {
				continue
			}
			d := docsOperation{Method: method, Path: path, Summary: o.Summary}
			d.Role, _ = o.Metadata[roleOf].(roles.Role)
			for _, p := range o.Parameters {
				d.Fields = append(d.Fields, docsField{p.Name, p.In, typeName(p.Schema), p.Description})
			}
			if o.RequestBody != nil {
				if media := o.RequestBody.Content["application/json"]; media != nil {
					d.Fields = append(d.Fields, fields(document.Components.Schemas, media.Schema)...)
				}
			}
			all = append(all, d)
		}
	}
	slices.SortFunc(all, func(x, y docsOperation) int { return strings.Compare(x.Path+x.Method, y.Path+y.Method) })
	c.Header("Content-Type", "text/html; charset=utf-8")
	c.Header("Content-Security-Policy", docsPolicy)
	page := struct {
		Style      template.CSS
		Operations []docsOperation
	}{docsStyle, all}
	docsPage.Execute(c.Writer, page) //nolint:errcheck // the other side is gone
}

// fields lists the members of a request's body by name.
func fields(schemas huma.Registry, s *huma.Schema) []docsField {
	if s != nil && s.Ref != "" {
		s = schemas.SchemaFromRef(s.Ref)
	}
	if s == nil {
		return nil
	}
	var out []docsField
	for name, member := range s.Properties {
		out = append(out, docsField{name, "body", typeName(member), member.Description})
	}
	slices.SortFunc(out, func(x, y docsField) int { return strings.Compare(x.Name, y.Name) })
	return out
}

func typeName(s *huma.Schema) string {
	if s == nil {
		return ""
	}
	if len(s.Enum) > 0 {
		words := make([]string, 0, len(s.Enum))
		for _, e := range s.Enum {
			if word, ok := e.(string); ok {
				words = append(words, word)
			}
		}
		return strings.Join(words, " | ")
	}
	return s.Type
}
