package test

import (
	"bytes"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/mod/sumdb/note"
	"golang.org/x/net/http/httpguts"

	"endeixis/internal/cli"
	"endeixis/internal/testkit"
)

// described is as much of the API's own description as is needed to ask for
// everything in it.
type described struct {
	Paths      map[string]map[string]operationOf `yaml:"paths"`
	Components struct {
		Schemas map[string]schemaOf `yaml:"schemas"`
	} `yaml:"components"`
}

type operationOf struct {
	ID         string `yaml:"operationId"`
	Parameters []struct {
		Name   string   `yaml:"name"`
		In     string   `yaml:"in"`
		Schema schemaOf `yaml:"schema"`
	} `yaml:"parameters"`
	Body struct {
		Content map[string]struct {
			Schema schemaOf `yaml:"schema"`
		} `yaml:"content"`
	} `yaml:"requestBody"`
}

type schemaOf struct {
	Ref        string              `yaml:"$ref"`
	Type       any                 `yaml:"type"`
	Enum       []string            `yaml:"enum"`
	Properties map[string]schemaOf `yaml:"properties"`
	Items      *schemaOf           `yaml:"items"`
	Format     string              `yaml:"format"`
}

// sample makes a value that fits a schema.
func (d described) sample(s schemaOf) any {
	if s.Ref != "" {
		return d.sample(d.Components.Schemas[s.Ref[strings.LastIndex(s.Ref, "/")+1:]])
	}
	switch {
	case len(s.Enum) > 0:
		return s.Enum[0]
	case s.Type == "integer" || s.Type == "number":
		return 1
	case s.Type == "boolean":
		return true
	case s.Format == "date-time":
		return "2026-03-01T00:00:00Z"
	case s.Items != nil:
		return []any{d.sample(*s.Items)}
	case s.Type == "object":
		out := map[string]any{}
		for name, p := range s.Properties {
			out[name] = d.sample(p)
			if known, ok := knownValues[name]; ok {
				out[name] = known
			}
		}
		return out
	}
	return "aa"
}

// knownValues are those that name something that is there, so that requests come
// as far as they can.
var knownValues = map[string]any{
	"depot":     "quayside",
	"publisher": "tidewright",
	"path":      "oarlock/logger-2.4",
	"batch":     1,
	"reason":    "a test",
	"scope":     []any{"x-*"},
	"data":      "aGVsbG8=",
}

// spoilt returns copies of a JSON value in which one thing each is spoilt.
func spoilt(v any) []any {
	strange := []any{
		"a\x00b",
		"\u202eabc",
		strings.Repeat("x", 5000),
		"",
		-1,
		0,
		1 << 31,
		int64(1) << 62,
		json.Number("99999999999999999999999"),
		json.Number("1e308"),
		1.5,
		nil,
		true,
		[]any{},
		map[string]any{},
		"'; DROP TABLE batches; --",
		"../..",
		"%",
		"\ufffe",
		"9999-12-31T23:59:59Z",
		"0000-01-01T00:00:00Z",
	}
	switch v := v.(type) {
	case map[string]any:
		var out []any
		for _, name := range slices.Sorted(maps.Keys(v)) {
			for _, variant := range spoilt(v[name]) {
				c := maps.Clone(v)
				c[name] = variant
				out = append(out, c)
			}
			c := maps.Clone(v)
			delete(c, name)
			out = append(out, c)
		}
		return append(out, map[string]any{"unheard": "of"})
	case []any:
		var out []any
		for _, variant := range spoilt(v[0]) {
			out = append(out, []any{variant})
		}
		return out
	}
	return strange
}

// An asker asks for the operations of the API's own description.
type asker struct {
	s      *testkit.Service
	d      described
	key    string
	token  string
	client *http.Client
	// asked counts the requests, by the class of their status.
	asked map[int]int
}

func newAsker(t testing.TB) *asker {
	t.Helper()
	s := testkit.Start(t)
	require.Zero(t, endeixis(t, s, "operator", "batch", "run", "quayside:tidewright/gauge-fw-4.2", "--wait").code)
	text, err := os.ReadFile(filepath.Join("..", "docs", "openapi.yaml"))
	require.NoError(t, err)
	a := &asker{
		s: s, key: keyOf(t, "tidewright-release.asc").Fingerprint, token: s.Token(t, "administrator"),
		client: &http.Client{Timeout: 20 * time.Second}, asked: map[int]int{},
	}
	require.NoError(t, yaml.Unmarshal(text, &a.d))
	return a
}

// A target is an operation with where it is.
type target struct {
	method, path string
	operationOf
}

// targets lists all operations but those that end the asker's own session, or never
// end.
func (a *asker) targets() []target {
	var out []target
	for _, path := range slices.Sorted(maps.Keys(a.d.Paths)) {
		for _, method := range slices.Sorted(maps.Keys(a.d.Paths[path])) {
			o := a.d.Paths[path][method]
			if o.ID != "follow-batch" && o.ID != "revoke-own-token" && o.ID != "sign-out" {
				out = append(out, target{method, path, o})
			}
		}
	}
	return out
}

// body makes one that fits, or nil for an operation that takes none.
func (a *asker) body(o target) any {
	if o.Body.Content == nil {
		return nil
	}
	return a.d.sample(o.Body.Content["application/json"].Schema)
}

// address makes one that names things that are there, but for one parameter.
func (a *asker) address(o target, spoil, value string) string {
	at, query := o.path, ""
	for _, p := range o.Parameters {
		v := map[string]string{"fingerprint": a.key, "slug": "tidewright", "depot": "quayside", "name": "merit"}[p.Name]
		if v == "" {
			v = "1"
		}
		if o.ID == "revoke-token" {
			v = "999" // the first is the asker's own
		}
		if p.Name == spoil {
			v = value
		}
		switch {
		case p.In == "path":
			at = strings.ReplaceAll(at, "{"+p.Name+"}", v)
		case p.In == "query" && p.Name == spoil:
			query = p.Name + "=" + v
		}
	}
	return at + "?" + query
}

// ask sends a request. Whatever it is, the answer is no failure of the service, and
// never has much of what was sent.
func (a *asker) ask(t testing.TB, o target, address string, headers http.Header, body []byte) {
	t.Helper()
	request, err := http.NewRequestWithContext(
		t.Context(), strings.ToUpper(o.method), a.s.URL+"/api/v1", bytes.NewReader(body),
	)
	require.NoError(t, err)
	at, query, _ := strings.Cut(address, "?")
	request.URL.Opaque = "//" + request.URL.Host + at
	request.URL.RawQuery = query
	request.Header = headers
	request.Header.Set("Authorization", "Bearer "+a.token)
	request.Header.Set("Content-Type", "application/json")
	response, err := a.client.Do(request)
	if !assert.NoError(t, err, "%s %q %.200q", o.method, address, body) {
		return
	}
	defer response.Body.Close()
	answer, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	a.asked[response.StatusCode/100]++
	assert.NotContains(
		t, []int{500, 502, 503}, response.StatusCode, "%s %q %.200q: %.300s", o.method, address, body, answer,
	)
	if response.StatusCode == http.StatusUnauthorized {
		assert.Equal(t, "sign-in", o.ID, "the asker is shut out: %s", answer)
	}
	if response.StatusCode >= 400 {
		assert.Less(t, len(answer), 10_000, "%s %q", o.method, address)
	}
}

// TestHostileRequests asks for every operation of the API's own description with
// one thing wrong at a time.
func TestHostileRequests(t *testing.T) {
	t.Parallel()
	a := newAsker(t)
	texts := []string{
		"%00", "%ff", "a%00b", "%E2%80%AE", strings.Repeat("9", 30), "-1", "2147483648", "9223372036854775807",
		"9223372036854775808", strings.Repeat("a", 3000), "..%2f..", "1.99999999999", "%27%20OR%201=1", "0x1",
	}
	for _, o := range a.targets() {
		body := a.body(o)
		good, err := json.Marshal(body)
		require.NoError(t, err)
		for _, p := range o.Parameters {
			for _, value := range texts {
				switch p.In {
				case "header":
					if raw, err := url.PathUnescape(value); err == nil && !strings.ContainsRune(raw, 0) {
						a.ask(t, o, a.address(o, "", ""), http.Header{p.Name: {raw}}, good)
					}
				default:
					a.ask(t, o, a.address(o, p.Name, value), http.Header{}, good)
				}
			}
		}
		if body == nil {
			continue
		}
		for _, variant := range spoilt(body) {
			text, err := json.Marshal(variant)
			require.NoError(t, err)
			a.ask(t, o, a.address(o, "", ""), http.Header{}, text)
		}
		for _, raw := range []string{"", "{", "null", "[]", `"`, "{\"a\":\"\xff\"}", strings.Repeat("[", 100_000), `{"a":` + strings.Repeat("1", 1000) + `}`} {
			a.ask(t, o, a.address(o, "", ""), http.Header{}, []byte(raw))
		}
	}
	t.Logf("answers by class of status: %v", a.asked)
	assert.Greater(t, a.asked[2]+a.asked[4], 1500)
	assert.Greater(t, a.asked[2], 100, "some are right after all")
	assert.Zero(t, endeixis(t, a.s, "administrator", "record", "audit").code)
}

// FuzzRequests puts what the fuzzer finds into any place of any operation of the
// API's own description: a parameter, a field of the body, or the body itself.
func FuzzRequests(f *testing.F) {
	a := newAsker(f)
	targets := a.targets()
	for i := range targets {
		f.Add(uint8(i), uint8(0), []byte("a\x00b"))
		f.Add(uint8(i), uint8(1), []byte(`{"reason": 1e400}`))
		f.Add(uint8(i), uint8(2), []byte(`[null, "9223372036854775808"]`))
	}
	f.Fuzz(func(t *testing.T, which, where uint8, found []byte) {
		if len(found) > 4096 {
			return
		}
		o := targets[int(which)%len(targets)]
		body := a.body(o)
		fields, _ := body.(map[string]any)
		names := slices.Sorted(maps.Keys(fields))
		good, err := json.Marshal(body)
		require.NoError(t, err)
		address, headers := a.address(o, "", ""), http.Header{}
		switch n := int(where) % (len(o.Parameters) + len(names) + 1); {
		case n < len(o.Parameters) && o.Parameters[n].In == "header":
			if !httpguts.ValidHeaderFieldValue(string(found)) {
				return
			}
			headers[o.Parameters[n].Name] = []string{string(found)}
		case n < len(o.Parameters):
			address = a.address(o, o.Parameters[n].Name, url.PathEscape(string(found)))
		case n < len(o.Parameters)+len(names):
			spoilt := maps.Clone(fields)
			spoilt[names[n-len(o.Parameters)]] = string(found)
			if json.Valid(found) {
				spoilt[names[n-len(o.Parameters)]] = json.RawMessage(found)
			}
			if good, err = json.Marshal(spoilt); err != nil {
				return
			}
		default:
			good = found
		}
		a.ask(t, o, address, headers, good)
	})
}

// TestManyUnknownFields: a request is answered with the first things that are
// wrong with it, not with all of them, and never with itself.
func TestManyUnknownFields(t *testing.T) {
	t.Parallel()
	s := testkit.StartBare(t)
	for _, n := range []int{200, 80_000} {
		var body strings.Builder
		body.WriteString(`{"name":"ines","password":"x"`)
		for i := range n {
			fmt.Fprintf(&body, `,"f%d":0`, i)
		}
		body.WriteString("}")
		start := time.Now()
		for path, token := range map[string]string{"/sessions": "", "/publishers": s.Token(t, "curator")} {
			request, err := http.NewRequestWithContext(
				t.Context(), http.MethodPost, s.URL+"/api/v1"+path, strings.NewReader(body.String()),
			)
			require.NoError(t, err)
			request.Header.Set("Content-Type", "application/json")
			if token != "" {
				request.Header.Set("Authorization", "Bearer "+token)
			}
			response, err := http.DefaultClient.Do(request)
			require.NoError(t, err)
			answer, err := io.ReadAll(response.Body)
			response.Body.Close()
			require.NoError(t, err)
			assert.Less(t, len(answer), 4000, "%s with %d fields", path, n)
			if n == 200 {
				assert.Equal(t, http.StatusUnprocessableEntity, response.StatusCode)
				p := problem(t, answer)
				assert.EqualValues(t, "request-invalid", p.Code)
				assert.NotEmpty(t, p.Facts, "it says how many more there are")
			} else {
				assert.Equal(t, http.StatusRequestEntityTooLarge, response.StatusCode)
				assert.EqualValues(t, "request-too-large", problem(t, answer).Code)
			}
		}
		assert.Less(t, time.Since(start), 20*time.Second, "the cost is linear in what was sent")
	}
}

// TestAuditKnowsTheKey: a ledger that is signed with another key than the profile
// remembers is another ledger, however clean it is.
func TestAuditKnowsTheKey(t *testing.T) {
	t.Parallel()
	s := testkit.StartBare(t)
	_, other, err := note.GenerateKey(rand.Reader, "verify.skerrow.example")
	require.NoError(t, err)
	for key, code := range map[string]int{s.PublicKey: 0, other: 10, "nonsense": 10} {
		file := filepath.Join(t.TempDir(), "profile.yaml")
		require.NoError(t, cli.SaveProfile(file, s.URL, "merit", "auditor", s.Token(t, "auditor"), key))
		r := endeixisWith(t, []string{"ENDEIXIS_PROFILE=" + file}, "", "record", "audit")
		assert.Equal(t, code, r.code, "%s: %s%s", key, r.out, r.err)
		if code != 0 {
			assert.Contains(t, r.err, "signed with another key than the one remembered")
		}
	}
}

// TestSlowedSignInsSayWhen they can be tried again.
func TestSlowedSignInsSayWhen(t *testing.T) {
	t.Parallel()
	s := testkit.StartBare(t)
	for range 30 {
		response, err := http.Post(
			s.URL+"/api/v1/sessions", "application/json", strings.NewReader(`{"name":"ines","password":"a guess"}`),
		)
		require.NoError(t, err)
		response.Body.Close()
		if response.StatusCode == http.StatusTooManyRequests {
			assert.NotEmpty(t, response.Header.Get("Retry-After"))
			assert.Equal(t, "no-store", response.Header.Get("Cache-Control"))
			return
		}
		assert.Equal(t, http.StatusUnauthorized, response.StatusCode)
	}
	t.Fatal("guessing is not slowed")
}
