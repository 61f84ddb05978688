package test

import (
	"context"
	"fmt"
	"math"
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

// TestNoSumOverflows: whatever sizes an operator sends, in valid requests, the audit holds.
func TestNoSumOverflows(t *testing.T) {
	t.Parallel()
	s := testkit.StartBare(t)
	c := s.Client(t, roles.Operator)
	begin := func() wire.Batch {
		t.Helper()
		b, err := c.RunBatch(t.Context(), wire.NewBatch{Measurer: &wire.Measurer{Kind: "client", Host: "vm", Path: "/srv/x", Software: "a test"}}, "")
		require.NoError(t, err)
		return b
	}
	b := begin()
	page := func(sizes ...int64) wire.ListingPage {
		out := wire.ListingPage{Files: []wire.ListedFile{}}
		for i, size := range sizes {
			out.Files = append(out.Files, wire.ListedFile{Path: fmt.Sprintf("%d.img", i), Size: size, ModTime: time.Now()})
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
