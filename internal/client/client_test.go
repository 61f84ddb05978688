package client

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/internal/wire"
)

func serve(t *testing.T, handler http.HandlerFunc) *Client {
	t.Helper()
	server := httptest.NewServer(handler)
	t.Cleanup(server.Close)
	c, err := New(server.URL+"/", "endx_token")
	require.NoError(t, err)
	return c
}

// answer is one that says everything.
func answer(t testing.TB, w io.Writer, v any) {
	t.Helper()
	require.NoError(t, json.NewEncoder(w).Encode(v))
}

func TestAddress(t *testing.T) {
	c, err := New("host:7474", "")
	require.NoError(t, err)
	assert.Equal(t, "http://host:7474", c.Server())
	for _, bad := range []string{"ftp://host", "http://", "ht tp://x", "://"} {
		_, err := New(bad, "")
		assert.ErrorContains(t, err, "not the address of a service", bad)
	}
}

func TestErrors(t *testing.T) {
	c := serve(t, func(w http.ResponseWriter, r *http.Request) {
		assert.Equal(t, "Bearer endx_token", r.Header.Get("Authorization"))
		switch r.URL.Path {
		case "/api/v1/me":
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(http.StatusConflict)
			fmt.Fprint(w, `{"status":409,"code":"wrong-state","detail":"It is so.","advice":"Do this."}`)
		case "/api/v1/status":
			http.Error(w, "<html>a proxy's page</html>", http.StatusBadGateway)
		default:
			fmt.Fprint(w, "not JSON")
		}
	})
	_, err := c.Me(t.Context())
	var problem *Error
	require.ErrorAs(t, err, &problem)
	assert.EqualValues(t, "wrong-state", problem.Code)
	assert.Equal(t, "It is so. Do this.", err.Error())
	_, err = c.Status(t.Context())
	require.ErrorAs(t, err, &problem)
	assert.EqualValues(t, "not-endeixis", problem.Code)
	assert.NotContains(t, err.Error(), "<html>")
	_, err = c.Batch(t.Context(), 1)
	assert.ErrorContains(t, err, "is not what this program expects")
	gone, err := New("http://127.0.0.1:1", "")
	require.NoError(t, err)
	_, err = gone.Me(t.Context())
	var unreachable *Unreachable
	require.ErrorAs(t, err, &unreachable)
	assert.Contains(t, err.Error(), "is it running")
}

func TestListsAreReadToTheEnd(t *testing.T) {
	c := serve(t, func(w http.ResponseWriter, r *http.Request) {
		page := wire.Page[wire.Batch]{}
		switch r.URL.Query().Get("cursor") {
		case "":
			page.Items, page.Next = []wire.Batch{{ID: 5}, {ID: 4}}, "4"
		case "4":
			page.Items, page.Next = []wire.Batch{{ID: 3}, {ID: 2}}, "2"
		case "2":
			page.Items = []wire.Batch{{ID: 1}}
		}
		json.NewEncoder(w).Encode(page)
	})
	all, err := c.Batches(t.Context(), "", 0)
	require.NoError(t, err)
	assert.Len(t, all, 5)
	first, err := c.Batches(t.Context(), "", 3)
	require.NoError(t, err)
	assert.Len(t, first, 3)
}

// tell sends what a batch has become.
func tell(t *testing.T, w http.ResponseWriter, id int, b wire.Batch) {
	text, err := json.Marshal(b)
	require.NoError(t, err)
	fmt.Fprintf(w, "id: %d\nevent: batch\ndata: %s\n\n", id, text)
	w.(http.Flusher).Flush()
}

// TestFollowComesBack breaks the stream twice, once with the service away, and
// expects to be told everything that matters and where to go on.
func TestFollowComesBack(t *testing.T) {
	var calls atomic.Int32
	var resumed atomic.Value
	event := func(w http.ResponseWriter, id int, b wire.Batch) { tell(t, w, id, b) }
	c := serve(t, func(w http.ResponseWriter, r *http.Request) {
		switch calls.Add(1) {
		case 1:
			event(w, 1, wire.Batch{ID: 7, State: "waiting"})
			event(w, 2, wire.Batch{ID: 7, State: "measuring"})
		case 2:
			w.WriteHeader(http.StatusServiceUnavailable)
			fmt.Fprint(w, `{"status":503,"code":"database-down","detail":"Away."}`)
		default:
			resumed.Store(r.Header.Get("Last-Event-ID"))
			event(w, 9, wire.Batch{ID: 7, State: "done"})
		}
	})
	var states []string
	b, err := c.Follow(t.Context(), 7, func(b wire.Batch) { states = append(states, string(b.State)) })
	require.NoError(t, err)
	assert.EqualValues(t, "done", b.State)
	assert.Equal(t, []string{"waiting", "measuring", "done"}, states)
	assert.Equal(t, "2", resumed.Load())
}

// TestFollowUntil: a batch is followed for as long as it is not as wanted, and not further.
func TestFollowUntil(t *testing.T) {
	c := serve(t, func(w http.ResponseWriter, r *http.Request) {
		tell(t, w, 1, wire.Batch{ID: 7, State: "waiting"})
		tell(t, w, 2, wire.Batch{ID: 7, State: "measuring"})
		<-r.Context().Done() // what comes next would be waited for
	})
	b, err := c.FollowUntil(t.Context(), 7, func(b wire.Batch) bool { return b.State != "waiting" })
	require.NoError(t, err)
	assert.EqualValues(t, "measuring", b.State)
	closed := serve(t, func(w http.ResponseWriter, _ *http.Request) {
		tell(t, w, 1, wire.Batch{ID: 7, State: "failed"})
	})
	b, err = closed.FollowUntil(t.Context(), 7, func(wire.Batch) bool { return false })
	require.NoError(t, err)
	assert.EqualValues(t, "failed", b.State, "a batch that is closed will not be as wanted")
}

func TestFollowEndsOnAProblem(t *testing.T) {
	c := serve(t, func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprint(
			w,
			"event: problem\ndata: {\"status\":404,\"code\":\"batch-unknown\",\"detail\":\"There is no batch 9.\"}\n\n",
		)
	})
	_, err := c.Follow(t.Context(), 9, func(wire.Batch) {})
	assert.ErrorContains(t, err, "There is no batch 9")

	ctx, cancel := context.WithCancelCause(t.Context())
	reason := errors.New("Ctrl-C")
	waiting := serve(t, func(w http.ResponseWriter, r *http.Request) {
		w.(http.Flusher).Flush()
		cancel(reason)
		<-r.Context().Done()
	})
	_, err = waiting.Follow(ctx, 9, func(wire.Batch) {})
	require.ErrorIs(t, err, reason)
}

func TestSignInExchangesTheSession(t *testing.T) {
	var seen []string
	c := serve(t, func(w http.ResponseWriter, r *http.Request) {
		seen = append(seen, r.Method+" "+r.URL.Path)
		switch r.URL.Path {
		case "/api/v1/sessions":
			assert.Empty(t, r.Header.Get("Authorization"), "an old token is not sent along")
			http.SetCookie(w, &http.Cookie{Name: "endeixis_session", Value: "s", Path: "/"})
			answer(t, w, wire.Me{Name: "ines"})
		case "/api/v1/tokens":
			cookie, err := r.Cookie("endeixis_session")
			require.NoError(t, err)
			assert.Equal(t, "s", cookie.Value)
			answer(t, w, wire.IssuedToken{Text: "endx_new"})
		default:
			w.WriteHeader(http.StatusNoContent)
		}
	})
	issued, err := c.SignIn(t.Context(), "ines", "secret", "a test", 3)
	require.NoError(t, err)
	assert.Equal(t, "endx_new", issued.Text)
	assert.Equal(t, []string{"POST /api/v1/sessions", "POST /api/v1/tokens", "DELETE /api/v1/sessions/current"}, seen)
}
