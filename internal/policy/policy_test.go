package policy_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/internal/batches"
	"endeixis/internal/fault"
	"endeixis/internal/sources"
	"endeixis/internal/testkit"
)

func TestMain(m *testing.M) { testkit.Main(m) }

// TestNothingIsJudgedByWhatWasNotDecided: what somebody puts into the database past
// the service stops judging, and does not clear.
func TestNothingIsJudgedByWhatWasNotDecided(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ sql, code string }{
		"a policy": {`INSERT INTO policies (name, document, created_at, created_by, reason) SELECT name, document || '{"digest_bits": 1}', now(), 'nobody', '' FROM policies`, "policy-altered"},
		"a waiver": {`INSERT INTO waivers (ground, publisher, reason, by_name, created_at, until, position) VALUES ('manifest-unsigned', 'x', 'none', 'nobody', now(), now() + interval '1 year', 0)`, "policy-altered"},
		"a publisher": {
			`INSERT INTO publishers (slug, name, contact, scope, created_at, created_by) VALUES ('strangers', 'Strangers', '', '{*}', now(), 'nobody')`, "keyring-altered",
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := testkit.Assemble(t, testkit.Prepare(t), testkit.Now)
			made, err := p.Batches.Create(t.Context(), "ines", batches.Request{Source: sources.Source{Kind: sources.Depot, Reference: "quayside:lanternfell/lamp-ctl-3.6"}})
			require.NoError(t, err)
			_, err = p.Store.Pool.Exec(t.Context(), c.sql)
			require.NoError(t, err)
			_, err = p.Batches.Survey(t.Context(), made.ID)
			assert.True(t, fault.Is(err, c.code), "%v", err)
			b, err := p.Batches.Get(t.Context(), made.ID)
			require.NoError(t, err)
			assert.Nil(t, b.Verdict)
		})
	}
}
