package batches_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"endeixis/internal/batches"
	"endeixis/internal/fault"
	"endeixis/internal/sources"
	"endeixis/internal/state"
	"endeixis/internal/store"
	"endeixis/internal/testkit"
)

func TestMain(m *testing.M) { testkit.Main(m) }

// service assembles batches without a queue, so that a test decides who works
// on what and when.
func service(t *testing.T) (*batches.Service, *store.Store, map[string]string) {
	t.Helper()
	c := testkit.Prepare(t)
	c.Work.SliceBytes, c.Work.SliceItems = 1<<20, 2
	p := testkit.Assemble(t, c, testkit.Now)
	return p.Batches, p.Store, p.Depots
}

// TestTwoWorkersAfterOneSlice lets several do the same step at once, over and
// over: each item ends with one outcome.
func TestTwoWorkersAfterOneSlice(t *testing.T) {
	t.Parallel()
	b, s, _ := service(t)
	made, err := b.Create(t.Context(), "ines", batches.Request{Source: sources.Source{Kind: sources.Depot, Reference: "quayside:tidewright"}})
	require.NoError(t, err)
	var g errgroup.Group
	for range 4 {
		g.Go(func() error {
			_, err := b.Survey(t.Context(), made.ID)
			return err
		})
	}
	require.NoError(t, g.Wait())
	work, err := s.Unfinished(t.Context())
	require.NoError(t, err)
	require.Len(t, work, 1)
	assert.Greater(t, len(work[0].Slices), 5)
	done, err := b.Finish(t.Context(), made.ID)
	require.NoError(t, err)
	assert.False(t, done, "slices are open")
	for range 4 {
		g.Go(func() error {
			for _, slice := range work[0].Slices {
				if err := b.Measure(t.Context(), made.ID, slice); err != nil {
					return err
				}
				if _, err := b.Finish(t.Context(), made.ID); err != nil {
					return err
				}
			}
			return nil
		})
	}
	require.NoError(t, g.Wait())
	got, err := b.Get(t.Context(), made.ID)
	require.NoError(t, err)
	assert.EqualValues(t, "done", got.State)
	assert.Equal(t, got.Items, got.ItemsDone)
	size, err := s.LedgerSize(t.Context())
	require.NoError(t, err)
	assert.EqualValues(t, got.Items+2, size, "one record for each item, one for the batch, one for the policy")
}

// TestFolderVanishes removes the folder between the request and the work.
func TestFolderVanishes(t *testing.T) {
	t.Parallel()
	b, _, dirs := service(t)
	made, err := b.Create(t.Context(), "ines", batches.Request{Source: sources.Source{Kind: sources.Depot, Reference: "quayside:brackwater"}})
	require.NoError(t, err)
	there := dirs["quayside"]
	dirs["quayside"] += "-moved-away"
	_, away := b.Survey(t.Context(), made.ID)
	require.True(t, fault.Is(away, "depot-unreadable"), "it may come back")
	got, err := b.Get(t.Context(), made.ID)
	require.NoError(t, err)
	assert.Equal(t, state.BatchWaiting, got.State)
	assert.Contains(t, got.Note, "waiting: The depot quayside cannot be opened.")
	dirs["quayside"] = there
	slices, err := b.Survey(t.Context(), made.ID)
	require.NoError(t, err)
	got, err = b.Get(t.Context(), made.ID)
	require.NoError(t, err)
	assert.Empty(t, got.Note, "it came back")
	require.NotEmpty(t, slices)

	require.NoError(t, os.Rename(filepath.Join(there, "brackwater"), filepath.Join(there, "renamed")))
	away = b.Measure(t.Context(), made.ID, slices[0])
	require.True(t, fault.Is(away, "folder-unknown"))
	require.NoError(t, b.Abandon(t.Context(), made.ID, away))
	got, err = b.Get(t.Context(), made.ID)
	require.NoError(t, err)
	assert.EqualValues(t, "failed", got.State)
	assert.NotEmpty(t, got.Note)
	assert.Nil(t, got.Verdict)
	assert.NotNil(t, got.Position, "failing is on record too")
}

// TestManyEndAtOnce ends more batches at once than there are connections: none
// waits for a connection while it holds one.
func TestManyEndAtOnce(t *testing.T) {
	t.Parallel()
	b, s, dirs := service(t)
	require.NoError(t, os.MkdirAll(filepath.Join(dirs["quayside"], "one"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dirs["quayside"], "one", "lamp.img"), []byte("lamp"), 0o644))
	const many = 100
	ids := make([]int64, many)
	var prepare errgroup.Group
	prepare.SetLimit(8)
	for i := range ids {
		prepare.Go(func() error {
			made, err := b.Create(t.Context(), "ines", batches.Request{Source: sources.Source{Kind: sources.Depot, Reference: "quayside:one"}})
			if err != nil {
				return err
			}
			ids[i] = made.ID
			slices, err := b.Survey(t.Context(), made.ID)
			for _, slice := range slices {
				err = errors.Join(err, b.Measure(t.Context(), made.ID, slice))
			}
			return err
		})
	}
	require.NoError(t, prepare.Wait())
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	var g errgroup.Group
	for _, id := range ids {
		g.Go(func() error {
			closed, err := b.Finish(ctx, id)
			if err == nil && !closed {
				err = fmt.Errorf("batch %d is not closed", id)
			}
			return err
		})
	}
	require.NoError(t, g.Wait())
	left, err := s.Unfinished(t.Context())
	require.NoError(t, err)
	assert.Empty(t, left)
}
