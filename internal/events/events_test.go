package events_test

import (
	"context"
	"errors"
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/internal/events"
	"endeixis/internal/store"
	"endeixis/internal/testkit"
)

func TestMain(m *testing.M) { testkit.Main(m) }

func TestHubWakesThoseWhoWait(t *testing.T) {
	t.Parallel()
	s, err := store.Open(t.Context(), testkit.Database(t))
	require.NoError(t, err)
	defer s.Close()
	require.NoError(t, s.Migrate(t.Context()))
	h := events.NewHub()
	woken, endOne := h.Watch(1)
	two, endTwo := h.Watch(2)
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() {
		h.Run(ctx, s, slog.New(slog.DiscardHandler))
		close(done)
	}()
	receive := func(c <-chan struct{}) bool {
		select {
		case <-c:
			return true
		case <-time.After(3 * time.Second):
			return false
		}
	}
	assert.True(t, receive(woken), "everybody looks once when listening begins")
	assert.True(t, receive(two))
	require.NoError(
		t, s.Do(t.Context(), func(ctx context.Context, tx *store.Tx) error { return tx.Announce(t.Context(), 1) }),
	)
	assert.True(t, receive(woken))
	select {
	case <-two:
		t.Error("a batch that did not move woke somebody")
	default:
	}
	endOne()
	require.NoError(t, s.Do(t.Context(), func(ctx context.Context, tx *store.Tx) error {
		return errors.Join(tx.Announce(t.Context(), 1), tx.Announce(t.Context(), 2))
	}))
	assert.True(t, receive(two))
	select {
	case <-woken:
		t.Error("who has ended watching was woken")
	default:
	}
	endTwo()
	cancel()
	<-done
}
