package policy_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/keyring"
	"endeixis/internal/batches"
	"endeixis/internal/fault"
	"endeixis/internal/publishers"
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
			err = p.Batches.Survey(t.Context(), made.ID)
			assert.True(t, fault.Is(err, c.code), "%v", err)
			// What is only shown goes on being shown.
			_, err = p.Policy.InForce(t.Context(), 0)
			require.NoError(t, err)
			_, err = p.Keys.Snapshot(t.Context())
			require.NoError(t, err)
			b, err := p.Batches.Get(t.Context(), made.ID)
			require.NoError(t, err)
			assert.Nil(t, b.Verdict)
		})
	}
}

// TestNothingIsJudgedByWhatWasShown alters the keyring where it is stored, has it
// shown, and puts it back: what was in memory meanwhile counts for nothing, now
// and as of then.
func TestNothingIsJudgedByWhatWasShown(t *testing.T) {
	t.Parallel()
	p := testkit.Assemble(t, testkit.Prepare(t), testkit.Now)
	scope := func(k *keyring.Keyring, err error) []string {
		require.NoError(t, err)
		quoin, _ := k.Publisher("quoin")
		return quoin.Scope
	}
	_, err := p.Publishers.Add(t.Context(), "ines", publishers.Details{Slug: "quoin", Name: "Quoin", Scope: []string{"quoin-*"}})
	require.NoError(t, err)
	size, err := p.Store.LedgerSize(t.Context())
	require.NoError(t, err)
	// Nothing is to give the change away but its rows.
	_, err = p.Store.Pool.Exec(t.Context(), `ALTER TABLE publishers DISABLE TRIGGER USER`)
	require.NoError(t, err)
	_, err = p.Store.Pool.Exec(t.Context(), `UPDATE publishers SET scope = '{*}'`)
	require.NoError(t, err)
	assert.Equal(t, []string{"*"}, scope(p.Keys.Snapshot(t.Context())))
	for _, judging := range []func() (*keyring.Keyring, error){
		func() (*keyring.Keyring, error) { return p.Keys.ToJudge(t.Context()) },
		func() (*keyring.Keyring, error) { return p.Keys.AsOf(t.Context(), size) },
		func() (*keyring.Keyring, error) { return p.Keys.AsOf(t.Context(), 1) },
	} {
		_, err := judging()
		assert.True(t, fault.Is(err, "keyring-altered"), "%v", err)
	}
	_, err = p.Store.Pool.Exec(t.Context(), `UPDATE publishers SET scope = '{quoin-*}'`)
	require.NoError(t, err)
	assert.Equal(t, []string{"quoin-*"}, scope(p.Keys.ToJudge(t.Context())))
	assert.Equal(t, []string{"quoin-*"}, scope(p.Keys.AsOf(t.Context(), size)))
}
