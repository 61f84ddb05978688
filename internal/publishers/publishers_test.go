package publishers_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/internal/fault"
	"endeixis/internal/publishers"
	"endeixis/internal/testkit"
)

func TestMain(m *testing.M) { testkit.Main(m) }

// TestPublishers adds and changes one, and refuses what cannot be kept; each decision is a record.
func TestPublishers(t *testing.T) {
	t.Parallel()
	p := testkit.Assemble(t, testkit.Prepare(t), testkit.Now)
	s := p.Publishers
	for code, bad := range map[fault.Code][]publishers.Details{
		fault.BadSlug: {{Slug: "", Name: "Quoin"}, {Slug: "Quoin", Name: "Quoin"}, {Slug: "-q", Name: "Quoin"}, {Slug: "q/../x", Name: "Quoin"}},
		fault.BadName: {{Slug: "quoin", Name: " "}, {Slug: "quoin", Name: "a\x00"}, {Slug: "quoin", Name: strings.Repeat("x", 201)}},
		fault.BadScope: {
			{Slug: "quoin", Name: "Quoin", Scope: []string{""}}, {Slug: "quoin", Name: "Quoin", Scope: []string{"quoin-*", "["}},
		},
	} {
		for _, d := range bad {
			_, err := s.Add(t.Context(), "ines", d)
			assert.True(t, fault.Is(err, code), "%+v: %v", d, err)
		}
	}
	before, err := p.Store.LedgerSize(t.Context())
	require.NoError(t, err)
	added, err := s.Add(t.Context(), "ines", publishers.Details{Slug: "quoin", Name: "Quoin", Scope: []string{"quoin-*"}})
	require.NoError(t, err)
	_, err = s.Add(t.Context(), "ines", publishers.Details{Slug: "quoin", Name: "Another"})
	assert.True(t, fault.Is(err, fault.PublisherExists))

	name, seen := "Quoin & Sons", publishers.VersionOf(added)
	changed, err := s.Change(t.Context(), "tobiah", "quoin", publishers.Change{Name: &name, Seen: seen})
	require.NoError(t, err)
	assert.Equal(t, name, changed.Name)
	assert.Equal(t, []string{"quoin-*"}, changed.Scope, "what is not named stays")
	// Who looked before that decides about something else.
	_, err = s.Change(t.Context(), "ines", "quoin", publishers.Change{Name: &name, Seen: seen})
	assert.True(t, fault.Is(err, fault.ChangedMeanwhile))
	_, err = s.Change(t.Context(), "ines", "quoin", publishers.Change{Name: &name})
	assert.True(t, fault.Is(err, fault.PublisherUnchanged))
	_, err = s.Change(t.Context(), "ines", "quoin", publishers.Change{Scope: []string{"\x00"}})
	assert.True(t, fault.Is(err, fault.BadScope))
	_, err = s.Change(t.Context(), "ines", "nobody", publishers.Change{Name: &name})
	assert.True(t, fault.Is(err, fault.PublisherUnknown))

	all, err := s.All(t.Context())
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, changed, all[0])
	after, err := p.Store.LedgerSize(t.Context())
	require.NoError(t, err)
	assert.EqualValues(t, 2, after-before, "what was refused left no record")
}
