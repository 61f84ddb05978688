// Package events passes on, within this process, what the database announces:
// that a batch has moved, or that the ledger has grown.
package events

import (
	"context"
	"log/slog"
	"strconv"
	"sync"
	"time"

	"endeixis/internal/store"
)

// Hub wakes those who wait for a batch.
type Hub struct {
	mu      sync.Mutex
	waiting map[int64]map[chan struct{}]bool
}

// NewHub returns a Hub that passes nothing on until Run.
func NewHub() *Hub { return &Hub{waiting: map[int64]map[chan struct{}]bool{}} }

// Watch returns a channel that receives after the batch has moved, several
// moves at once if the receiver is slow, and a function that ends it.
func (h *Hub) Watch(batch int64) (<-chan struct{}, func()) {
	c := make(chan struct{}, 1)
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.waiting[batch] == nil {
		h.waiting[batch] = map[chan struct{}]bool{}
	}
	h.waiting[batch][c] = true
	return c, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(h.waiting[batch], c)
		if len(h.waiting[batch]) == 0 {
			delete(h.waiting, batch)
		}
	}
}

func (h *Hub) wake(batch int64) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for c := range h.waiting[batch] {
		signal(c)
	}
}

// wakeAll makes everybody look again, after announcements may have been lost.
func (h *Hub) wakeAll() {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, watchers := range h.waiting {
		for c := range watchers {
			signal(c)
		}
	}
}

func signal(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

// Run passes on the announcements of the database until ctx ends, connecting
// again when the connection breaks.
func (h *Hub) Run(ctx context.Context, s *store.Store, log *slog.Logger) {
	Follow(ctx, s, store.NotifyBatch, log, h.wakeAll, func(payload string) {
		if id, err := strconv.ParseInt(payload, 10, 64); err == nil {
			h.wake(id)
		}
	})
}

// Follow calls f for every announcement on a channel until ctx ends. ready is
// called whenever it is listening, for what happened before was not heard.
func Follow(
	ctx context.Context, s *store.Store, channel string, log *slog.Logger, ready func(), f func(payload string),
) {
	for {
		err := s.Listen(ctx, channel, ready, f)
		if ctx.Err() != nil {
			return
		}
		log.Warn("listening to the database was interrupted", "channel", channel, "error", err)
		select {
		case <-ctx.Done():
			return
		case <-time.After(time.Second):
		}
	}
}
