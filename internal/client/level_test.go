package client

import (
	"fmt"
	"net/http"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/internal/version"
	"endeixis/internal/wire"
)

// TestLevels: what a service of another level answers is not read, whatever it looks like; both
// versions are named, and which of the two programs is to be brought up to date.
func TestLevels(t *testing.T) {
	t.Parallel()
	for level, says := range map[string]string{
		strconv.Itoa(wire.Level + 1): "This program is the older one", "900": "This program is the older one", "0": "The service is the older one", "x": "The service is the older one",
	} {
		for _, code := range []int{http.StatusOK, http.StatusConflict, http.StatusNoContent} {
			c := serve(t, func(w http.ResponseWriter, r *http.Request) {
				assert.Equal(t, strconv.Itoa(wire.Level), r.Header.Get(wire.LevelHeader))
				assert.Equal(t, version.Full(), r.Header.Get(wire.VersionHeader))
				w.Header().Set(wire.LevelHeader, level)
				w.Header().Set(wire.VersionHeader, "7.1.0+abc")
				w.WriteHeader(code)
				if code != http.StatusNoContent {
					fmt.Fprint(w, `{"clean":false,"code":"wrong","detail":"It is broken."}`)
				}
			})
			_, err := c.Audit(t.Context(), wire.NewAudit{}, nil)
			var differs *LevelError
			require.ErrorAs(t, err, &differs, level)
			assert.True(t, Differs(err))
			assert.ErrorContains(t, err, says)
			assert.ErrorContains(t, err, "endeixisd 7.1.0+abc")
			assert.ErrorContains(t, err, "endeixis "+version.Version)
			assert.NotContains(t, err.Error(), "broken")
			_, err = c.Follow(t.Context(), 1, func(wire.Batch) { t.Error("nothing was told") })
			require.ErrorAs(t, err, &differs)
		}
	}
}

// TestNothingIsTakenForNo: an answer without the member that says whether a ledger is whole says
// nothing about it, and one without a verdict is none.
func TestNothingIsTakenForNo(t *testing.T) {
	t.Parallel()
	c := serve(t, func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Accept") == "text/event-stream" {
			fmt.Fprint(w, "event: batch\ndata: {\"id\":1,\"state\":\"done\"}\n\n")
			return
		}
		fmt.Fprint(w, `{"records":7,"sentence":"All 7 records are as they were written.","whole":true}`)
	})
	_, err := c.Audit(t.Context(), wire.NewAudit{}, nil)
	var unlike *Unlike
	require.ErrorAs(t, err, &unlike)
	assert.ErrorContains(t, err, "it does not say “")
	assert.ErrorContains(t, err, "of a version that it does not tell")
	_, err = c.Follow(t.Context(), 1, func(wire.Batch) { t.Error("nothing was told") })
	require.ErrorAs(t, err, &unlike)
}

// TestGreet: anybody is told the version of a service, also of one whose answers are not understood.
func TestGreet(t *testing.T) {
	t.Parallel()
	for level, understood := range map[string]bool{"": true, strconv.Itoa(wire.Level): true, "900": false} {
		c := serve(t, func(w http.ResponseWriter, r *http.Request) {
			assert.Empty(t, r.Header.Get("Authorization"))
			w.Header().Set("Content-Type", "application/problem+json")
			if level != "" {
				w.Header().Set(wire.LevelHeader, level)
				w.Header().Set(wire.VersionHeader, "7.1.0")
			}
			w.WriteHeader(http.StatusUnauthorized)
		})
		met, err := c.Greet(t.Context())
		require.NoError(t, err)
		assert.Equal(t, understood, met.Differs == nil, level)
		assert.Equal(t, wire.LevelOf(level), met.Level)
	}
	c := serve(t, func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "<html>") })
	_, err := c.Greet(t.Context())
	assert.ErrorContains(t, err, "is not an Endeixis service")
}
