package jobs_test

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/internal/client"
	"endeixis/internal/testkit"
	"endeixis/internal/wire"
)

// follow waits for the end of a batch.
func follow(t *testing.T, c *client.Client, id int64) wire.Batch {
	t.Helper()
	b, err := c.Follow(t.Context(), id, func(wire.Batch) {})
	require.NoError(t, err)
	return b
}

// TestSmallBatchDoesNotWait has one worker, two huge files and a batch of many
// slices: a small batch that is asked for last ends first. Then the huge one is
// cancelled in the middle of a file.
func TestSmallBatchDoesNotWait(t *testing.T) {
	t.Parallel()
	c := testkit.Prepare(t)
	c.Work.Workers, c.Work.SliceItems = 1, 1
	s := testkit.StartWith(t, c)
	operator := s.Client(t, "operator")
	huge := filepath.Join(s.Depot, "huge")
	require.NoError(t, os.MkdirAll(huge, 0o755))
	for _, name := range []string{"a.iso", "b.iso"} {
		f, err := os.Create(filepath.Join(huge, name))
		require.NoError(t, err)
		require.NoError(t, f.Truncate(1<<40))
		require.NoError(t, f.Close())
	}
	many := map[string][]byte{}
	for i := range 80 {
		many[fmt.Sprintf("%d.img", i)] = make([]byte, 1<<20)
	}
	s.Write(t, "many", many)
	s.Write(t, "small", map[string][]byte{"lamp.img": []byte("lamp")})
	run := func(path string) int64 {
		b, err := operator.RunBatch(t.Context(), wire.NewBatch{Depot: "quayside", Path: path}, "")
		require.NoError(t, err)
		return b.ID
	}
	hugeID, manyID := run("huge"), run("many")
	require.Eventually(t, func() bool {
		b, err := operator.Batch(t.Context(), hugeID)
		return err == nil && b.Progress.BytesDone > 0
	}, time.Minute, 50*time.Millisecond)
	assert.EqualValues(t, "done", follow(t, operator, run("small")).State)
	b, err := operator.Batch(t.Context(), manyID)
	require.NoError(t, err)
	assert.False(t, b.Closed(), "the many went first")
	assert.EqualValues(t, "done", follow(t, operator, manyID).State)
	b, err = operator.Batch(t.Context(), hugeID)
	require.NoError(t, err)
	require.False(t, b.Closed())

	_, err = operator.CancelBatch(t.Context(), hugeID, "it takes too long")
	require.NoError(t, err)
	b = follow(t, operator, hugeID)
	assert.EqualValues(t, "cancelled", b.State)
	assert.Equal(t, 2, b.Counts.Unproven)
	// The worker is free for the next.
	assert.EqualValues(t, "done", follow(t, operator, run("small")).State)
	items, err := operator.Items(t.Context(), hugeID)
	require.NoError(t, err)
	require.Len(t, items, 2)
	for _, item := range items {
		assert.EqualValues(t, "not-measured", item.Grounds[0].Code)
	}
	report, err := s.Client(t, "auditor").Audit(t.Context(), wire.NewAudit{}, nil)
	require.NoError(t, err)
	assert.True(t, report.Clean, report.Sentence)
}
