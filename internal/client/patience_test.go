package client_test

import (
	"encoding/json"
	"errors"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/internal/client"
	"endeixis/internal/wire"
)

// TestPatience: what can be asked twice is asked again after a connection was lost, or
// something else has answered; what cannot is not.
func TestPatience(t *testing.T) {
	for name, c := range map[string]struct {
		fails func(w http.ResponseWriter)
		again bool
	}{
		"the line is cut": {func(w http.ResponseWriter) {
			conn, _, err := w.(http.Hijacker).Hijack()
			require.NoError(t, err)
			conn.Close()
		}, true},
		"a proxy that has nobody behind it": {func(w http.ResponseWriter) { http.Error(w, "<html>Bad gateway</html>", http.StatusBadGateway) }, true},
		"the page of a network": {func(w http.ResponseWriter) {
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			w.Write([]byte("<html>Agree to our terms</html>"))
		}, true},
		"a problem": {func(w http.ResponseWriter) {
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(http.StatusForbidden)
			w.Write([]byte(`{"status":403,"code":"forbidden","detail":"No."}`))
		}, false},
	} {
		t.Run(name, func(t *testing.T) {
			var asked atomic.Int32
			s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if asked.Add(1) <= 2 {
					c.fails(w)
					return
				}
				w.Header().Set("Content-Type", "application/json")
				var said any = wire.Batch{}
				if r.Method != http.MethodGet {
					said = wire.Taken{}
				}
				assert.NoError(t, json.NewEncoder(w).Encode(said))
			}))
			defer s.Close()
			hasty, err := client.New(s.URL, "a token")
			require.NoError(t, err)
			var told []error
			patient := hasty.Patiently(20*time.Second, func(err error) { told = append(told, err) })

			_, err = patient.Batch(t.Context(), 1)
			assert.Equal(t, c.again, err == nil, "%v", err)
			assert.Len(t, told, map[bool]int{true: 1}[c.again], "once, however often it fails")
			asked.Store(0)
			_, err = patient.SendMeasurements(t.Context(), 1, []wire.Submission{})
			assert.Equal(t, c.again, err == nil, "measurements may be sent again")
			asked.Store(0)
			_, err = patient.CancelBatch(t.Context(), 1, "a test")
			assert.Error(t, err, "what counts twice when it is asked twice is not")
			asked.Store(0)
			_, err = hasty.Batch(t.Context(), 1)
			assert.Error(t, err)
			assert.Equal(t, c.again, client.Lost(err))
		})
	}
	nobody, err := client.New("http://127.0.0.1:9", "")
	require.NoError(t, err)
	begun := time.Now()
	_, err = nobody.Patiently(time.Second, nil).Batch(t.Context(), 1)
	var unreachable *client.Unreachable
	assert.True(t, errors.As(err, &unreachable))
	assert.Less(t, time.Since(begun), 20*time.Second)
}
