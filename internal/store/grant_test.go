package store_test

import (
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/internal/fault"
	"endeixis/internal/pgserver"
	"endeixis/internal/store"
	"endeixis/internal/testkit"
)

// TestServiceOwnsNothing has tables of one role used by another: what is never
// changed it cannot change, nor take the locks away that keep it so.
func TestServiceOwnsNothing(t *testing.T) {
	t.Parallel()
	c := testkit.Bare(t)
	testkit.StartWith(t, c)
	role, address, err := pgserver.CreateRole(t.Context(), c.Database.URL)
	require.NoError(t, err)
	owner, err := store.Open(t.Context(), c.Database.URL)
	require.NoError(t, err)
	defer owner.Close()
	err = owner.Grant(t.Context(), "nobody-of-that-name")
	assert.True(t, fault.Is(err, fault.RoleUnknown), "%v", err)
	require.NoError(t, owner.Grant(t.Context(), role))

	service, err := store.Open(t.Context(), address)
	require.NoError(t, err)
	defer service.Close()
	require.NoError(t, service.Migrate(t.Context()), "nothing is to be done")
	tables, err := owner.Pool.Query(
		t.Context(),
		`SELECT c.relname FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid WHERE t.tgname = 'append_only'`,
	)
	require.NoError(t, err)
	names, err := pgx.CollectRows(tables, pgx.RowTo[string])
	require.NoError(t, err)
	assert.Subset(
		t, names, []string{"ledger_records", "checkpoints", "policies", "outcomes", "items", "absents", "service_key"},
	)
	for _, name := range names {
		table := pgx.Identifier{name}.Sanitize()
		for _, sql := range []string{
			`DELETE FROM ` + table, `TRUNCATE ` + table + ` CASCADE`, `ALTER TABLE ` + table + ` DISABLE TRIGGER USER`, `DROP TRIGGER append_only ON ` + table, `DROP TABLE ` + table + ` CASCADE`,
		} {
			_, err := service.Pool.Exec(t.Context(), sql)
			assert.ErrorContains(t, err, "42501", sql)
		}
	}
	for _, sql := range []string{
		`UPDATE ledger_records SET verdict = 'cleared'`, `UPDATE outcomes SET verdict = 'cleared'`, `UPDATE policies SET reason = ''`, `DELETE FROM users`, `DELETE FROM batches`,
		`SET session_replication_role = replica`, `UPDATE goose_db_version SET version_id = 1`, `CREATE TABLE mine (n int)`,
	} {
		_, err := service.Pool.Exec(t.Context(), sql)
		assert.ErrorContains(t, err, "42501", sql)
	}

	// A schema that is older is the owner's to change.
	_, err = owner.Pool.Exec(
		t.Context(), `DELETE FROM goose_db_version WHERE version_id = (SELECT max(version_id) FROM goose_db_version)`,
	)
	require.NoError(t, err)
	err = service.Migrate(t.Context())
	assert.True(t, fault.Is(err, fault.NotOwner), "%v", err)
}
