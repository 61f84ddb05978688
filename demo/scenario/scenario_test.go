package scenario

import (
	"crypto/sha256"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/openpgp"
)

// TestTwoRunsGiveTheSame writes the depot twice and compares bytes and dates.
func TestTwoRunsGiveTheSame(t *testing.T) {
	t.Parallel()
	sum := func() map[string]string {
		dir := t.TempDir()
		require.NoError(t, WriteSmall(dir))
		require.NoError(t, WriteKeys(filepath.Join(dir, "keys")))
		out := map[string]string{}
		require.NoError(t, filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
			if err != nil || e.IsDir() {
				return err
			}
			content, err := os.ReadFile(path)
			digest := sha256.Sum256(content)
			name, _ := filepath.Rel(dir, path)
			out[name] = string(digest[:])
			return err
		}))
		return out
	}
	first := sum()
	assert.Greater(t, len(first), 40)
	assert.Equal(t, first, sum())
	// What was made once for all is what would be made again.
	assert.Equal(t, made(), folders())
	assert.Equal(t, Keys(), presentKeys())
}

func TestKeysRead(t *testing.T) {
	t.Parallel()
	for _, k := range Keys() {
		certs, skipped, err := openpgp.ReadCertificates(k.Armored)
		require.NoError(t, err, k.Name)
		require.Empty(t, skipped)
		require.Len(t, certs, 1)
		assert.EqualValues(t, k.Fingerprint, certs[0].Primary.Fingerprint)
	}
	names := map[string]bool{}
	for _, p := range People() {
		assert.GreaterOrEqual(t, len(p.Password), 10)
		names[string(p.Role)] = true
	}
	assert.Len(t, names, 4, "somebody of every role")
}
