package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/judge"
	"endeixis/internal/fault"
	"endeixis/internal/roles"
	"endeixis/internal/state"
	"endeixis/internal/wire"
)

// answers are what a service answers, by method and path below the base: a value, or a problem.
type answers map[string]any

// ran is what a command has left.
type ran struct {
	code     int
	out, err string
	asked    []string
}

// against runs a command against a service with those answers, as somebody who is signed in.
func against(t *testing.T, service answers, args ...string) ran {
	t.Helper()
	var r ran
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		what := q.Method + " " + strings.TrimPrefix(q.URL.Path, wire.Base)
		r.asked = append(r.asked, what)
		w.Header().Set(wire.LevelHeader, q.Header.Get(wire.LevelHeader))
		w.Header().Set("Content-Type", "application/json")
		answer, ok := service[what]
		if !ok {
			answer = wire.Problem{Status: 404, Code: fault.NoSuchAddress, Detail: "There is nothing at this address."}
		}
		if p, ok := answer.(wire.Problem); ok {
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(p.Status)
		}
		assert.NoError(t, json.NewEncoder(w).Encode(answer))
	}))
	defer server.Close()
	return run(t, server.URL, &r, args...)
}

func run(t *testing.T, address string, r *ran, args ...string) ran {
	t.Helper()
	t.Setenv("ENDEIXIS_PROFILE", filepath.Join(t.TempDir(), "profile.yaml"))
	t.Setenv("ENDEIXIS_SERVER", address)
	t.Setenv("ENDEIXIS_TOKEN", "endx_made_up")
	var out, err bytes.Buffer
	a := &app{stdin: strings.NewReader(""), stdout: &out, stderr: &err, columns: 100}
	r.code = a.run(t.Context(), args)
	r.out, r.err = out.String(), err.String()
	return *r
}

func page[T any](items ...T) wire.Page[T] {
	if items == nil {
		items = []T{}
	}
	return wire.Page[T]{Items: items}
}

// batch is one that has ended with a verdict, with what is asked beside it.
func batch(verdict judge.Verdict, counts wire.Counts) answers {
	when := time.Date(2026, 10, 3, 9, 0, 0, 0, time.UTC)
	return answers{
		"GET /batches/12": wire.Batch{
			ID: 12, Source: wire.Source{Kind: "depot", Reference: "quayside:in"}, Depot: "quayside", Path: "in",
			AskedBy: "ines", Created: when, Finished: &when, State: state.BatchDone, Verdict: &verdict, Counts: counts,
		},
		"GET /batches/12/items": page[wire.Item](), "GET /batches/12/absent": page[wire.Absent](),
		"GET /batches/12/copies": page[wire.Copy](), "GET /batches/12/reassessments": page[wire.Reassessment](),
	}
}

// TestVerdictsAreExitCodes: a batch ends the program with its verdict, in every form of output,
// and JSON is alone on standard output.
func TestVerdictsAreExitCodes(t *testing.T) {
	for verdict, code := range map[judge.Verdict]int{judge.Cleared: 0, judge.Refused: 10, judge.Unproven: 11} {
		service := batch(verdict, wire.Counts{Cleared: 2, Refused: 1})
		r := against(t, service, "batch", "show", "12")
		assert.Equal(t, code, r.code, "%s %s", r.out, r.err)
		assert.Contains(t, r.out, string(verdict))
		r = against(t, service, "batch", "show", "12", "-o", "json")
		assert.Equal(t, code, r.code)
		var shown struct {
			Verdict judge.Verdict `json:"verdict"`
			Counts  wire.Counts   `json:"counts"`
		}
		require.NoError(t, json.Unmarshal([]byte(r.out), &shown), r.out)
		assert.Equal(t, verdict, shown.Verdict)
		assert.Equal(t, 2, shown.Counts.Cleared)
	}
	// A batch that has no verdict has none: neither of the three codes is its.
	open := batch(judge.Cleared, wire.Counts{})
	b := open["GET /batches/12"].(wire.Batch)
	b.State, b.Verdict, b.Finished = state.BatchMeasuring, nil, nil
	open["GET /batches/12"] = b
	r := against(t, open, "batch", "show", "12")
	assert.NotContains(t, []int{10, 11}, r.code)
	assert.NotContains(t, r.out, "cleared\n")
}

// TestAnswersThatLackSomething: an answer without a member that it must have is no answer, and
// nothing is said by it.
func TestAnswersThatLackSomething(t *testing.T) {
	service := batch(judge.Cleared, wire.Counts{Cleared: 1})
	text, err := json.Marshal(service["GET /batches/12"])
	require.NoError(t, err)
	for _, member := range []string{"verdict", "state", "counts", "id"} {
		var members map[string]any
		require.NoError(t, json.Unmarshal(text, &members))
		delete(members, member)
		service["GET /batches/12"] = members
		r := against(t, service, "batch", "show", "12")
		assert.Equal(t, exitFailed, r.code, member)
		assert.Empty(t, r.out, member)
		assert.Contains(t, r.err, member)
	}
}

// TestProblemsAreExitCodes: what a service says is wrong goes to standard error with its advice, and the code
// tells whether anything can be done here.
func TestProblemsAreExitCodes(t *testing.T) {
	for status, code := range map[int]int{
		401: exitNoAccess, 403: exitNoAccess, 429: exitNoAccess, 503: exitNoAccess,
		404: exitFailed, 409: exitFailed, 422: exitFailed, 500: exitFailed,
	} {
		r := against(t, answers{"GET /publishers": wire.Problem{
			Status: status, Code: "made-up", Detail: "It is so.", Advice: "Do that.",
		}}, "publisher", "list")
		assert.Equal(t, code, r.code, status)
		assert.Equal(t, "endeixis: It is so. Do that.\n", r.err, status)
		assert.Empty(t, r.out, status)
	}
	r := run(t, "http://127.0.0.1:1", &ran{}, "publisher", "list")
	assert.Equal(t, exitNoAccess, r.code)
	assert.Contains(t, r.err, "127.0.0.1:1")
}

// TestWrongUsageAsksNobody: what is wrong with a command is said before anybody is asked.
func TestWrongUsageAsksNobody(t *testing.T) {
	for _, args := range [][]string{
		{"batch", "show"},
		{"batch", "show", "12", "--itme", "x"},
		{"publisher", "list", "-o", "xml"},
		{"publisher", "lits"},
		{"batch", "run"},
		{"record", "list", "--verdict", "fine"},
		{"keyring", "admit"},
		{"readback"},
	} {
		r := against(t, answers{}, args...)
		assert.Equal(t, exitUsage, r.code, "%v: %s", args, r.err)
		assert.Empty(t, r.asked, "%v", args)
		assert.Empty(t, r.out, "%v", args)
		assert.NotEmpty(t, r.err, "%v", args)
	}
}

// TestFormsOfOutput: a list is a table for people, with what is odd in it made safe, and the same
// for programs; an empty list says so in words, and to programs it is empty.
func TestFormsOfOutput(t *testing.T) {
	quoin := wire.Publisher{
		Slug: "quoin", Name: "Quoin\x1b[31m", Contact: "keys@quoin.example", Scope: []string{"quoin-*"},
		Created: time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC), By: "ines", Version: "4",
	}
	service := answers{"GET /publishers": page(quoin)}
	r := against(t, service, "publisher", "list")
	require.Zero(t, r.code, r.err)
	assert.Contains(t, r.out, "quoin-*")
	assert.NotContains(t, r.out, "\x1b[31m", "no text from outside commands the terminal")
	r = against(t, service, "publisher", "list", "-o", "csv")
	assert.Len(t, strings.Split(strings.TrimSpace(r.out), "\n"), 2)
	for _, form := range []string{"json", "yaml"} {
		r = against(t, service, "publisher", "list", "-o", form)
		assert.Contains(t, r.out, "keys@quoin.example", form)
		assert.NotContains(t, r.out, "\x1b", form)
	}
	none := answers{"GET /publishers": page[wire.Publisher]()}
	assert.NotEmpty(t, against(t, none, "publisher", "list").out)
	var list []wire.Publisher
	require.NoError(t, json.Unmarshal([]byte(against(t, none, "publisher", "list", "-o", "json").out), &list))
	assert.Empty(t, list)
	assert.NotNil(t, list, "[] and not null")
}

// TestTokens: the text of a token is shown once, and to a program as a member.
func TestTokens(t *testing.T) {
	issued := wire.IssuedToken{
		Token: wire.Token{ID: 3, Owner: "ines", Label: "gate", Role: roles.Operator, Expires: time.Now().Add(time.Hour)},
		Text:  "endx_0123456789",
	}
	service := answers{"POST /tokens": issued, "GET /tokens": page(issued.Token)}
	r := against(t, service, "token", "issue", "--label", "gate", "--role", "operator", "--days", "1")
	require.Zero(t, r.code, r.err)
	assert.Equal(t, 1, strings.Count(r.out+r.err, issued.Text))
	assert.NotContains(t, against(t, service, "token", "list").out, issued.Text)
	r = against(t, service, "token", "issue", "--label", "gate", "--role", "operator", "--days", "1", "-o", "json")
	var shown wire.IssuedToken
	require.NoError(t, json.Unmarshal([]byte(r.out), &shown), fmt.Sprint(r.out, r.err))
	assert.Equal(t, issued.Text, shown.Text)
}
