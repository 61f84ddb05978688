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
	"endeixis/internal/records"
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
	made, err := b.Create(
		t.Context(), "ines",
		batches.Request{Source: sources.Source{Kind: sources.Depot, Reference: "quayside:tidewright"}},
	)
	require.NoError(t, err)
	var g errgroup.Group
	for range 4 {
		g.Go(func() error {
			return b.Survey(t.Context(), made.ID)
		})
	}
	require.NoError(t, g.Wait())
	work, err := s.Unfinished(t.Context())
	require.NoError(t, err)
	require.Len(t, work, 1)
	assert.Greater(t, len(work[0].Slices), 5)
	slices, err := s.SliceNumbers(t.Context(), made.ID)
	require.NoError(t, err)
	done, err := b.Finish(t.Context(), made.ID)
	require.NoError(t, err)
	assert.False(t, done, "slices are open")
	for range 4 {
		g.Go(func() error {
			for _, slice := range slices[1:] {
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
	b, s, dirs := service(t)
	made, err := b.Create(
		t.Context(), "ines",
		batches.Request{Source: sources.Source{Kind: sources.Depot, Reference: "quayside:brackwater"}},
	)
	require.NoError(t, err)
	there := dirs["quayside"]
	dirs["quayside"] += "-moved-away"
	vanished := b.Survey(t.Context(), made.ID)
	require.True(t, fault.Is(vanished, fault.DepotUnreadable), "it may come back")
	got, err := b.Get(t.Context(), made.ID)
	require.NoError(t, err)
	assert.Equal(t, state.BatchWaiting, got.State)
	assert.Contains(t, got.Note, "waiting: The depot quayside cannot be opened.")
	dirs["quayside"] = there
	require.NoError(t, b.Survey(t.Context(), made.ID))
	slices, err := s.SliceNumbers(t.Context(), made.ID)
	require.NoError(t, err)
	got, err = b.Get(t.Context(), made.ID)
	require.NoError(t, err)
	assert.Empty(t, got.Note, "it came back")
	require.Greater(t, len(slices), 1)

	require.NoError(t, os.Rename(filepath.Join(there, "brackwater"), filepath.Join(there, "renamed")))
	vanished = b.Measure(t.Context(), made.ID, slices[1])
	require.True(t, fault.Is(vanished, fault.FolderUnknown))
	require.NoError(t, b.Abandon(t.Context(), made.ID, vanished))
	require.NoError(t, b.End(t.Context(), made.ID))
	got, err = b.Get(t.Context(), made.ID)
	require.NoError(t, err)
	assert.EqualValues(t, "failed", got.State)
	assert.NotEmpty(t, got.Note)
	assert.Nil(t, got.Verdict)
	assert.NotNil(t, got.Record, "failing is on record too")
	assert.Equal(t, got.Items, got.ItemsDone, "every item has its outcome")
	assert.NotZero(t, got.Unproven)
	nothingAltered(t, s)
}

func nothingAltered(t *testing.T, s *store.Store) {
	t.Helper()
	differences, err := records.Discrepancies(t.Context(), s.Reads, 0, func(int64, int64) {})
	require.NoError(t, err)
	assert.Empty(t, differences)
}

// TestCancel ends a batch when some of it is measured, and has the worker that was
// at it come back afterwards: what was measured stays, the rest was not measured,
// and nothing is stored behind the batch's record.
func TestCancel(t *testing.T) {
	t.Parallel()
	b, s, _ := service(t)
	made, err := b.Create(
		t.Context(), "ines",
		batches.Request{Source: sources.Source{Kind: sources.Depot, Reference: "quayside:tidewright"}},
	)
	require.NoError(t, err)
	require.NoError(t, b.Survey(t.Context(), made.ID))
	require.NoError(t, b.Measure(t.Context(), made.ID, 1))
	before, err := b.Get(t.Context(), made.ID)
	require.NoError(t, err)

	_, err = b.Cancel(t.Context(), "merit", made.ID, "not hers")
	assert.True(t, fault.Is(err, fault.NotYours), "%v", err)
	_, err = b.Cancel(t.Context(), "ines", made.ID, "")
	assert.Error(t, err, "a reason is asked for")
	_, err = b.Cancel(t.Context(), "ines", 999, "none of that number")
	assert.True(t, fault.Is(err, fault.BatchUnknown), "%v", err)
	_, err = b.CancelAny(t.Context(), "tobiah", made.ID, "the wrong folder")
	require.NoError(t, err)
	_, err = b.Cancel(t.Context(), "ines", made.ID, "once more")
	assert.True(t, fault.Is(err, fault.BatchEnding), "%v", err)
	require.NoError(t, b.Measure(t.Context(), made.ID, 2), "nothing more is read")
	closed, err := b.Finish(t.Context(), made.ID)
	require.NoError(t, err)
	assert.False(t, closed, "it is not done")
	for range 2 {
		require.NoError(t, b.End(t.Context(), made.ID))
	}
	got, err := b.Get(t.Context(), made.ID)
	require.NoError(t, err)
	assert.Equal(t, state.BatchCancelled, got.State)
	assert.Equal(t, "Cancelled by tobiah: the wrong folder", got.Note)
	assert.Equal(t, got.Items, got.ItemsDone)
	assert.Equal(t, before.Cleared+before.Refused, got.Cleared+got.Refused, "what was measured stays")
	assert.Greater(t, got.Unproven, before.Unproven)
	size, err := s.LedgerSize(t.Context())
	require.NoError(t, err)
	slices, err := s.SliceNumbers(t.Context(), made.ID)
	require.NoError(t, err)
	for _, slice := range slices {
		require.NoError(t, b.Measure(t.Context(), made.ID, slice))
	}
	after, err := s.LedgerSize(t.Context())
	require.NoError(t, err)
	assert.Equal(t, size, after)
	_, err = b.Cancel(t.Context(), "ines", made.ID, "too late")
	assert.True(t, fault.Is(err, fault.BatchEnded), "%v", err)
	nothingAltered(t, s)

	// One that was not looked into yet has no items, and is closed at once.
	early, err := b.Create(
		t.Context(), "ines",
		batches.Request{Source: sources.Source{Kind: sources.Depot, Reference: "quayside:brackwater"}},
	)
	require.NoError(t, err)
	early, err = b.Cancel(t.Context(), "ines", early.ID, "asked twice")
	require.NoError(t, err)
	assert.Equal(t, state.BatchCancelled, early.State)
	require.NoError(t, b.Survey(t.Context(), early.ID))
	nothingAltered(t, s)
}

// TestNothingBehindTheRecord closes a stopped batch of which items have no outcome, as
// happens when they cannot be given one: a worker that comes back later stores nothing.
func TestNothingBehindTheRecord(t *testing.T) {
	t.Parallel()
	b, s, _ := service(t)
	made, err := b.Create(
		t.Context(), "ines",
		batches.Request{Source: sources.Source{Kind: sources.Depot, Reference: "quayside:tidewright"}},
	)
	require.NoError(t, err)
	require.NoError(t, b.Survey(t.Context(), made.ID))
	items, err := s.SliceItems(t.Context(), made.ID, 1)
	require.NoError(t, err)
	require.NotEmpty(t, items)
	open := func() (n int) {
		require.NoError(t, s.Do(t.Context(), func(ctx context.Context, tx *store.Tx) error {
			left, err := tx.LockSlice(ctx, made.ID, 1, []int{items[0].N})
			n = len(left)
			return err
		}))
		return n
	}
	assert.Equal(t, 1, open())
	_, err = b.Cancel(t.Context(), "ines", made.ID, "the wrong folder")
	require.NoError(t, err)
	assert.Equal(t, 1, open(), "what is measured until it ends is stored")
	require.NoError(t, b.Close(t.Context(), made.ID))
	assert.Zero(t, open())
}

// TestSlicesTakeTurns: of a batch with many slices only some are on the queue, and
// each that is done makes place for the next.
func TestSlicesTakeTurns(t *testing.T) {
	t.Parallel()
	b, s, dirs := service(t)
	dir := filepath.Join(dirs["quayside"], "many")
	require.NoError(t, os.MkdirAll(dir, 0o755))
	for i := range 60 {
		require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprintf("%d.img", i)), []byte("lamp"), 0o644))
	}
	for i := range 4 {
		f, err := os.Create(filepath.Join(dir, fmt.Sprintf("large-%d.iso", i)))
		require.NoError(t, err)
		require.NoError(t, f.Truncate(5<<20)) // beyond four slices of a MiB
		require.NoError(t, f.Close())
	}
	made, err := b.Create(
		t.Context(), "ines", batches.Request{Source: sources.Source{Kind: sources.Depot, Reference: "quayside:many"}},
	)
	require.NoError(t, err)
	require.NoError(t, b.Survey(t.Context(), made.ID))
	open := func() []store.DueSlice {
		work, err := s.Unfinished(t.Context())
		require.NoError(t, err)
		if len(work) == 0 {
			return nil
		}
		return work[0].Slices
	}
	counts := func(due []store.DueSlice) (small, large int) {
		for _, slice := range due {
			if slice.Large {
				large++
			} else {
				small++
			}
		}
		return small, large
	}
	small, large := counts(open())
	assert.Equal(t, 16, small)
	assert.Equal(t, 2, large)
	measured := 0
	for due := open(); len(due) > 0; due = open() {
		require.NoError(t, b.Measure(t.Context(), made.ID, due[0].N))
		measured++
	}
	assert.Equal(t, 60/2+4, measured)
	closed, err := b.Finish(t.Context(), made.ID)
	require.NoError(t, err)
	assert.True(t, closed)
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
			made, err := b.Create(
				t.Context(), "ines",
				batches.Request{Source: sources.Source{Kind: sources.Depot, Reference: "quayside:one"}},
			)
			if err != nil {
				return err
			}
			ids[i] = made.ID
			if err := b.Survey(t.Context(), made.ID); err != nil {
				return err
			}
			slices, err := s.SliceNumbers(t.Context(), made.ID)
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

// TestOpenBatchesAreBounded for each person by themselves.
func TestOpenBatchesAreBounded(t *testing.T) {
	t.Parallel()
	b, s, _ := service(t)
	ask := func(by string) error {
		_, err := b.Create(
			t.Context(), by,
			batches.Request{Source: sources.Source{Kind: sources.Depot, Reference: "quayside:brackwater"}},
		)
		return err
	}
	require.NoError(t, ask("ines"))
	_, err := s.Pool.Exec(
		t.Context(),
		`INSERT INTO batches (label, source_kind, source, publisher, require_all, policy_version, asked_by, created_at, judged_as_of, state, corrections, origins, ledger_size)
		SELECT label, source_kind, source, publisher, require_all, policy_version, asked_by, created_at, judged_as_of, state, corrections, origins, ledger_size FROM batches, generate_series(1, 999)`,
	)
	require.NoError(t, err)
	err = ask("ines")
	assert.True(t, fault.Is(err, fault.TooManyOpen), "%v", err)
	require.NoError(t, ask("tobiah"))
}
