package store

import (
	"context"
	"sync/atomic"
	"time"
)

// A Clock tells the database's time: all that is stored or compared goes by it,
// whichever host it comes from. Between two looks it runs with the host's own
// clock.
type Clock struct {
	store *Store
	ahead atomic.Int64 // of the database before this host, in nanoseconds
}

// NewClock returns a clock that has looked once.
func NewClock(ctx context.Context, s *Store) (*Clock, error) {
	c := &Clock{store: s}
	return c, c.Look(ctx)
}

// Look compares this host's clock with the database's.
func (c *Clock) Look(ctx context.Context) error {
	var database time.Time
	before := time.Now()
	if err := c.store.db.GetContext(ctx, &database, `SELECT clock_timestamp()`); err != nil {
		return explain(err)
	}
	// The answer was given somewhere between asking and hearing it.
	middle := before.Add(time.Since(before) / 2)
	c.ahead.Store(int64(database.Sub(middle)))
	return nil
}

// Now returns the time, in UTC and whole microseconds, as the database keeps it.
func (c *Clock) Now() time.Time {
	return time.Now().Add(c.Ahead()).UTC().Truncate(time.Microsecond)
}

// Ahead returns by how much the database's clock is ahead of this host's.
func (c *Clock) Ahead() time.Duration { return time.Duration(c.ahead.Load()) }
