package reassess_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/keyring"
	"endeixis/core/openpgp/pgptest"
	"endeixis/internal/batches"
	"endeixis/internal/config"
	"endeixis/internal/fault"
	"endeixis/internal/keys"
	"endeixis/internal/publishers"
	"endeixis/internal/reassess"
	"endeixis/internal/sources"
	"endeixis/internal/store"
	"endeixis/internal/testkit"
)

func TestMain(m *testing.M) { testkit.Main(m) }

var born = time.Date(2024, 3, 1, 0, 0, 0, 0, time.UTC)

// A cleared is a service without workers in which one artifact is cleared by one
// key.
type cleared struct {
	*testkit.Parts
	config config.Config
	key    *pgptest.Key
	batch  int64
	sql    *pgx.Conn
}

var fallingKey = pgptest.NewKey("falling", pgptest.Ed25519, born)

func clearedBy(t *testing.T) *cleared {
	t.Helper()
	return clearedWith(t, func(s *cleared, certificate *pgptest.Certificate) {
		_, _, err := s.Keys.Import(t.Context(), "tobiah", "quoin", "a test", certificate.Bytes(), nil)
		require.NoError(t, err)
		s.sighted(t, s.key.Fingerprint(), keyring.Release)
	})
}

// sighted admits a key on two sightings.
func (c *cleared) sighted(t *testing.T, fp string, role keyring.Role) {
	t.Helper()
	for _, channel := range []keyring.Channel{keyring.Letter, keyring.Phone} {
		_, _, err := c.Keys.Sight(
			t.Context(), "ines", fp, keys.NewSighting{Read: fp, Channel: channel, Place: "a test"},
		)
		require.NoError(t, err)
	}
	_, err := c.Keys.Admit(
		t.Context(), "tobiah",
		keys.Admission{Fingerprint: fp, Typed: fp, Publisher: "quoin", Role: role, Reason: "a test"},
	)
	require.NoError(t, err)
}

// judgeAgain carries out what has been ordered.
func (c *cleared) judgeAgain(t *testing.T) {
	t.Helper()
	waiting, err := c.Store.Waiting(t.Context())
	require.NoError(t, err)
	for _, id := range waiting {
		require.NoError(t, c.Reassess.Run(t.Context(), id))
	}
}

// present is the verdict of the artifact that holds now.
func (c *cleared) present(t *testing.T) string {
	t.Helper()
	rows, err := c.Store.StoredItems(t.Context(), c.batch, -1, 10)
	require.NoError(t, err)
	for _, row := range rows {
		if row.Present != "" {
			return row.Present
		}
	}
	return ""
}

// clearedWith has the key admitted by a function.
func clearedWith(t *testing.T, admit func(*cleared, *pgptest.Certificate)) *cleared {
	t.Helper()
	out := verifiedWith(t, admit)
	require.Equal(t, "cleared", out.present(t))
	return out
}

// verifiedWith verifies the artifact after a function has said what is known of its key by then.
func verifiedWith(t *testing.T, before func(*cleared, *pgptest.Certificate)) *cleared {
	t.Helper()
	c := testkit.Prepare(t)
	out := &cleared{Parts: testkit.Assemble(t, c, testkit.Now), config: c, key: fallingKey}
	dir := filepath.Join(c.Depots["quayside"], "falling")
	require.NoError(t, os.MkdirAll(dir, 0o755))
	content := []byte("a gauge's firmware")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "gauge.bin"), content, 0o644))
	require.NoError(
		t,
		os.WriteFile(
			filepath.Join(dir, "gauge.bin.sig"), out.key.Sign(content, pgptest.Sig{Created: born.AddDate(0, 1, 0)}),
			0o644,
		),
	)

	_, err := out.Publishers.Add(
		t.Context(), "tobiah", publishers.Details{Slug: "quoin", Name: "Quoin", Scope: []string{"gauge*"}},
	)
	require.NoError(t, err)
	before(
		out,
		pgptest.NewCertificate(out.key).
			UserID("Quoin", pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}}),
	)

	made, err := out.Batches.Create(
		t.Context(), "ines",
		batches.Request{Source: sources.Source{Kind: sources.Depot, Reference: "quayside:falling"}},
	)
	require.NoError(t, err)
	slices := out.Surveyed(t, made.ID)
	for _, slice := range slices {
		require.NoError(t, out.Batches.Measure(t.Context(), made.ID, slice))
	}
	_, err = out.Batches.Finish(t.Context(), made.ID)
	require.NoError(t, err)
	made, err = out.Batches.Get(t.Context(), made.ID)
	require.NoError(t, err)
	out.batch = made.ID
	out.sql, err = pgx.Connect(t.Context(), c.Database.URL)
	require.NoError(t, err)
	t.Cleanup(func() { out.sql.Close(context.Background()) })
	return out
}

func (c *cleared) withdraw(ctx context.Context) error {
	_, err := c.Keys.Withdraw(ctx, "tobiah", c.key.Fingerprint(), "its owner lost it")
	return err
}

func (c *cleared) revoke(ctx context.Context) error {
	revoked := pgptest.NewCertificate(c.key).Key(
		c.key,
		pgptest.Sig{
			Type: pgptest.KeyRevocation, Created: time.Now().UTC(), Hashed: []pgptest.Sub{pgptest.Reason(2, "stolen")},
		},
	)
	_, _, err := c.Keys.Import(ctx, "tobiah", "", "a test", revoked.Bytes(), nil)
	return err
}

// stored counts what a decision and its consequence have left in the database.
func (c *cleared) stored(t *testing.T) map[string]int {
	t.Helper()
	var decision, state, order, job int
	// One statement, and so one moment: what was given up may still be on its way
	// into the database when this is asked.
	require.NoError(
		t,
		c.sql.QueryRow(
			t.Context(),
			`SELECT (SELECT count(*) FROM ledger_records WHERE kind IN ('key-step', 'key-imported')),
		(SELECT count(*) FROM key_changes) + (SELECT sum(revision) FROM keys), (SELECT count(*) FROM reassessments),
		(SELECT count(*) FROM river_job WHERE kind = 'reassess')`,
		).Scan(&decision, &state, &order, &job),
	)
	return map[string]int{"decision": decision, "state": state, "order": order, "job": job}
}

// grown says by how much what is stored has grown.
func grown(before, after map[string]int) map[string]int {
	out := map[string]int{}
	for name, n := range after {
		out[name] = n - before[name]
	}
	return out
}

var (
	nothing    = map[string]int{"decision": 0, "state": 0, "order": 0, "job": 0}
	everything = map[string]int{"decision": 1, "state": 1, "order": 1, "job": 1}
)

// fell are the two ways in which a key that something rests on falls.
var fell = map[string]func(*cleared, context.Context) error{
	"withdrawal": (*cleared).withdraw, "revocation": (*cleared).revoke,
}

// TestConsequenceIsStoredWithTheDecision ends the program right behind the
// decision: the next one that starts finds what has to follow, and does it.
func TestConsequenceIsStoredWithTheDecision(t *testing.T) {
	t.Parallel()
	for name, fall := range fell {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			c := clearedBy(t)
			before := c.stored(t)
			require.NoError(t, fall(c, t.Context()))
			assert.Equal(t, everything, grown(before, c.stored(t)))
			testkit.StartWith(t, c.config)
			assert.Eventually(t, func() bool {
				now, err := c.Store.RejudgedOf(t.Context(), c.batch, []int{0})
				return err == nil && len(now) == 1 && now[0].After != "cleared"
			}, 30*time.Second, 50*time.Millisecond)
		})
	}
}

// TestDecisionWithoutConsequenceIsNone lets each of the writes fail in turn:
// then none of the others is there.
func TestDecisionWithoutConsequenceIsNone(t *testing.T) {
	t.Parallel()
	for name, fall := range fell {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			c := clearedBy(t)
			before := c.stored(t)
			last := map[string]string{"withdrawal": "key_changes", "revocation": "keys"}[name]
			for _, table := range []string{"river_job", "reassessments", "ledger_records", last} {
				c.refuse(t, table)
				assert.ErrorContains(t, fall(c, t.Context()), "made to fail", table)
				assert.Equal(t, nothing, grown(before, c.stored(t)), table)
				_, err := c.sql.Exec(t.Context(), `DROP TRIGGER fails ON `+table)
				require.NoError(t, err)
			}
			require.NoError(t, fall(c, t.Context()))
			assert.Equal(t, everything, grown(before, c.stored(t)))
		})
	}
}

// refuse makes every write to a table fail.
func (c *cleared) refuse(t *testing.T, table string) {
	t.Helper()
	_, err := c.sql.Exec(
		t.Context(),
		fmt.Sprintf(
			`CREATE OR REPLACE FUNCTION fails() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RAISE EXCEPTION 'made to fail'; END $$;
		CREATE TRIGGER fails BEFORE INSERT OR UPDATE ON %s FOR EACH ROW EXECUTE FUNCTION fails()`,
			table,
		),
	)
	require.NoError(t, err)
}

// TestCancelledBetween gives up at ever later moments, as a browser does that is
// closed: either all of it is there or nothing.
func TestCancelledBetween(t *testing.T) {
	t.Parallel()
	for name, fall := range fell {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			c := clearedBy(t)
			before := c.stored(t)
			given := 0
			for after := time.Duration(0); ; after += 500 * time.Microsecond {
				ctx, cancel := context.WithTimeout(t.Context(), after)
				err := fall(c, ctx)
				cancel()
				now := grown(before, c.stored(t))
				if now["decision"] == 0 {
					require.Error(t, err)
					require.Equal(t, nothing, now)
					given++
					continue
				}
				require.Equal(t, everything, now, "given up after %v", after)
				break
			}
			assert.Positive(t, given, "it was never given up")
		})
	}
}

// TestNothingIsJudgedAgainByAlteredEvidence: who writes to the database changes no verdict by what
// is stored of a measurement, wherever that stands: it is told, or it counts for nothing.
func TestNothingIsJudgedAgainByAlteredEvidence(t *testing.T) {
	t.Parallel()
	for name, forge := range map[string]func(*testing.T, *cleared){
		"the text of the record": func(t *testing.T, c *cleared) {
			_, err := c.sql.Exec(t.Context(), `UPDATE ledger_records SET body = convert_to(replace(convert_from(body, 'UTF8'), '"size":18', '"size":19'), 'UTF8') WHERE body IS NOT NULL`)
			require.NoError(t, err)
		},
		"the text with its leaf": func(t *testing.T, c *cleared) {
			_, err := c.sql.Exec(t.Context(), `UPDATE ledger_records SET body = convert_to(replace(convert_from(body, 'UTF8'), '"size":18', '"size":19'), 'UTF8') WHERE body IS NOT NULL;
				UPDATE ledger_records SET leaf = sha256('\x00'::bytea || body) WHERE body IS NOT NULL`)
			require.NoError(t, err)
		},
		"the record of another item": func(t *testing.T, c *cleared) {
			_, err := c.sql.Exec(t.Context(), `UPDATE outcomes SET position = (SELECT position FROM ledger_records WHERE kind = 'batch-result') WHERE verdict IS NOT NULL`)
			require.NoError(t, err)
		},
		"two items that changed places": func(t *testing.T, c *cleared) {
			_, err := c.sql.Exec(t.Context(), `ALTER TABLE outcomes DROP CONSTRAINT outcomes_position_key; UPDATE outcomes o SET position = (SELECT p.position FROM outcomes p WHERE p.n <> o.n LIMIT 1)`)
			require.NoError(t, err)
		},
		"its verdict": func(t *testing.T, c *cleared) {
			_, err := c.sql.Exec(t.Context(), `UPDATE outcomes SET verdict = 'unproven' WHERE verdict IS NOT NULL`)
			require.NoError(t, err)
		},
		"a record that is gone": func(t *testing.T, c *cleared) {
			_, err := c.sql.Exec(t.Context(), `UPDATE outcomes SET position = 1000000 WHERE verdict IS NOT NULL`)
			require.NoError(t, err)
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			c := clearedBy(t)
			_, err := c.sql.Exec(t.Context(), `SET session_replication_role = replica`)
			require.NoError(t, err)
			forge(t, c)
			order, err := c.Reassess.Ask(t.Context(), "tobiah", reassess.Selection{Batch: c.batch}, "a test")
			require.NoError(t, err)
			err = c.Reassess.Run(t.Context(), order.ID)
			require.True(t, fault.Is(err, fault.LedgerAltered), "%v", err)
			if name == "the text with its leaf" {
				return // whoever only looks at it is told by the audit
			}
			_, err = c.Store.Items(t.Context(), c.batch, store.ItemFilter{Limit: 10})
			require.True(t, fault.Is(err, fault.LedgerAltered), "%v", err)
		})
	}
	t.Run("what was surveyed", func(t *testing.T) {
		t.Parallel()
		c := clearedBy(t)
		_, err := c.sql.Exec(
			t.Context(),
			`SET session_replication_role = replica; UPDATE items SET survey = '{"path": "gauge.bin", "role": "artifact"}'`,
		)
		require.NoError(t, err)
		order, err := c.Reassess.Ask(t.Context(), "tobiah", reassess.Selection{Batch: c.batch}, "a test")
		require.NoError(t, err)
		require.NoError(t, c.Reassess.Run(t.Context(), order.ID))
		assert.Equal(t, "cleared", c.present(t), "it is judged by its record")
	})
}
