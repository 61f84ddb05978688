package test

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

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
			b, err := s.Client(t, roles.Operator).RunBatch(t.Context(), wire.NewBatch{Depot: "quayside", Path: "tidewright/gauge-fw-4.2", Publisher: "corran"}, "")
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
