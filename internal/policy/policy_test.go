package policy_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/internal/basis"
	"endeixis/internal/batches"
	"endeixis/internal/fault"
	"endeixis/internal/keys"
	"endeixis/internal/policy"
	"endeixis/internal/publishers"
	"endeixis/internal/sources"
	"endeixis/internal/testkit"
)

func TestMain(m *testing.M) { testkit.Main(m) }

// TestNothingIsJudgedByWhatWasNotDecided puts a policy, a waiver, a publisher and a scope into
// the database behind the service's back: what is judged by comes from the records alone, now and
// as of then. A record that is hidden, or put in, ends judging.
func TestNothingIsJudgedByWhatWasNotDecided(t *testing.T) {
	t.Parallel()
	p := testkit.Assemble(t, testkit.Prepare(t), testkit.Now)
	_, err := p.Publishers.Add(
		t.Context(), "ines", publishers.Details{Slug: "quoin", Name: "Quoin", Scope: []string{"quoin-*"}},
	)
	require.NoError(t, err)
	_, err = p.Policy.Grant(
		t.Context(), "ines",
		policy.NewWaiver{
			Ground: judge.ManifestUnsigned, Publisher: "quoin", Until: testkit.Now().Add(time.Hour),
			Reason: "they will sign next month",
		},
	)
	require.NoError(t, err)
	size, err := p.Store.LedgerSize(t.Context())
	require.NoError(t, err)
	was, waivers, err := p.Policy.ToJudge(t.Context(), 0, testkit.Now())
	require.NoError(t, err)
	require.Len(t, waivers, 1)
	for what, sql := range map[string]string{
		"a policy":            `INSERT INTO policies (name, document, created_at, created_by, reason) SELECT name, document || '{"digest_bits": 1}', now(), 'nobody', '' FROM policies`,
		"the policy":          `UPDATE policies SET document = document || '{"digest_bits": 1}'`,
		"a waiver":            `INSERT INTO waivers (ground, publisher, reason, by_name, created_at, until, position) VALUES ('digest-weak', 'quoin', 'none', 'nobody', now(), now() + interval '1 year', 0)`,
		"a longer waiver":     `UPDATE waivers SET until = until + interval '10 days', publisher = '', pattern = '*'`,
		"a publisher":         `INSERT INTO publishers (slug, name, contact, scope, created_at, created_by) VALUES ('strangers', 'Strangers', '', '{*}', now(), 'nobody')`,
		"a publisher's scope": `UPDATE publishers SET scope = '{*}'`,
		"its version":         `UPDATE publisher_versions SET scope = '{*}', position = 0`,
	} {
		for _, table := range []string{"policies", "publishers", "publisher_versions"} {
			_, err := p.Store.Pool.Exec(t.Context(), `ALTER TABLE `+table+` DISABLE TRIGGER USER`)
			require.NoError(t, err)
		}
		_, err := p.Store.Pool.Exec(t.Context(), sql)
		require.NoError(t, err, what)
		// Another process begins with what it finds.
		b := basis.New(p.Store, p.Records)
		restarted := policy.New(p.Store, p.Records, b, p.Publishers, nil, testkit.Now)
		ring := keys.New(p.Store, p.Records, b, p.Publishers, restarted, nil, nil, testkit.Now)
		now, count, err := restarted.ToJudge(t.Context(), 0, testkit.Now())
		require.NoError(t, err, what)
		assert.Equal(t, was, now, what)
		assert.Equal(t, waivers, count, what)
		for _, judging := range []func() (*keyring.Keyring, error){
			func() (*keyring.Keyring, error) { return ring.ToJudge(t.Context()) },
			func() (*keyring.Keyring, error) { return ring.AsOf(t.Context(), size) },
		} {
			k, err := judging()
			require.NoError(t, err, what)
			quoin, _ := k.Publisher("quoin")
			assert.Equal(t, []string{"quoin-*"}, quoin.Scope, what)
			_, known := k.Publisher("strangers")
			assert.False(t, known, what)
		}
		k, err := ring.AsOf(t.Context(), 1)
		require.NoError(t, err)
		_, known := k.Publisher("quoin")
		assert.False(t, known, "it was added later")
	}
	const decided = `UPDATE ledger_records SET body = convert_to(replace(convert_from(body, 'UTF8'), 'quoin-*', '*'), 'UTF8') WHERE kind = 'publisher-added'`
	asked := batches.Request{
		Source: sources.Source{Kind: sources.Depot, Reference: "quayside:lanternfell/lamp-ctl-3.6"},
	}
	for _, of := range []struct{ what, sql string }{
		{"a decision is said to be another", `UPDATE ledger_records SET kind = 'drill' WHERE kind = 'waiver-granted'`},
		{"another is said to be a decision", `INSERT INTO ledger_records SELECT position + 100, 'policy-set', at, by_name, subject, verdict, batch_id, body, leaf FROM ledger_records WHERE kind = 'policy-set'`},
		{"a decision's text", decided},
		{"with its leaf", decided + `; UPDATE ledger_records SET leaf = sha256('\x00'::bytea || body) WHERE kind = 'publisher-added'`},
		{"with its leaf and what its seal is over", decided + `; UPDATE ledger_records SET leaf = sha256('\x00'::bytea || body) WHERE kind = 'publisher-added';
			UPDATE seals s SET over_leaves = sha256((SELECT string_agg(r.leaf, ''::bytea ORDER BY r.position) FROM ledger_records r WHERE r.position >= s.first AND r.position < s.first + s.records))`},
		{"the newest is taken out", `DELETE FROM ledger_records WHERE kind = 'waiver-granted'`},
		{"with its seal", `DELETE FROM ledger_records WHERE kind = 'waiver-granted'; DELETE FROM seals WHERE first = (SELECT max(first) FROM seals)`},
		{"an older one is taken out", `DELETE FROM ledger_records WHERE kind = 'publisher-added'`},
	} {
		what, sql := of.what, of.sql
		altered := func(sql string) {
			_, err := p.Store.Pool.Exec(
				t.Context(), `SET session_replication_role = replica; `+sql+`; SET session_replication_role = origin`,
			)
			require.NoError(t, err, what)
		}
		altered(`CREATE TABLE kept_records AS TABLE ledger_records; CREATE TABLE kept_seals AS TABLE seals`)
		altered(sql)
		_, err = basis.New(p.Store, p.Records).Now(t.Context())
		assert.True(t, fault.Is(err, fault.LedgerAltered), "%s: %v", what, err)
		altered(
			`DELETE FROM ledger_records; INSERT INTO ledger_records SELECT * FROM kept_records; DELETE FROM seals; INSERT INTO seals SELECT * FROM kept_seals; DROP TABLE kept_records, kept_seals`,
		)
		_, err = basis.New(p.Store, p.Records).Now(t.Context())
		require.NoError(t, err, what)
	}
	_, err = p.Batches.Create(t.Context(), "ines", asked)
	require.NoError(t, err)
	_, err = p.Store.Pool.Exec(t.Context(), `DELETE FROM seals WHERE first = (SELECT max(first) FROM seals)`)
	require.NoError(t, err)
	_, err = p.Batches.Create(t.Context(), "ines", asked)
	assert.True(t, fault.Is(err, fault.LedgerAltered), "%v", err)
}
