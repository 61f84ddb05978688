package test

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/internal/roles"
	"endeixis/internal/testkit"
	"endeixis/internal/wire"
)

// TestNewBatchIsLookedUpByKey: the database's statistics know nothing of a batch that is
// new, and are as likely as not made in the middle of one. Each item's outcome is looked up
// by its key all the same: what is read grows with the files, and not with their square.
func TestNewBatchIsLookedUpByKey(t *testing.T) {
	t.Parallel()
	const files = 2000
	s := testkit.Start(t)
	operator := s.Client(t, roles.Operator)
	run := func(path string) {
		b, err := operator.RunBatch(t.Context(), wire.NewBatch{Depot: "quayside", Path: path}, "")
		require.NoError(t, err)
		_, err = operator.Follow(t.Context(), b.ID, nothing)
		require.NoError(t, err)
	}
	run("tidewright/gauge-fw-4.2")
	conn, err := pgx.Connect(t.Context(), s.Config.Database.URL)
	require.NoError(t, err)
	defer conn.Close(t.Context())
	_, err = conn.Exec(
		t.Context(),
		`ALTER TABLE items SET (autovacuum_enabled = off); ALTER TABLE outcomes SET (autovacuum_enabled = off); ALTER TABLE slices SET (autovacuum_enabled = off); ANALYZE`,
	)
	require.NoError(t, err)
	read := func() (n int64) {
		t.Helper()
		require.NoError(
			t,
			conn.QueryRow(
				t.Context(),
				`SELECT sum(idx_tup_read) FROM pg_stat_user_indexes WHERE relname IN ('items', 'outcomes')`,
			).Scan(&n),
		)
		return n
	}

	parts := map[string][]byte{}
	for i := range files {
		parts[fmt.Sprintf("part-%04d.img", i)] = []byte(fmt.Sprint("part ", i))
	}
	s.Write(t, "parts", parts)
	before := read()
	run("parts")
	dir := t.TempDir()
	for name, content := range parts {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), content, 0o600))
	}
	ran := endeixis(t, s, roles.Operator, "batch", "run", dir)
	assert.Equal(t, 11, ran.code, ran.err)
	// Workers tell what they have read when they are idle; a moment is enough.
	require.Eventually(t, func() bool { return read() > before+2*files }, 30e9, 200e6)
	assert.Less(t, read()-before, int64(200*files), "more was read than the files there are")
	t.Logf("%d entries of indexes were read for %d files", read()-before, 2*files)
}
