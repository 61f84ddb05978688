package serve_test

import (
	"context"
	"log/slog"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/internal/serve"
	"endeixis/internal/testkit"
)

func TestMain(m *testing.M) { testkit.Main(m) }

// TestAwaitDatabase waits for one that is away, says so once, and goes on at once
// where it answers.
func TestAwaitDatabase(t *testing.T) {
	t.Parallel()
	c := testkit.Bare(t)
	require.NoError(t, serve.AwaitDatabase(t.Context(), c, slog.New(slog.DiscardHandler)))
	var said strings.Builder
	c.Database.URL = "postgres://nobody@127.0.0.1:1/none"
	ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
	defer cancel()
	require.ErrorIs(t, serve.AwaitDatabase(ctx, c, slog.New(slog.NewTextHandler(&said, nil))), context.DeadlineExceeded)
	assert.Equal(t, 1, strings.Count(said.String(), "waiting for the database"))
	c.Database.URL = "nonsense://"
	require.ErrorContains(t, serve.AwaitDatabase(t.Context(), c, slog.New(slog.DiscardHandler)), "not the address")
}
