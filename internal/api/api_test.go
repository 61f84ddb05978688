package api

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/danielgtaylor/huma/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/internal/fault"
	"endeixis/internal/roles"
	"endeixis/internal/version"
	"endeixis/internal/wire"
)

// TestDocumentIsCurrent keeps the committed description true; the console's
// types are made from it.
func TestDocumentIsCurrent(t *testing.T) {
	document, err := Document()
	require.NoError(t, err)
	committed, err := os.ReadFile(filepath.Join("..", "..", "docs", "openapi.yaml"))
	require.NoError(t, err)
	assert.Equal(t, string(document), string(committed), "run “make openapi”")
}

// TestEveryOperationSaysWhoMayCallIt guards against a door without a lock.
func TestEveryOperationSaysWhoMayCallIt(t *testing.T) {
	a := New(Parts{})
	count := 0
	for path, item := range a.huma.OpenAPI().Paths {
		for method, o := range map[string]*huma.Operation{"GET": item.Get, "POST": item.Post, "DELETE": item.Delete, "PUT": item.Put, "PATCH": item.Patch} {
			if o == nil {
				continue
			}
			count++
			role, ok := o.Metadata[roleOf].(roles.Role)
			if path == "/api/v1/sessions" {
				continue // signing in is for everybody
			}
			require.True(t, ok && role.Valid(), "%s %s", method, path)
			if method != "GET" && !strings.Contains(path, "tokens") && !strings.Contains(path, "sessions") &&
				!strings.Contains(path, "audits") &&
				!strings.HasSuffix(path, "/reach") &&
				!strings.Contains(path, "readings") &&
				path != "/api/v1/me/password" {
				assert.NotEqual(t, roles.Auditor, role, "%s %s changes something", method, path)
			}
		}
	}
	assert.Greater(t, count, 25)
}

// TestLevels: a program of a level that is not served is told so before anything is done, whatever
// it asks; one that names none is of the first.
func TestLevels(t *testing.T) {
	a := New(Parts{Log: slog.New(slog.DiscardHandler)})
	for asked, says := range map[string]string{
		"": "", "1": "", fmt.Sprint(wire.Level): "", fmt.Sprint(wire.Level + 1): "The service is the older one", "99": "The service is the older one",
		"0": "Bring the program that asks up to date", "<b>": "Bring the program that asks up to date",
	} {
		for _, path := range []string{"/api/v1/me", "/api/v1/batches/1/events", "/api/v1/none"} {
			r := httptest.NewRequest(http.MethodGet, path, nil)
			if asked != "" {
				r.Header.Set(wire.LevelHeader, asked)
				r.Header.Set(wire.VersionHeader, "9.9.9+abc")
			}
			w := httptest.NewRecorder()
			a.engine.ServeHTTP(w, r)
			spoken := wire.Level
			if says == "" { // it is served
				spoken = wire.LevelOf(asked)
			}
			assert.Equal(
				t, fmt.Sprint(spoken), w.Header().Get(wire.LevelHeader), "an answer is of the level that was asked in",
			)
			assert.Equal(t, version.Full(), w.Header().Get(wire.VersionHeader))
			if says == "" {
				assert.NotContains(t, w.Body.String(), "level-unserved", "%q %s", asked, path)
				continue
			}
			assert.Equal(t, http.StatusBadRequest, w.Code, "%q %s", asked, path)
			assert.Contains(t, w.Body.String(), "level-unserved")
			assert.Contains(t, w.Body.String(), says)
			assert.Contains(t, w.Body.String(), "9.9.9+abc")
		}
	}
	page, err := os.ReadFile(filepath.Join("..", "..", "console", "src", "api", "client.ts"))
	require.NoError(t, err)
	assert.Contains(
		t, string(page), fmt.Sprintf(`{ name: %q, value: "%d" }`, wire.LevelHeader, wire.Level),
		"the console speaks the same level",
	)
}

func TestProblems(t *testing.T) {
	log := slog.New(slog.DiscardHandler)
	type answer struct {
		status int
		title  string
	}
	for kind, want := range map[fault.Kind]answer{
		fault.Invalid: {422, "Unprocessable Entity"}, fault.Unauthenticated: {401, "Unauthorized"}, fault.Denied: {403, "Forbidden"}, fault.NotFound: {404, "Not Found"},
		fault.Conflict: {409, "Conflict"}, fault.Unavailable: {503, "Service Unavailable"}, fault.TooMany: {429, "Too Many Requests"},
	} {
		p := problemOf(
			context.Background(), log, fault.New(kind, "a-code", "What %s.", "happened").Advise("Do this.").At("field"),
		)
		assert.Equal(
			t,
			Problem{
				Type: "about:blank", Title: want.title, Status: want.status, Detail: "What happened.", Code: "a-code",
				Advice: "Do this.", Field: "field",
			},
			*p,
		)
	}
	p := problemOf(context.Background(), log, errors.New("password of the database is xyzzy"))
	assert.Equal(t, 500, p.Status)
	assert.NotContains(t, p.Detail+p.Advice, "xyzzy", "what went wrong inside is for the log")
}

// TestReadablePagesTellEveryOperation, whatever its method.
func TestReadablePagesTellEveryOperation(t *testing.T) {
	a := New(Parts{Console: fstest.MapFS{}, Log: slog.New(slog.DiscardHandler)})
	w := httptest.NewRecorder()
	a.Handler().ServeHTTP(w, httptest.NewRequest(http.MethodGet, "/api/v1/docs", nil))
	require.Equal(t, 200, w.Code)
	methods := map[string]int{}
	for path, item := range a.huma.OpenAPI().Paths {
		for method, o := range map[string]*huma.Operation{"GET": item.Get, "POST": item.Post, "DELETE": item.Delete, "PUT": item.Put, "PATCH": item.Patch} {
			if o != nil {
				methods[method]++
				assert.Contains(t, w.Body.String(), "<code>"+method+" "+path+"</code>")
			}
		}
	}
	assert.Positive(t, methods["PATCH"], "there is none to look for")
}

// TestEventNumbersGrow through the whole life of a batch.
func TestEventNumbersGrow(t *testing.T) {
	last := 0
	for _, b := range []wire.Batch{
		{State: "waiting"},
		{State: "measuring"},
		{State: "measuring", Progress: wire.Progress{BytesDone: 10}},
		{State: "measuring", Progress: wire.Progress{BytesDone: 10, ItemsDone: 1}},
		{State: "done", Progress: wire.Progress{BytesDone: 10, ItemsDone: 1}},
	} {
		assert.Greater(t, eventOf(b), last)
		last = eventOf(b)
	}
}

// TestWordsAreDescribed: every vocabulary is in the description with all of its
// words, and every operation of the table is registered.
func TestWordsAreDescribed(t *testing.T) {
	a := New(Parts{})
	schemas := a.huma.OpenAPI().Components.Schemas.Map()
	for _, v := range vocabularies {
		require.Contains(t, schemas, v.name)
		assert.NotEmpty(t, v.words)
		assert.Equal(t, v.words, schemas[v.name].Enum)
	}
	verdict := schemas["Batch"].Properties["verdict"]
	require.Len(t, verdict.AnyOf, 2, "a batch has no verdict at first")
	assert.Equal(t, "#/components/schemas/Verdict", verdict.AnyOf[0].Ref)
	assert.Equal(t, "#/components/schemas/Verdict", schemas["VerdictChange"].Properties["from"].Ref)
}

// TestTableIsRegistered reads the table of operations and looks for each in the
// description, so that none is called that is not there.
func TestTableIsRegistered(t *testing.T) {
	a := New(Parts{})
	registered := map[string]string{}
	for path, item := range a.huma.OpenAPI().Paths {
		for method, o := range map[string]*huma.Operation{"GET": item.Get, "POST": item.Post, "DELETE": item.Delete, "PUT": item.Put, "PATCH": item.Patch} {
			if o != nil {
				registered[o.OperationID] = method + " " + strings.TrimPrefix(path, wire.Base)
			}
		}
	}
	text, err := os.ReadFile(filepath.Join("..", "wire", "operations.go"))
	require.NoError(t, err)
	methods := map[string]string{"get": "GET", "post": "POST", "patch": "PATCH", "put": "PUT", "remove": "DELETE"}
	table := map[string]string{}
	for _, m := range regexp.MustCompile(`Method:\s*(\w+),\s+Path:\s*"([^"]+)",\s+ID:\s*"([^"]+)"`).FindAllStringSubmatch(string(text), -1) {
		table[m[3]] = methods[m[1]] + " " + m[2]
	}
	assert.Equal(t, table, registered)
}

// TestCounters are bounded by name, and free again when something ends.
func TestCounters(t *testing.T) {
	c := counter{most: 3}
	var leave []func()
	for range 3 {
		l, ok := c.enter("ines")
		require.True(t, ok)
		leave = append(leave, l)
	}
	_, ok := c.enter("ines")
	assert.False(t, ok)
	_, ok = c.enter("tobiah")
	assert.True(t, ok)
	leave[0]()
	_, ok = c.enter("ines")
	assert.True(t, ok)
}

// TestRequestsUnderWay: an address with as many requests as it may have gets no
// more, others do; whom a proxy asks for counts only where that proxy is trusted.
func TestRequestsUnderWay(t *testing.T) {
	const busy, proxy = "203.0.113.9", "10.0.0.1"
	for what, c := range map[string]struct {
		from, forwarded string
		trusted         []string
		status          int
	}{
		"the busy one":                    {busy, "", nil, http.StatusTooManyRequests},
		"another":                         {"203.0.113.10", "", nil, http.StatusUnauthorized},
		"the busy one behind a proxy":     {proxy, busy, []string{proxy}, http.StatusTooManyRequests},
		"the same in a trusted network":   {proxy, busy, []string{"10.0.0.0/8"}, http.StatusTooManyRequests},
		"another behind the proxy":        {proxy, "203.0.113.10", []string{proxy}, http.StatusUnauthorized},
		"a proxy that is not trusted":     {proxy, busy, nil, http.StatusUnauthorized},
		"the busy one who says otherwise": {busy, "203.0.113.10", []string{proxy}, http.StatusTooManyRequests},
	} {
		a := New(Parts{Log: slog.New(slog.DiscardHandler), TrustedProxies: c.trusted})
		for range maxUnderway {
			_, ok := a.underway.enter("address " + busy)
			require.True(t, ok)
		}
		request := httptest.NewRequest(http.MethodGet, "/api/v1/batches", nil)
		request.RemoteAddr = c.from + ":4242"
		if c.forwarded != "" {
			request.Header.Set("X-Forwarded-For", c.forwarded)
		}
		answer := httptest.NewRecorder()
		a.Handler().ServeHTTP(answer, request)
		assert.Equal(t, c.status, answer.Code, "%s: %s", what, answer.Body)
	}
}
