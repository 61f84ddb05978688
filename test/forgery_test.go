package test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/internal/client"
	"endeixis/internal/records"
	"endeixis/internal/store"
	"endeixis/internal/testkit"
	"endeixis/internal/wire"
)

// mayChange lists the columns, or the tables, that follow from no record, each
// with the reason. Any other column of the schema has to follow from one.
var mayChange = map[string]string{
	"goose_db_version":            "which migrations have run",
	"users.mac":                   "without the one that belongs to the row nobody signs in",
	"tokens.mac":                  "without the one that belongs to the row nobody signs in",
	"sessions":                    "people who are signed in to the console; they end by themselves",
	"listing_pages":               "the list of files of a batch that waits for its survey; what was surveyed is in each item's record",
	"measurers":                   "who is waited for; what they measured, and with what, is in each item's record",
	"device_checks":               "what a device is asked; once it has answered, that is in each item's record",
	"piece_digests":               "they only locate damage; whether there is any, the digest of the whole tells",
	"slices":                      "how far work has come",
	"workers":                     "who works",
	"inquiries":                   "questions, and answers that are asked for again",
	"service_key":                 "it is held against the key file when the service starts",
	"checkpoints":                 "they are signed",
	"seals":                       "MACs, which the audit recomputes; that one is taken away, moved or made up is tried in TestAForgedRecordIsNotSigned",
	"cosignatures":                "they are signed by witnesses, and whoever relies on one verifies it",
	"ledger_hashes":               "the tree is recomputed from the records, before anything else",
	"ledger_records.body":         "the tree is recomputed from it",
	"ledger_records.page":         "the tree is recomputed from it",
	"ledger_pages":                "the tree is recomputed from them; TestAuditFindsForgery tries it",
	"ledger_records.leaf":         "it is recomputed",
	"ledger_records.position":     "the tree is recomputed in its order",
	"ledger_state.only_row":       "there is one",
	"ledger_state.without_terms":  "which records of earlier versions still get what they are found by, once more at worst",
	"terms.id":                    "a number; which records have the term is compared",
	"batches.idempotency_key":     "it keeps a repeated request from being carried out twice",
	"items.slice":                 "how work was divided",
	"copies.origin":               "where it was fetched from is in its place",
	"copies.path":                 "where it was fetched from is in its place",
	"outcome_days.verdict":        "of each there is one row a day: one of another day is tried below",
	"outcomes.rank":               "the database makes it from the verdict",
	"keys.revision":               "it only ever grows, for whoever keeps the keyring in memory",
	"publishers.revision":         "it only ever grows, for whoever keeps the keyring in memory",
	"publisher_versions.revision": "it only keeps versions apart",
	"key_versions.revision":       "it only keeps versions apart",
	// Numbers by which rows are called, and to which records do not refer.
	"users.id":           "a number",
	"publishers.id":      "a number",
	"sightings.id":       "a number",
	"key_changes.id":     "a number",
	"proposals.id":       "a number",
	"waivers.id":         "a number",
	"batches.id":         "a number that the database gives",
	"policies.version":   "a number that the database gives",
	"reassessments.id":   "a number that the database gives",
	"tokens.id":          "a number that the database gives",
	"tokens.used_at":     "when it was last used is not decided by anybody",
	"batches.done_bytes": "how far a batch came that was ended before; of one that is done it is all, which is tried below",
	"batches.state":      "it cannot change without the verdict, which is tried below",
	"items.n":            "a number",
	"absents.n":          "a number",
	"copies.n":           "a number",
}

// forgeries are values to put in place of one of a type: what the schema refuses outright is
// no forgery.
func forgeries(kind, column string) []string {
	c := pgx.Identifier{column}.Sanitize()
	switch {
	case kind == "bigint" || kind == "integer":
		return []string{c + " + 1", "7", c + " - 1", "-1", "0", "NULL"}
	case kind == "smallint":
		return []string{c + " + 1", "-1", "NULL"}
	case kind == "boolean":
		return []string{"NOT " + c, "NULL"}
	case strings.HasPrefix(kind, "timestamp"):
		return []string{
			"coalesce(" + c + ", now()) + interval '1 day'", "coalesce(" + c + ", now()) - interval '400 days'",
			"'infinity'", "NULL",
		}
	case kind == "date":
		return []string{c + " + 1", "NULL"}
	case kind == "bytea":
		return []string{
			"set_byte(" + c + ", octet_length(" + c + ") - 1, 255 - get_byte(" + c + ", octet_length(" + c + ") - 1))",
			"'\\x00'", "'\\x'", "NULL",
		}
	case kind == "jsonb":
		return []string{`'{"forged": true}'`, "'[]'", "'null'", "'7'", "NULL"}
	case kind == "ARRAY":
		return []string{"array_append(" + c + ", 'forged-*')", "'{}'", "NULL"}
	}
	out := []string{"coalesce(" + c + ", '') || 'x'", "''", "NULL"}
	for _, word := range []string{"cleared", "unproven", "refused", "withdrawn", "admitted", "candidate", "administrator", "auditor", "anchor", "release", "failed", "done", "declined", "replaced", "depot", "artifact", "manifest"} {
		out = append(out, "nullif('"+word+"', "+c+")")
	}
	return out
}

// TestEveryForgeryIsFound changes every column of every table by SQL, one at a
// time, removes a row of every table and doubles one, past all triggers and keys;
// what is compared with the records has to show each. A new column is covered by
// itself: it has to follow from a record, or stand in the list above.
func TestEveryForgeryIsFound(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	history(t, s)
	db, err := store.Open(t.Context(), s.Config.Database.URL)
	require.NoError(t, err)
	defer db.Close()
	clean, err := records.Discrepancies(t.Context(), db.Reads, 0, func(int64, int64) {})
	require.NoError(t, err)
	require.Empty(t, clean)

	rows, err := db.Pool.Query(
		t.Context(),
		`SELECT c.table_name, c.column_name, c.data_type FROM information_schema.columns c JOIN information_schema.tables USING (table_schema, table_name)
		WHERE c.table_schema = 'public' AND table_type = 'BASE TABLE' AND c.table_name NOT LIKE 'river%' ORDER BY 1, c.ordinal_position`,
	)
	require.NoError(t, err)
	type column struct{ Table, Name, Kind string }
	columns, err := pgx.CollectRows(rows, pgx.RowToStructByPos[column])
	require.NoError(t, err)
	require.Greater(t, len(columns), 100)
	tried, seen := 0, map[string]bool{}
	for _, c := range columns {
		if mayChange[c.Table] != "" {
			continue
		}
		table := pgx.Identifier{c.Table}.Sanitize()
		if !seen[c.Table] {
			seen[c.Table] = true
			assert.True(
				t, forge(t, db, fmt.Sprintf("DELETE FROM %s WHERE ctid = (SELECT ctid FROM %s LIMIT 1)", table, table)),
				"a row of %s was removed", c.Table,
			)
		}
		if mayChange[c.Table+"."+c.Name] != "" {
			continue
		}
		name := pgx.Identifier{c.Name}.Sanitize()
		put, words, ends := false, 0, []string{"ctid", "ctid DESC"}
		for _, value := range forgeries(c.Kind, c.Name) {
			if strings.HasPrefix(value, "nullif(") && words >= 2 {
				continue // of a word that the schema lets in, one is as good as another
			}
			for _, which := range ends {
				found, did := try(
					t, db,
					fmt.Sprintf(
						"UPDATE %s SET %s = %s WHERE ctid = (SELECT ctid FROM %s WHERE %s IS DISTINCT FROM %s ORDER BY %s IS NULL, %s LIMIT 1)",
						table,
						name,
						value,
						table,
						name,
						value,
						name,
						which,
					),
				)
				if did {
					put = true
					// One value at both ends of the table, and the others at one of them in turn.
					ends = []string{[]string{"ctid", "ctid DESC"}[tried%2]}
					if strings.HasPrefix(value, "nullif(") {
						words++
					}
					tried++
					assert.True(t, found, "%s.%s became %s (%s), and nothing says so", c.Table, c.Name, value, which)
				}
			}
		}
		assert.True(t, put, "nothing can be put into %s.%s", c.Table, c.Name)
	}
	for _, sql := range []string{
		`UPDATE batches SET state = 'failed', verdict = NULL WHERE id = 1`,
		`UPDATE batches SET done_bytes = 7 WHERE id = 1`,
		`UPDATE batches SET done_bytes = NULL WHERE id = 1`,
		`UPDATE batches SET stop_state = 'failed' WHERE state = 'cancelled'`,
		`UPDATE batches SET stop_state = 'cancelled' WHERE id = 1`,
		`INSERT INTO policies (name, document, created_at, created_by, reason) SELECT name, document || '{"digest_bits": 1, "sighting_channels": 1}', now(), 'nobody', '' FROM policies ORDER BY version DESC LIMIT 1`,
		`INSERT INTO waivers (ground, publisher, reason, by_name, created_at, until, position) VALUES ('manifest-unsigned', 'oarlock', 'none', 'nobody', now(), now() + interval '1 year', 3)`,
		`INSERT INTO key_changes (fingerprint, at, to_state, by_name, reason, position) SELECT fingerprint, now(), 'admitted', 'nobody', 'none', 2 FROM keys LIMIT 1`,
		`INSERT INTO publishers (slug, name, contact, scope, created_at, created_by) VALUES ('strangers', 'Strangers', '', '{*}', now(), 'nobody')`,
		`INSERT INTO users (name, full_name, role, password_hash, created_at) VALUES ('nobody', 'Nobody', 'administrator', 'x', now())`,
		`INSERT INTO tokens (user_id, label, role, hash, created_at, expires_at) SELECT id, 'x', role, sha256('x'), now(), now() + interval '1 year' FROM users LIMIT 1`,
		`INSERT INTO absents (batch_id, n, name, manifest, line) VALUES (1, 10000, 'x', 'x', 1)`,
		`UPDATE outcome_digests SET cleared = NOT cleared`,
		`INSERT INTO outcome_digests (batch_id, n, algorithm, digest, cleared) VALUES (1, 0, 'SHA3-512', '\\x00', true)`,
		`INSERT INTO outcome_days (day, verdict, count) VALUES ('2020-01-01', 'cleared', 5)`,
		`UPDATE outcome_days SET verdict = 'refused', day = day - 1 WHERE verdict = 'cleared'`,
		`UPDATE keys SET publisher_id = (SELECT max(id) FROM publishers) WHERE publisher_id = (SELECT min(id) FROM publishers)`,
	} {
		assert.True(t, forge(t, db, sql), sql)
	}
	for name := range mayChange {
		table, _, _ := strings.Cut(name, ".")
		assert.True(t, mayChange[table] != "" || seen[table], "%s is not in the schema", name)
	}
	assert.Greater(t, tried, 400)
	t.Logf("%d forgeries", tried)
}

// forge reports whether a forgery is found.
func forge(t *testing.T, db *store.Store, sql string) bool {
	t.Helper()
	found, did := try(t, db, sql)
	return did && found
}

// try makes a forgery, compares, and takes it back. It reports whether the
// database let it happen.
func try(t *testing.T, db *store.Store, sql string) (found, did bool) {
	t.Helper()
	back := errors.New("taken back")
	err := db.Do(t.Context(), func(ctx context.Context, tx *store.Tx) error {
		if _, err := tx.SQL().ExecContext(ctx, "SET LOCAL session_replication_role = replica"); err != nil {
			return err
		}
		result, err := tx.SQL().ExecContext(ctx, sql)
		if err != nil {
			return back
		}
		n, err := result.RowsAffected()
		if err != nil || n == 0 {
			return back
		}
		did = true
		differences, err := records.Discrepancies(ctx, tx.Reads, 0, func(int64, int64) {})
		assert.NoError(t, err, "an odd row is a finding, and never ends the audit: %s", sql)
		found = len(differences) > 0
		return back
	})
	require.ErrorIs(t, err, back)
	return found, did
}

// history makes something of everything that is kept.
func history(t *testing.T, s *testkit.Service) {
	t.Helper()
	paper := filepath.Join(t.TempDir(), "letter.txt")
	list, err := os.ReadFile(filepath.Join(s.Depot, "oarlock", "logger-2.4", "oarlock-logger-2.4-digests.txt"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(paper, list, 0o600))
	run := func(role string, codes []int, args ...string) {
		r := endeixis(t, s, "curator", args...)
		require.Contains(t, codes, r.code, "%s %v: %s%s", role, args, r.out, r.err)
	}
	run(
		"operator", []int{0, 10, 11}, "batch", "run", "quayside:oarlock/logger-2.4", "--wait", "--label", "loggers",
		"--publisher", "oarlock", "--copy-file", "oarlock-logger-2.4-digests.txt=paper:"+paper, "--origin",
		"oarlock-logger-2.4-digests.txt=vendor-site:oarlock.example",
	)
	run("operator", []int{0}, "batch", "run", "quayside:tidewright/gauge-fw-4.2", "--wait")
	run("operator", []int{11}, "batch", "run", "quayside:oarlock/logger-2.6-letter", "--wait")
	f, err := os.Create(filepath.Join(s.Depot, "oarlock", "chart.iso"))
	require.NoError(t, err)
	require.NoError(t, f.Truncate(1<<40)) // more than is read before it is cancelled
	require.NoError(t, f.Close())
	long, err := s.Client(t, "curator").RunBatch(t.Context(), wire.NewBatch{Depot: "quayside", Path: "oarlock"}, "")
	require.NoError(t, err)
	run("curator", []int{0}, "batch", "cancel", fmt.Sprint(long.ID), "--reason", "the wrong folder")
	run("curator", []int{1}, "batch", "follow", fmt.Sprint(long.ID))
	run("curator", []int{0}, "publisher", "set", "corran", "--contact", "press@corran.example")
	run("curator", []int{0}, "waiver", "end", "1", "--reason", "they sign now")
	v := visit(t, s, "tidewright")
	require.Contains(t, []int{0, 10, 11}, v.on("batch", "run", v.bring("tidewright/gauge-fw-4.2")).code)
	require.Equal(t, 0, v.back().code)
	// What is looked into is settled, of a batch and of a key.
	run(
		"curator", []int{0}, "batch", "settle", "3", "--reason", "the letter of the publisher tells why",
	)
	run(
		"curator", []int{0}, "reference", "add", strings.Repeat("7c", 32), "--name", "gauge-fw-3.0.img", "--publisher", "tidewright",
		"--channel", "letter", "--at", "letter of 12 March",
	)
	panel := strings.Replace(
		endeixis(t, s, "operator", "device", "kinds", "lamp-panel").out, "kind: lamp-panel", "kind: mole-panel", 1,
	)
	run("curator", []int{0}, "device", "kind", "add", write(t, panel), "--answer", write(t, "Flash sum: 0123 4567\n"))
	run(
		"curator", []int{0}, "device", "add", "LP-1", "--kind", "lamp-panel", "--publisher", "lanternfell", "--place",
		"Skerrow Light",
	)
	keys, err := s.Client(t, "curator").Keys(t.Context(), client.KeyFilter{Waiting: true})
	require.NoError(t, err)
	require.NotEmpty(t, keys)
	for _, k := range keys {
		if !k.Conflict {
			run("curator", []int{0}, "keyring", "settle", k.Fingerprint, "--reason", "nobody will admit it")
			break
		}
	}
	token, err := s.Client(t, "administrator").IssueToken(
		t.Context(),
		wire.NewToken{
			Label: "nightly", Role: "auditor", Days: 3,
			Limits: wire.Limits{Depots: []string{"quayside"}, Publishers: []string{"tidewright"}},
		},
	)
	require.NoError(t, err)
	require.NoError(t, s.Client(t, "administrator").RevokeToken(t.Context(), token.ID))
	for _, k := range keys {
		if !k.Conflict {
			continue
		}
		for _, seen := range k.Sightings {
			if !seen.Agrees && seen.Resolved == "" {
				_, err := s.Client(t, "curator").ResolveConflict(t.Context(), seen.Record, "a slip of the pen")
				require.NoError(t, err)
			}
		}
	}
	policy := endeixis(t, s, "curator", "policy", "show", "--output", "yaml").out
	file := filepath.Join(t.TempDir(), "policy.yaml")
	require.NoError(
		t, os.WriteFile(file, []byte(strings.Replace(policy, "two_curators: false", "two_curators: true", 1)), 0o600),
	)
	run("curator", []int{0}, "policy", "set", file, "--reason", "two of us decide")
	run(
		"curator", []int{0}, "policy", "set", write(t, "rsa_bits: 4096\n"), "--publisher", "corran", "--reason",
		"stronger",
	)
	tidewright := keyOf(t, "tidewright-release.asc").Fingerprint
	run("curator", []int{0}, "keyring", "withdraw", tidewright, "--reason", "the laptop was stolen")
	run("curator", []int{0}, "keyring", "reconsider", tidewright, "--reason", "it was found again")
	run(
		"curator", []int{0}, "keyring", "admit", tidewright, "--typed", tidewright, "--publisher", "tidewright",
		"--reason", "nobody had touched it",
	)
	require.Eventually(t, func() bool {
		runs, err := s.Client(t, "auditor").Reassessments(t.Context())
		return err == nil && len(runs) > 0 && runs[0].State == "done"
	}, 30*time.Second, 100*time.Millisecond)
}

// write writes a file and returns its name.
func write(t *testing.T, content string) string {
	t.Helper()
	name := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(name, []byte(content), 0o600))
	return name
}
