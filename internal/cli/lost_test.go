package cli

import (
	"context"
	"errors"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"

	"endeixis/internal/client"
	"endeixis/internal/wire"
)

// TestWhatWasBegunIsNotDenied: whatever ends a run whose batch has its number, it is said
// that the batch waits, and how to go on with it.
func TestWhatWasBegunIsNotDenied(t *testing.T) {
	a := &app{server: "http://verify.skerrow.example"}
	ended, end := context.WithCancel(t.Context())
	end()
	for name, c := range map[string]struct {
		ctx context.Context
		err error
	}{
		"interrupted":        {ended, context.Canceled},
		"the line was cut":   {t.Context(), &client.Unreachable{Server: "http://verify.skerrow.example", Cause: errors.New("connection reset")}},
		"a proxy answers":    {t.Context(), &client.Error{Problem: wire.Problem{Status: http.StatusBadGateway, Code: "not-endeixis"}}},
		"the service is off": {t.Context(), &client.Error{Problem: wire.Problem{Status: http.StatusServiceUnavailable, Code: "unavailable"}}},
		"anything else":      {t.Context(), errors.New("the disc is full")},
	} {
		err := a.adviseSatchel(goesOn(c.ctx, 12, c.err))
		assert.ErrorContains(t, err, "endeixis batch resume 12", name)
		assert.NotContains(t, err.Error(), "nothing is on record", name)
	}
	assert.NoError(t, goesOn(t.Context(), 12, nil))
	assert.ErrorContains(
		t, a.adviseSatchel(&client.Unreachable{Server: "x", Cause: errors.New("refused")}), "nothing is on record",
		"before it was begun",
	)
}
