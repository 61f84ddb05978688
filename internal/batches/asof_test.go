package batches_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/core/openpgp/pgptest"
	"endeixis/internal/batches"
	"endeixis/internal/keys"
	"endeixis/internal/policy"
	"endeixis/internal/publishers"
	"endeixis/internal/sources"
	"endeixis/internal/state"
	"endeixis/internal/store"
	"endeixis/internal/testkit"
)

// TestAllItemsMeetTheSameKeyring changes the keyring between the slices of a
// batch, in every way in which it can change: all its items are judged as of
// its creation. Before it ends, it is judged again, and what is told is the later.
func TestAllItemsMeetTheSameKeyring(t *testing.T) {
	t.Parallel()
	born := time.Date(2024, 3, 1, 0, 0, 0, 0, time.UTC)
	key := pgptest.NewKey("extended", pgptest.Ed25519, born)
	sub := pgptest.NewKey("a later subkey", pgptest.Ed25519, born)
	certificate := func() *pgptest.Certificate {
		return pgptest.NewCertificate(key).
			UserID("Q", pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}})
	}
	extended := certificate().Subkey(
		sub, pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}},
		&pgptest.Sig{Created: born},
	).Bytes()
	revoked := pgptest.NewCertificate(key).Key(
		key,
		pgptest.Sig{
			Type: pgptest.KeyRevocation, Created: time.Now().UTC(), Hashed: []pgptest.Sub{pgptest.Reason(2, "")},
		},
	).Bytes()
	for name, test := range map[string]struct {
		signer *pgptest.Key
		change func(p *testkit.Parts) error
		// want is the verdict of both items, and later what judging again makes
		// of it.
		want, later string
	}{
		"an extension is merged": {sub, func(p *testkit.Parts) error {
			_, _, err := p.Keys.Import(t.Context(), "tobiah", "", "a test", extended, nil)
			return err
		}, "unproven", "cleared"},
		"a revocation is merged": {key, func(p *testkit.Parts) error {
			_, _, err := p.Keys.Import(t.Context(), "tobiah", "", "a test", revoked, nil)
			return err
		}, "cleared", "refused"},
		"the key is withdrawn": {key, func(p *testkit.Parts) error {
			_, err := p.Keys.Withdraw(t.Context(), "tobiah", key.Fingerprint(), "a test")
			return err
		}, "cleared", "unproven"},
		"the scope changes": {key, func(p *testkit.Parts) error {
			_, err := p.Publishers.Change(t.Context(), "tobiah", "quoin", publishers.Change{Scope: []string{"other-*"}})
			return err
		}, "cleared", "cleared"},
		"the policy changes": {key, func(p *testkit.Parts) error {
			now, err := p.Policy.InForce(t.Context(), 0)
			if err != nil {
				return err
			}
			now.SignatureHashBits = 256
			_, err = p.Policy.Set(t.Context(), "tobiah", "", now.Policy, "a test")
			return err
		}, "cleared", "unproven"},
		"a waiver is granted": {sub, func(p *testkit.Parts) error {
			_, err := p.Policy.Grant(t.Context(), "tobiah", policy.NewWaiver{Ground: judge.ManifestUnsigned, Publisher: "quoin", Until: testkit.Now().AddDate(0, 1, 0), Reason: "a test"})
			return err
		}, "unproven", "unproven"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			c := testkit.Prepare(t)
			c.Work.SliceItems = 1
			p := testkit.Assemble(t, c, testkit.Now)
			admit(t, p, key, certificate().Bytes())
			dir := filepath.Join(c.Depots["quayside"], "slow")
			require.NoError(t, os.MkdirAll(dir, 0o755))
			for _, file := range []string{"gauge-1.bin", "gauge-2.bin"} {
				require.NoError(t, os.WriteFile(filepath.Join(dir, file), []byte(file), 0o644))
				require.NoError(
					t,
					os.WriteFile(
						filepath.Join(dir, file+".sig"),
						test.signer.Sign([]byte(file), pgptest.Sig{Created: born.AddDate(1, 0, 0)}), 0o644,
					),
				)
			}
			b, err := p.Batches.Create(
				t.Context(), "ines",
				batches.Request{Source: sources.Source{Kind: sources.Depot, Reference: "quayside:slow"}},
			)
			require.NoError(t, err)
			slices := p.Surveyed(t, b.ID)
			require.Len(t, slices, 2)
			require.NoError(t, p.Batches.Measure(t.Context(), b.ID, slices[0]))
			require.NoError(t, test.change(p))
			require.NoError(t, p.Batches.Measure(t.Context(), b.ID, slices[1]))
			_, err = p.Batches.Finish(t.Context(), b.ID)
			require.NoError(t, err)
			b, err = p.Batches.Get(t.Context(), b.ID)
			require.NoError(t, err)
			assert.EqualValues(t, test.later, *b.Verdict, "what is told is the later result")
			counts := map[string]int{"cleared": b.Cleared, "unproven": b.Unproven, "refused": b.Refused}
			want := map[string]int{"cleared": 0, "unproven": 0, "refused": 0}
			want[test.later] = 2
			assert.Equal(t, want, counts)

			waiting, err := p.Store.Waiting(t.Context())
			require.NoError(t, err)
			assert.Empty(t, waiting, "it was made up for with the end itself")
			runs, err := p.Store.Reassessments(t.Context(), store.RunFilter{Limit: 10})
			require.NoError(t, err)
			require.Len(t, runs, 1)
			changed := 0
			if test.want != test.later {
				changed = 2
				assert.Contains(t, b.Note, "2 verdicts differ")
			}
			assert.Equal(t, state.RunDone, runs[0].State)
			assert.Equal(t, changed, runs[0].Changed)
			rows, err := p.Store.StoredItems(t.Context(), b.ID, -1, 10)
			require.NoError(t, err)
			for _, row := range rows {
				if row.Present != "" {
					assert.Equal(t, test.later, row.Present)
				}
			}
			items, err := p.Store.ItemRows(t.Context(), b.ID, store.ItemFilter{Role: "artifact", Limit: 10})
			require.NoError(t, err)
			require.Len(t, items, 2)
			for _, item := range items {
				assert.Equal(t, test.want, *item.Verdict, "the first result is on record too")
			}
		})
	}
}

// TestDecisionsThatNeverRest: while somebody decides each time that a batch is about to be closed,
// it is closed at last, and is to be judged again by itself.
func TestDecisionsThatNeverRest(t *testing.T) {
	t.Parallel()
	c := testkit.Prepare(t)
	dir := filepath.Join(c.Depots["quayside"], "busy")
	require.NoError(t, os.MkdirAll(dir, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a.img"), []byte("a"), 0o644))
	var p *testkit.Parts
	armed, deciding := 0, false
	decide := func() {
		deciding = true
		defer func() { deciding = false }()
		ctx, stop := context.WithTimeout(t.Context(), 10*time.Second) // for ever, within a decision of the batch
		defer stop()
		_, err := p.Policy.Grant(ctx, "tobiah", policy.NewWaiver{
			Ground: judge.WeakDigestOnly, Publisher: "quoin", Until: testkit.Now().Add(time.Hour), Reason: "for now",
		})
		assert.NoError(t, err)
	}
	p = testkit.Assemble(t, c, func() time.Time {
		if armed > 0 && !deciding { // the clock is looked at when everything was read
			armed--
			decide()
		}
		return testkit.Now()
	})
	_, err := p.Publishers.Add(t.Context(), "ines", publishers.Details{Slug: "quoin", Name: "Quoin"})
	require.NoError(t, err)
	for ordered, decisions := range []int{0, 5} {
		b, err := p.Batches.Create(
			t.Context(), "ines", batches.Request{Source: sources.Source{Kind: sources.Depot, Reference: "quayside:busy"}},
		)
		require.NoError(t, err)
		for _, slice := range p.Surveyed(t, b.ID) {
			require.NoError(t, p.Batches.Measure(t.Context(), b.ID, slice))
		}
		decide()
		armed = decisions
		closed, err := p.Batches.Finish(t.Context(), b.ID)
		require.NoError(t, err)
		assert.True(t, closed)
		assert.Zero(t, armed, "each time somebody has decided")
		b, err = p.Batches.Get(t.Context(), b.ID)
		require.NoError(t, err)
		assert.Equal(t, state.BatchDone, b.State)
		waiting, err := p.Store.Waiting(t.Context())
		require.NoError(t, err)
		// Beside the orders of the decisions themselves, about what had ended before.
		waiting = slices.DeleteFunc(waiting, func(id int64) bool {
			r, err := p.Store.Reassessment(t.Context(), id)
			require.NoError(t, err)
			return !strings.Contains(string(r.Selection), fmt.Sprintf(`"batch": %d`, b.ID))
		})
		assert.Len(t, waiting, ordered, "%d decisions", decisions)
	}
}

// admit puts a key into the keyring, for a publisher of gauges.
func admit(t *testing.T, p *testkit.Parts, key *pgptest.Key, certificate []byte) {
	t.Helper()
	_, err := p.Publishers.Add(
		t.Context(), "tobiah", publishers.Details{Slug: "quoin", Name: "Quoin", Scope: []string{"gauge*"}},
	)
	require.NoError(t, err)
	_, _, err = p.Keys.Import(t.Context(), "tobiah", "quoin", "a test", certificate, nil)
	require.NoError(t, err)
	fp := key.Fingerprint()
	for _, channel := range []keyring.Channel{keyring.Letter, keyring.Phone} {
		_, _, err := p.Keys.Sight(
			t.Context(), "ines", fp, keys.NewSighting{Read: fp, Channel: channel, Place: "a test"},
		)
		require.NoError(t, err)
	}
	_, err = p.Keys.Admit(
		t.Context(), "tobiah", keys.Admission{Fingerprint: fp, Typed: fp, Publisher: "quoin", Reason: "a test"},
	)
	require.NoError(t, err)
}
