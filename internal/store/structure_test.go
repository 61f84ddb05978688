package store_test

import (
	"context"
	"errors"
	"flag"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/internal/store"
)

var update = flag.Bool("update", false, "write structure.txt anew")

// TestStructure: what the migrations make is what is expected, and everything that is added,
// dropped or replaced is named.
func TestStructure(t *testing.T) {
	s, _ := open(t)
	there, err := s.Structure(t.Context())
	require.NoError(t, err)
	if *update {
		require.NoError(t, os.WriteFile("structure.txt", []byte(strings.Join(there, "\n")+"\n"), 0o644))
		t.Skip("written anew")
	}
	found, err := s.StructureDiscrepancies(t.Context())
	require.NoError(t, err)
	require.Empty(t, found, "after a new migration: go test ./internal/store -run TestStructure -update")
	for _, forged := range []struct{ sql, says string }{
		{`DROP TRIGGER append_only ON outcomes`, "no trigger append_only on outcomes"},
		{`ALTER TABLE outcomes DISABLE TRIGGER append_only`, "trigger append_only on outcomes"},
		{`CREATE OR REPLACE FUNCTION refuse_change() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RETURN NULL; END $$`, "no function refuse_change, or it was changed"},
		{`CREATE FUNCTION lie() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RETURN NULL; END $$`, "a function lie that does not belong"},
		{`CREATE TRIGGER more BEFORE INSERT ON outcomes FOR EACH ROW EXECUTE FUNCTION refuse_change()`, "a trigger more on outcomes"},
		{`CREATE OR REPLACE VIEW missing AS SELECT a.* FROM absents a WHERE false`, "no view missing, or it was changed"},
		{`ALTER TABLE waivers RENAME TO waivers_of_before; CREATE VIEW waivers AS SELECT * FROM waivers_of_before WHERE ground = 'x'`, "a view waivers that does not belong"},
		{`ALTER TABLE users ENABLE ROW LEVEL SECURITY`, "table users with row security"},
		{`CREATE RULE quiet AS ON UPDATE TO sessions DO INSTEAD NOTHING`, "a rule quiet on sessions"},
		{`CREATE POLICY few ON tokens USING (false)`, "a policy few on tokens"},
		{`CREATE TABLE more (n int)`, "a table more"},
		{`ALTER TABLE waivers ALTER COLUMN reason DROP NOT NULL`, "no column waivers.reason, or it was changed"},
		{`ALTER TABLE waivers ALTER COLUMN reason SET DEFAULT 'x'`, "no column waivers.reason, or it was changed"},
		{`ALTER TABLE waivers ADD COLUMN more text`, "a column waivers.more that does not belong"},
		{`ALTER TABLE ledger_state DROP CONSTRAINT ledger_state_size_check`, "no constraint ledger_state_size_check on ledger_state"},
		{`ALTER TABLE sightings ADD CONSTRAINT none CHECK (false) NOT VALID`, "a constraint none on sightings"},
	} {
		var found []store.Discrepancy
		back := errors.New("taken back")
		err := s.Do(t.Context(), func(ctx context.Context, tx *store.Tx) error {
			if _, err := tx.SQL().ExecContext(ctx, forged.sql); err != nil {
				return err
			}
			var err error
			found, err = tx.StructureDiscrepancies(ctx)
			return errors.Join(err, back)
		})
		require.ErrorIs(t, err, back, forged.sql)
		var all []string
		for _, d := range found {
			all = append(all, d.What)
		}
		assert.Contains(t, strings.Join(all, "\n"), forged.says, forged.sql)
	}
}
