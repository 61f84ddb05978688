package records_test

import (
	"context"
	"errors"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/internal/fault"
	"endeixis/internal/records"
	"endeixis/internal/store"
	"endeixis/internal/testkit"
)

func nothingElse(context.Context, *store.Tx, *records.Service) error { return nil }

// TestRotationIsInterrupted: a change of keys that ends anywhere leaves a ledger with a key, and is
// done again.
func TestRotationIsInterrupted(t *testing.T) {
	t.Parallel()
	s, r, file := begun(t)
	require.NoError(t, write(t, s, r, "a", "b"))
	_, _, err := r.Sign(t.Context())
	require.NoError(t, err)
	before := r.PublicKey()

	// It ends before the database knows the new key, whose file stays.
	cut := errors.New("the power is cut")
	_, err = records.New(s, testkit.Now).
		Rotate(t.Context(), file, func(context.Context, *store.Tx, *records.Service) error { return cut })
	require.ErrorIs(t, err, cut)
	require.FileExists(t, file+".next")
	again := records.New(s, testkit.Now)
	require.NoError(t, again.LoadKey(t.Context(), file))
	assert.Equal(t, before, again.PublicKey())
	require.NoError(t, write(t, s, again, "c"))

	public, err := records.New(s, testkit.Now).Rotate(t.Context(), file, nothingElse)
	require.NoError(t, err)
	assert.NotEqual(t, before, public)
	require.NoFileExists(t, file+".next")

	// It ends behind that: the file is put in its place by whoever needs it next.
	require.NoError(t, os.Rename(file, file+".next"))
	require.NoError(t, os.Rename(file+".ended", file))
	again = records.New(s, testkit.Now)
	require.NoError(t, again.LoadKey(t.Context(), file))
	assert.Equal(t, public, again.PublicKey())
	require.NoError(t, again.Resume(t.Context()))

	// With the key that seems to be lost where that has left it, none is declared lost.
	require.NoError(t, os.Rename(file, file+".next"))
	_, err = records.New(s, testkit.Now).DeclareLost(t.Context(), file, nothingElse)
	require.True(t, fault.Is(err, fault.KeyFileThere), err)
	again = records.New(s, testkit.Now)
	require.NoError(t, again.LoadKey(t.Context(), file))
	assert.Equal(t, public, again.PublicKey())
	report, err := again.Audit(t.Context(), records.AuditQuestion{}, func(int64, int64) {})
	require.NoError(t, err)
	assert.True(t, report.Clean, report.Sentence)
}
