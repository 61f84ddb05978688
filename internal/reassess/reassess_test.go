package reassess_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"endeixis/core/judge"
	"endeixis/core/ledger"
	"endeixis/internal/batches"
	"endeixis/internal/policy"
	"endeixis/internal/publishers"
	"endeixis/internal/reassess"
	"endeixis/internal/sources"
	"endeixis/internal/store"
	"endeixis/internal/testkit"
)

// TestReassessmentMayBeRepeated lets several workers run the same reassessment
// at once and again: each changed verdict is recorded once.
func TestReassessmentMayBeRepeated(t *testing.T) {
	t.Parallel()
	c := testkit.Prepare(t)
	p := testkit.Assemble(t, c, testkit.Now)
	s, b := p.Store, p.Batches
	_, err := p.Publishers.Add(
		t.Context(), "tobiah", publishers.Details{Slug: "lanternfell", Name: "L", Scope: []string{"lamp-ctl-*"}},
	)
	require.NoError(t, err)
	made, err := b.Create(
		t.Context(), "ines",
		batches.Request{Source: sources.Source{Kind: sources.Depot, Reference: "quayside:lanternfell/lamp-ctl-3.6"}},
	)
	require.NoError(t, err)
	for _, slice := range p.Surveyed(t, made.ID) {
		require.NoError(t, b.Measure(t.Context(), made.ID, slice))
	}
	_, err = b.Finish(t.Context(), made.ID)
	require.NoError(t, err)
	for _, ground := range []string{"weak-digest-only", "manifest-unsigned"} {
		_, err := p.Policy.Grant(
			t.Context(), "tobiah",
			policy.NewWaiver{
				Ground: judge.Code(ground), Publisher: "lanternfell", Until: time.Now().AddDate(0, 1, 0),
				Reason: "a test",
			},
		)
		require.NoError(t, err)
	}
	asked, err := p.Reassess.Ask(t.Context(), "ines", reassess.Selection{All: true}, "waivers were granted")
	require.NoError(t, err)
	var g errgroup.Group
	for range 4 {
		g.Go(func() error { return p.Reassess.Run(t.Context(), asked.ID) })
	}
	require.NoError(t, g.Wait())
	require.NoError(t, p.Reassess.Run(t.Context(), asked.ID))
	done, err := s.Reassessment(t.Context(), asked.ID)
	require.NoError(t, err)
	assert.EqualValues(t, "done", done.State)
	assert.Equal(t, 2, done.Changed)
	for kind, want := range map[ledger.Kind]int{ledger.ItemRejudged: 2, ledger.BatchRejudged: 1, ledger.Reassessed: 1} {
		rows, err := s.Records(t.Context(), store.RecordFilter{Kind: string(kind), Limit: 50})
		require.NoError(t, err)
		assert.Len(t, rows, want, kind)
	}
	now, err := s.RejudgedOf(t.Context(), made.ID, []int{0, 1, 2, 3})
	require.NoError(t, err)
	assert.Len(t, now, 2)
	for _, n := range now {
		assert.Equal(t, [2]string{"unproven", "cleared"}, [2]string{n.Before, n.After})
	}
	cleared, err := s.Items(t.Context(), made.ID, store.ItemFilter{Verdict: "cleared", Limit: 10})
	require.NoError(t, err)
	require.Len(t, cleared, 2, "lists go by what holds now")
	assert.Equal(t, "unproven", *cleared[0].Verdict, "what was judged first stands as it was")
}
