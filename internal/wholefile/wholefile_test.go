package wholefile_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/internal/wholefile"
)

// TestWrite: there is the new text and nothing beside it; where it cannot be written the old one
// stays.
func TestWrite(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "kept")
	require.NoError(t, wholefile.Write(path, "one"))
	require.NoError(t, wholefile.Write(path, "two"))
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "two", string(text))
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, info.Mode().Perm())
	require.Error(t, wholefile.Write(filepath.Join(dir, "none", "kept"), "x"))
	taken := filepath.Join(dir, "taken")
	require.NoError(t, os.MkdirAll(filepath.Join(taken, "full"), 0o700))
	require.Error(t, wholefile.Write(taken, "x"), "a folder with something in it is not replaced")
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, left, 2, "nothing is left over")
}
