package browser

import (
	"errors"
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestMissing: where no browser is installed, that is said before anything is started, with what
// to do.
func TestMissing(t *testing.T) {
	t.Setenv("PATH", t.TempDir())
	_, _, err := New(t.Context(), 800, 600)
	var missing *MissingError
	require.ErrorAs(t, err, &missing)
	assert.True(t, errors.Is(err, exec.ErrNotFound))
	assert.Contains(t, err.Error(), "scripts/install-missing.sh test")
}
