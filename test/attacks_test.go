package test

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"math"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/mod/sumdb/tlog"

	"endeixis/core/ledger"
	"endeixis/internal/cli"
	"endeixis/internal/client"
	"endeixis/internal/roles"
	"endeixis/internal/store"
	"endeixis/internal/testkit"
	"endeixis/internal/wire"
)

// altered changes the database as somebody does who may do anything there: past triggers and
// keys.
func altered(t *testing.T, s *testkit.Service, statements ...string) {
	t.Helper()
	db, err := store.Open(t.Context(), s.Config.Database.URL)
	require.NoError(t, err)
	defer db.Close()
	require.NoError(t, db.Do(t.Context(), func(ctx context.Context, tx *store.Tx) error {
		for _, sql := range append([]string{"SET LOCAL session_replication_role = replica"}, statements...) {
			if _, err := tx.SQL().ExecContext(ctx, sql); err != nil {
				return fmt.Errorf("%s: %w", sql, err)
			}
		}
		return nil
	}))
}

// TestNothingIsFromBeforeRecords: rows that are said to be from before there were records
// count for nothing, and are named: not where something is judged, and not in the audit.
func TestNothingIsFromBeforeRecords(t *testing.T) {
	t.Parallel()
	for name, sql := range map[string]string{
		"a key's version with another publisher": `UPDATE key_versions SET position = -1, publisher_id = (SELECT id FROM publishers WHERE slug = 'corran') WHERE publisher_id = (SELECT id FROM publishers WHERE slug = 'tidewright')`,
		"a key with another publisher":           `UPDATE keys SET position = -1, publisher_id = (SELECT id FROM publishers WHERE slug = 'corran') WHERE publisher_id = (SELECT id FROM publishers WHERE slug = 'tidewright')`,
		"a key's version alone":                  `UPDATE key_versions SET position = -1`,
		"a publisher's scope":                    `UPDATE publisher_versions SET position = -1, scope = '{*}'`,
		"a publisher":                            `UPDATE publishers SET position = -1, scope = '{*}' WHERE slug = 'corran'`,
		"a record that says so later":            `UPDATE key_versions SET position = -1; INSERT INTO ledger_records (position, kind, at, by_name, subject, leaf, body) SELECT max(position) + 1, 'rows-adopted', now(), 'service', 'none', sha256('x'), convert_to('{"kind": "rows-adopted", "rows": []}', 'UTF8') FROM ledger_records`,
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := testkit.Start(t)
			before := verified(t, s, "quayside:tidewright/gauge-fw-4.2", "--publisher", "corran")
			require.Equal(t, "refused", *before.Verdict, "another publisher's key vouches for nothing")
			altered(t, s, sql)
			audit := endeixis(t, s, "auditor", "record", "audit")
			assert.Equal(t, 10, audit.code, audit.out+audit.err)
			// Nothing more is judged until somebody has looked.
			b, err := s.Client(t, roles.Operator).
				RunBatch(
					t.Context(),
					wire.NewBatch{Depot: "quayside", Path: "tidewright/gauge-fw-4.2", Publisher: "corran"},
					"",
				)
			if err != nil {
				assert.ErrorContains(t, err, "stored otherwise")
			} else {
				time.Sleep(3 * time.Second) // by what is in memory, or in none of the tries
				b, err = s.Client(t, roles.Auditor).Batch(t.Context(), b.ID)
				require.NoError(t, err)
				assert.Zero(t, b.Counts.Cleared)
				if b.Closed() {
					assert.EqualValues(t, "refused", *b.Verdict)
				}
			}
			again, err := s.Client(t, roles.Auditor).Batch(t.Context(), before.ID)
			require.NoError(t, err)
			assert.EqualValues(t, "refused", *again.Verdict)
		})
	}
}

// TestNoSumOverflows: whatever sizes an operator sends, in valid requests, the audit holds.
func TestNoSumOverflows(t *testing.T) {
	t.Parallel()
	s := testkit.StartBare(t)
	c := s.Client(t, roles.Operator)
	begin := func() wire.Batch {
		t.Helper()
		b, err := c.RunBatch(
			t.Context(),
			wire.NewBatch{Measurer: &wire.Measurer{Kind: "client", Host: "vm", Path: "/srv/x", Software: "a test"}}, "",
		)
		require.NoError(t, err)
		return b
	}
	b := begin()
	page := func(sizes ...int64) wire.ListingPage {
		out := wire.ListingPage{Files: []wire.ListedFile{}}
		for i, size := range sizes {
			out.Files = append(
				out.Files, wire.ListedFile{Path: fmt.Sprintf("%d.img", i), Size: size, ModTime: time.Now()},
			)
		}
		return out
	}
	for _, size := range []int64{1 << 62, 1<<48 + 1, math.MaxInt64} {
		assert.ErrorContains(t, c.SendListing(t.Context(), b.ID, 1, page(size, size)), "no file is longer")
	}
	_, err := c.CancelBatch(t.Context(), b.ID, "the sizes are none")
	require.NoError(t, err)
	// Each file may be that long, and all of them together may not.
	many := make([]int64, 5000)
	for i := range many {
		many[i] = 1 << 48
	}
	b = begin()
	for n := range 3 {
		part := page(many[:1999]...)
		for i := range part.Files {
			part.Files[i].Path = fmt.Sprintf("%d/%d.img", n, i)
		}
		require.NoError(t, c.SendListing(t.Context(), b.ID, n+1, part))
	}
	_, err = c.CloseListing(t.Context(), b.ID, 3)
	require.NoError(t, err)
	require.EventuallyWithT(t, func(ct *assert.CollectT) {
		b, err = c.Batch(t.Context(), b.ID)
		assert.NoError(ct, err)
		assert.True(ct, b.Closed())
	}, 30*time.Second, 100*time.Millisecond)
	assert.Contains(t, b.Note, "longer together than any batch is")
	audit := endeixis(t, s, "auditor", "record", "audit")
	assert.Zero(t, audit.code, audit.out+audit.err)
}

// TestNobodySignsInBySQL: sessions, people and tokens that somebody puts into the database, or
// changes there, sign nobody in.
func TestNobodySignsInBySQL(t *testing.T) {
	t.Parallel()
	s := testkit.StartBare(t)
	asks := func(header, value string) (int, string) {
		t.Helper()
		request, err := http.NewRequestWithContext(t.Context(), http.MethodGet, s.URL+"/api/v1/me", nil)
		require.NoError(t, err)
		request.Header.Set(header, value)
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		defer response.Body.Close()
		text, err := io.ReadAll(response.Body)
		require.NoError(t, err)
		return response.StatusCode, string(text)
	}
	byToken := func(text string) (int, string) { return asks("Authorization", "Bearer "+text) }
	bySession := func(cookie string) (int, string) { return asks("Cookie", "endeixis_session="+cookie) }

	// A session of one's own is genuine; its row with another's name is not.
	jar := func() (cookie string) {
		body := strings.NewReader(`{"name": "merit", "password": "` + passwordOf(roles.Auditor) + `"}`)
		request, err := http.NewRequestWithContext(t.Context(), http.MethodPost, s.URL+"/api/v1/sessions", body)
		require.NoError(t, err)
		request.Header.Set("Content-Type", "application/json")
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		defer response.Body.Close()
		for _, c := range response.Cookies() {
			if c.Name == "endeixis_session" {
				cookie = c.Value
			}
		}
		require.NotEmpty(t, cookie)
		return cookie
	}
	session := jar()
	code, who := bySession(session)
	require.Equal(t, http.StatusOK, code, who)
	require.Contains(t, who, `"merit"`)
	altered(
		t,
		s,
		`UPDATE sessions SET data = decode(replace(encode(data, 'hex'), encode('merit'::bytea, 'hex'), encode('harbo'::bytea, 'hex')), 'hex')`,
	)
	code, _ = bySession(session)
	assert.Equal(t, http.StatusUnauthorized, code)
	session = jar()
	altered(t, s, `UPDATE sessions SET expiry = expiry + interval '10 years'`)
	code, _ = bySession(session)
	assert.Equal(t, http.StatusUnauthorized, code, "nor for longer than it was begun for")
	session = jar()
	known := sha256.Sum256([]byte("a cookie of their own"))
	altered(
		t,
		s,
		fmt.Sprintf(
			`INSERT INTO sessions (token, data, expiry) SELECT '%x', data, now() + interval '1 day' FROM sessions LIMIT 1`,
			known,
		),
		`INSERT INTO sessions (token, data, expiry) SELECT 'a cookie of their own', data, now() + interval '1 day' FROM sessions LIMIT 1`,
	)
	code, _ = bySession("a cookie of their own")
	assert.Equal(t, http.StatusUnauthorized, code)
	code, _ = bySession(session)
	assert.Equal(t, http.StatusOK, code, "the others are left alone")

	// A token of one's own: not with another role, not for longer, not after it was ended.
	issue := func() wire.IssuedToken {
		t.Helper()
		out, err := s.Client(t, roles.Auditor).
			IssueToken(
				t.Context(), wire.NewToken{Label: "x", Days: 1, Limits: wire.Limits{Depots: []string{"quayside"}}},
			)
		require.NoError(t, err)
		return out
	}
	for what, sql := range map[string]string{
		"another person":  `UPDATE tokens SET user_id = (SELECT id FROM users WHERE role = 'administrator') WHERE id = %d`,
		"another role":    `UPDATE tokens SET role = 'administrator' WHERE id = %d`,
		"for longer":      `UPDATE tokens SET expires_at = expires_at + interval '1 year' WHERE id = %d`,
		"without limits":  `UPDATE tokens SET depots = '{}' WHERE id = %d`,
		"another's MAC":   `UPDATE tokens SET mac = (SELECT mac FROM tokens o WHERE o.id <> tokens.id AND o.mac <> '' LIMIT 1) WHERE id = %d`,
		"without its MAC": `UPDATE tokens SET mac = '' WHERE id = %d`,
	} {
		token := issue()
		code, _ := byToken(token.Text)
		require.Equal(t, http.StatusOK, code)
		altered(t, s, fmt.Sprintf(sql, token.ID))
		code, _ = byToken(token.Text)
		assert.Equal(t, http.StatusUnauthorized, code, what)
	}
	token := issue()
	require.NoError(t, s.Client(t, roles.Administrator).RevokeToken(t.Context(), token.ID))
	altered(t, s, `UPDATE tokens SET revoked_at = NULL`)
	code, _ = byToken(token.Text)
	assert.Equal(t, http.StatusUnauthorized, code, "nor after it was ended")
	hash := sha256.Sum256([]byte("endx_made_up"))
	altered(
		t, s,
		fmt.Sprintf(
			`INSERT INTO tokens (user_id, label, role, hash, created_at, expires_at) SELECT id, 'x', role, '\x%x', now(), now() + interval '1 year' FROM users WHERE role = 'administrator'`,
			hash,
		),
	)
	code, _ = byToken("endx_made_up")
	assert.Equal(t, http.StatusUnauthorized, code)

	// A person: no other role, no other password, none that was put in.
	good := issue()
	altered(t, s, `UPDATE users SET role = 'administrator' WHERE name = 'merit'`)
	code, text := byToken(good.Text)
	assert.Equal(t, http.StatusUnauthorized, code)
	assert.Contains(t, text, "nobody signs in with it")
	code, _ = bySession(session)
	assert.Equal(t, http.StatusUnauthorized, code)
	altered(t, s, `UPDATE users SET role = 'auditor' WHERE name = 'merit'`)
	code, _ = byToken(good.Text)
	assert.Equal(t, http.StatusOK, code, "as it was decided")
	altered(
		t,
		s,
		`UPDATE users SET password_hash = (SELECT password_hash FROM users WHERE name = 'merit') WHERE role = 'administrator'`,
	)
	signed := endeixisWith(
		t, []string{"ENDEIXIS_PASSWORD=" + passwordOf(roles.Auditor)}, passwordOf(roles.Auditor)+"\n", "login",
		"--server", s.URL, "--user", "harbour",
	)
	assert.NotZero(t, signed.code, signed.out+signed.err)
}

// TestAnAuditCannotBeLiedTo: a trigger puts an old clean answer in the place of every answer;
// the client sees that it is not one to its question.
func TestAnAuditCannotBeLiedTo(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	verified(t, s, "quayside:tidewright/gauge-fw-4.2-flipped")
	keep := filepath.Join(t.TempDir(), "checkpoint.txt")
	r := endeixis(t, s, "auditor", "record", "audit", "--save", keep)
	require.Zero(t, r.code, r.out+r.err)
	altered(t, s, `CREATE FUNCTION lie() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
			IF NEW.answer IS NOT NULL THEN
				SELECT answer INTO NEW.answer FROM inquiries
					WHERE kind = 'audit' AND answer ->> 'clean' = 'true' ORDER BY id LIMIT 1;
			END IF;
			RETURN NEW;
		END $$`, `CREATE TRIGGER lie BEFORE UPDATE ON inquiries FOR EACH ROW EXECUTE FUNCTION lie()`,
		`UPDATE outcomes SET verdict = 'cleared' WHERE verdict = 'refused'`)
	for _, args := range [][]string{{"record", "audit"}, {"record", "audit", "--against", keep}, {"record", "audit", "--public-key", s.PublicKey}, {"record", "audit", "-o", "json"}} {
		r := endeixis(t, s, "auditor", args...)
		assert.Equal(t, 10, r.code, "%v: %s%s", args, r.out, r.err)
		assert.Contains(t, r.err, "it was made for another question")
		assert.NotContains(t, r.out, "holds", "what cannot be believed is not shown")
	}
	// Words of one's own are no better.
	altered(t, s, `CREATE OR REPLACE FUNCTION lie() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
			IF NEW.answer IS NOT NULL THEN
				NEW.answer = NEW.answer || '{"clean": true, "sentence": "All records are as they were written.", "differences": []}';
			END IF;
			RETURN NEW;
		END $$`)
	r = endeixis(t, s, "auditor", "record", "audit")
	assert.Equal(t, 10, r.code, r.out+r.err)
	assert.Contains(t, r.err, "what was signed is not what was told")
	altered(t, s, `DROP TRIGGER lie ON inquiries`)
	r = endeixis(t, s, "auditor", "record", "audit")
	assert.Equal(t, 10, r.code)
	assert.Contains(t, r.out, "What is stored is not what the records say")
}

// TestALedgerThatWasCutIsNoticed: the newest records are taken away with all that follows from
// them, as where an older copy of the database was restored. Nothing in it says so; who has
// seen it before does, without thinking of it.
func TestALedgerThatWasCutIsNoticed(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	profile := filepath.Join(t.TempDir(), "profile.yaml")
	require.NoError(t, cli.SaveProfile(profile, s.URL, "merit", "auditor", s.Token(t, roles.Auditor), s.PublicKey))
	audit := func() ran {
		return endeixisWith(t, []string{"ENDEIXIS_PROFILE=" + profile}, "", "record", "audit")
	}
	r := audit()
	require.Zero(t, r.code, r.out+r.err)
	db, err := store.Open(t.Context(), s.Config.Database.URL)
	require.NoError(t, err)
	defer db.Close()
	size, err := db.LedgerSize(t.Context())
	require.NoError(t, err)
	b := verified(t, s, "quayside:tidewright/gauge-fw-4.2-flipped")
	require.Equal(t, "refused", *b.Verdict)
	r = audit()
	require.Zero(t, r.code, r.out+r.err)

	rows, err := db.Pool.Query(
		t.Context(),
		`SELECT c.table_name FROM information_schema.columns c JOIN information_schema.tables USING (table_schema, table_name)
		WHERE c.table_schema = 'public' AND table_type = 'BASE TABLE' AND c.column_name = 'batch_id' AND c.table_name <> 'ledger_records'`,
	)
	require.NoError(t, err)
	tables, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(t, err)
	cut := []string{
		fmt.Sprintf(
			`DELETE FROM ledger_records WHERE position >= %d`, size,
		),
		fmt.Sprintf(`DELETE FROM ledger_hashes WHERE index >= %d`, ledger.FirstStored(size)),
		fmt.Sprintf(`DELETE FROM seals WHERE first >= %d`, size),
		fmt.Sprintf(`DELETE FROM record_terms WHERE position >= %d`, size),
		fmt.Sprintf(
			`UPDATE ledger_state SET size = %d`, size,
		),
		fmt.Sprintf(`DELETE FROM checkpoints WHERE size > %d`, size),
		fmt.Sprintf(`DELETE FROM batches WHERE id = %d`, b.ID),
		`DELETE FROM outcome_days`,
	}
	for _, table := range tables {
		cut = append(cut, fmt.Sprintf(`DELETE FROM %s WHERE batch_id = %d`, table, b.ID))
	}
	altered(t, s, cut...)
	// The service knows what it has signed.
	r = endeixis(t, s, "auditor", "record", "audit")
	assert.Equal(t, 10, r.code, r.out+r.err)
	assert.Contains(t, r.out, "missing")
	r = endeixisWith(t, []string{"ENDEIXIS_PROFILE=" + profile}, "", "batch", "list")
	assert.Contains(t, r.err, "Nothing is signed", "and says so on every call")
	ready, text := get(t, s.URL+"/readyz")
	assert.Equal(t, http.StatusServiceUnavailable, ready)
	assert.Contains(t, text, "were there before")
	assert.ErrorContains(t, s.Restart(t), "does not go on from what it was")
	// A file of the host that somebody has taken away hides it from the service, and from
	// nobody else.
	checkpoint := s.Config.Ledger.KeyFile + ".checkpoint"
	kept, err := os.ReadFile(checkpoint)
	require.NoError(t, err)
	require.NoError(t, os.Remove(checkpoint))
	require.NoError(t, s.Restart(t))
	for _, command := range [][]string{{"batch", "list"}, {"keyring", "list"}, {"status"}} {
		r = endeixisWith(t, []string{"ENDEIXIS_PROFILE=" + profileOf(t, s, profile)}, "", command...)
		assert.Equal(t, 10, r.code, "%v: %s%s", command, r.out, r.err)
		assert.Contains(t, r.err, "does not go on from what was seen of it")
	}
	// Who has restored it says so, and it is on record.
	require.NoError(t, os.WriteFile(checkpoint, kept, 0o600))
	require.Error(t, s.Restart(t))
	require.NoError(t, s.RestartRestored(t))
	r = endeixis(t, s, "auditor", "record", "list", "--kind", "ledger-restored")
	assert.Contains(t, r.out, "ledger-restored")
	r = endeixis(t, s, "auditor", "record", "audit")
	assert.Zero(t, r.code, r.out+r.err)
	again := []string{"ENDEIXIS_PROFILE=" + profileOf(t, s, profile)}
	r = endeixisWith(t, again, "", "record", "audit")
	assert.Equal(t, 10, r.code, r.out+r.err)
	r = endeixisWith(t, again, "", "record", "audit", "--begin-anew")
	assert.Zero(t, r.code, r.out+r.err)
	r = endeixisWith(t, again, "", "batch", "list")
	assert.Zero(t, r.code, r.out+r.err)
}

// profileOf writes a profile anew for the address that a service has after a start.
func profileOf(t *testing.T, s *testkit.Service, path string) string {
	t.Helper()
	require.NoError(t, cli.SaveProfile(path, s.URL, "merit", "auditor", s.Token(t, roles.Auditor), s.PublicKey))
	return path
}

// get asks without a sign-in.
func get(t *testing.T, address string) (int, string) {
	t.Helper()
	response, err := http.Get(address) //nolint:noctx // ends with the test
	require.NoError(t, err)
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	return response.StatusCode, string(text)
}

// TestAForgedRecordIsNotSigned: whoever may write to the database appends a whole record, with
// its hashes and what follows from it. It is not signed, decides nothing, and is named.
func TestAForgedRecordIsNotSigned(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	db, err := store.Open(t.Context(), s.Config.Database.URL)
	require.NoError(t, err)
	defer db.Close()
	c := s.Client(t, roles.Auditor)
	before, err := c.Checkpoint(t.Context(), 0)
	require.NoError(t, err)

	// The whole of it, as a program of one's own would do it: the key of Corran, which nobody
	// has admitted, is admitted, by a curator's name.
	stranger := func(last *store.Seal, first int64, records []*store.Record, leaves []tlog.Hash) (store.Seal, error) {
		over := ledger.OverLeaves(leaves)
		seal := ledger.Seal{First: first, Records: int64(len(records)), Decisions: last.Decisions + 1, Over: over}
		return store.Seal{
			First: first, Records: seal.Records, Decisions: seal.Decisions, Over: over[:],
			MAC: seal.MAC([]byte("a guess")),
		}, nil
	}
	forge := func(t *testing.T) {
		t.Helper()
		require.NoError(t, db.Do(t.Context(), func(ctx context.Context, tx *store.Tx) error {
			record := &store.Record{
				Kind: "key-step", At: time.Now().UTC().Truncate(time.Microsecond), By: "tobiah", Subject: "x",
			}
			record.Body = []byte(
				fmt.Sprintf(
					`{"kind":"key-step","at":%q,"by":"tobiah","software":"x","subject":"x","fingerprint":"00","to":"admitted","reason":"it is good"}`,
					record.At.Format(time.RFC3339Nano),
				),
			)
			return tx.Append(ctx, []*store.Record{record}, stranger)
		}))
	}
	forge(t)
	_, err = c.Checkpoint(t.Context(), 0)
	assert.ErrorContains(t, err, "not sealed by it")
	ready, text := get(t, s.URL+"/readyz")
	assert.Equal(t, http.StatusServiceUnavailable, ready)
	assert.Contains(t, text, "no checkpoint can be signed")
	_, err = c.Receipt(t.Context(), before.Size)
	assert.ErrorContains(t, err, "Nothing is signed")
	r := endeixis(t, s, "auditor", "status")
	assert.Contains(t, r.out, "is not sealed by it")
	r = endeixis(t, s, "auditor", "record", "audit")
	assert.Equal(t, 10, r.code, r.out+r.err)
	assert.Contains(t, r.out, fmt.Sprintf("Record %d is not sealed", before.Size))
	_, err = s.Client(t, roles.Operator).
		RunBatch(t.Context(), wire.NewBatch{Depot: "quayside", Path: "tidewright/gauge-fw-4.2"}, "")
	assert.ErrorContains(t, err, "Nobody has sealed record", "and nothing is judged by it")
	// A seal that is taken away, or another's, is no better.
	for _, sql := range []string{`DELETE FROM seals WHERE first = (SELECT max(first) FROM seals)`, `INSERT INTO seals SELECT (SELECT max(position) FROM ledger_records), records, decisions, over_leaves, mac FROM seals ORDER BY first LIMIT 1`} {
		altered(t, s, sql)
		_, err = c.Checkpoint(t.Context(), 0)
		assert.ErrorContains(t, err, "Nothing is signed", sql)
		r := endeixis(t, s, "auditor", "record", "audit")
		assert.Equal(t, 10, r.code, r.out+r.err)
		assert.Contains(t, r.out, "is not sealed", sql)
	}
}

// TestALimitedTokenMeasures what it may have verified, and nothing else.
func TestALimitedTokenMeasures(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	folder := filepath.Join(s.Depot, "tidewright", "gauge-fw-4.2")
	limited := func(l wire.Limits) []string {
		issued, err := s.Client(t, roles.Operator).
			IssueToken(t.Context(), wire.NewToken{Label: "limited", Days: 1, Limits: l})
		require.NoError(t, err)
		return []string{"ENDEIXIS_SERVER=" + s.URL, "ENDEIXIS_TOKEN=" + issued.Text}
	}
	own := limited(wire.Limits{Publishers: []string{"tidewright"}})
	r := endeixisWith(t, own, "", "batch", "run", folder, "--publisher", "tidewright")
	assert.Zero(t, r.code, r.out+r.err)
	r = endeixisWith(t, own, "", "batch", "run", folder, "--publisher", "corran")
	assert.Equal(t, 3, r.code, r.out+r.err)
	c := s.Client(t, roles.Operator)
	b, err := c.RunBatch(
		t.Context(),
		wire.NewBatch{
			Publisher: "corran",
			Measurer:  &wire.Measurer{Kind: "client", Host: "vm", Path: "/srv/x", Software: "a test"},
		},
		"",
	)
	require.NoError(t, err)
	other, err := client.New(s.URL, strings.TrimPrefix(own[1], "ENDEIXIS_TOKEN="))
	require.NoError(t, err)
	assert.ErrorContains(
		t, other.SendListing(t.Context(), b.ID, 1, wire.ListingPage{Files: []wire.ListedFile{}}),
		"good for the publisher tidewright only",
	)
	_, err = other.SendMeasurements(t.Context(), b.ID, []wire.Submission{})
	assert.ErrorContains(t, err, "good for the publisher tidewright only")

	// The same key with another program that measures is another request.
	ask := func(software string) error {
		_, err := c.RunBatch(
			t.Context(),
			wire.NewBatch{Measurer: &wire.Measurer{Kind: "client", Host: "vm", Path: "/srv/x", Software: software}},
			"one key",
		)
		return err
	}
	require.NoError(t, ask("a test"))
	require.NoError(t, ask("a test"))
	assert.ErrorContains(t, ask("another"), "used for another request")
}
