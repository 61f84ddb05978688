package store_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/internal/store"
	"endeixis/internal/testkit"
)

// TestClock goes by the database, and between two looks by itself.
func TestClock(t *testing.T) {
	t.Parallel()
	s, err := store.Open(t.Context(), testkit.Database(t))
	require.NoError(t, err)
	defer s.Close()
	c, err := store.NewClock(t.Context(), s)
	require.NoError(t, err)
	assert.Less(t, c.Ahead().Abs(), 5*time.Second, "here they are the same clock")
	first := c.Now()
	time.Sleep(5 * time.Millisecond)
	assert.True(t, c.Now().After(first))
	assert.Equal(t, time.UTC, c.Now().Location())
	assert.Zero(t, c.Now().Nanosecond()%1000, "whole microseconds")
}
