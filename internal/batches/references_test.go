package batches_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/openpgp/pgptest"
	"endeixis/internal/batches"
	"endeixis/internal/query"
	"endeixis/internal/sources"
	"endeixis/internal/testkit"
)

// TestKnownAgainAtTheEnd: a policy by which files are known again comes into force while such a file is read: the
// batch is closed by it, within one transaction.
func TestKnownAgainAtTheEnd(t *testing.T) {
	t.Parallel()
	born := time.Date(2024, 3, 1, 0, 0, 0, 0, time.UTC)
	key := pgptest.NewKey("known", pgptest.Ed25519, born)
	c := testkit.Prepare(t)
	p := testkit.Assemble(t, c, testkit.Now)
	admit(t, p, key, pgptest.NewCertificate(key).
		UserID("Q", pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}}).Bytes())
	begin := func(folder string, files map[string][]byte) query.Batch {
		dir := filepath.Join(c.Depots["quayside"], folder)
		require.NoError(t, os.MkdirAll(dir, 0o755))
		for name, content := range files {
			require.NoError(t, os.WriteFile(filepath.Join(dir, name), content, 0o600))
		}
		b, err := p.Batches.Create(t.Context(), "ines", batches.Request{
			Source: sources.Source{Kind: sources.Depot, Reference: "quayside:" + folder},
		})
		require.NoError(t, err)
		for _, slice := range p.Surveyed(t, b.ID) {
			require.NoError(t, p.Batches.Measure(t.Context(), b.ID, slice))
		}
		return b
	}
	end := func(b query.Batch) query.Batch {
		_, err := p.Batches.Finish(t.Context(), b.ID)
		require.NoError(t, err)
		b, err = p.Batches.Get(t.Context(), b.ID)
		require.NoError(t, err)
		return b
	}
	first := end(begin("first", map[string][]byte{
		"gauge-1.bin": []byte("one"), "gauge-1.bin.sig": key.Sign([]byte("one"), pgptest.Sig{Created: born.AddDate(1, 0, 0)}),
	}))
	require.EqualValues(t, "cleared", *first.Verdict)
	alone := begin("alone", map[string][]byte{"gauge-9.bin": []byte("one"), "gauge-8.bin": []byte("other")})
	now, err := p.Policy.InForce(t.Context(), 0)
	require.NoError(t, err)
	now.ReferenceClears = true
	_, err = p.Policy.Set(t.Context(), "tobiah", "", now.Policy, "a test")
	require.NoError(t, err)
	alone = end(alone)
	assert.Equal(t, []int{1, 1, 0}, []int{alone.Cleared, alone.Unproven, alone.Refused})
}
