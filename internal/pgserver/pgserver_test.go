package pgserver_test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/internal/pgserver"
)

// TestMain lets the test binary be a program that starts a server and waits to
// be killed.
func TestMain(m *testing.M) {
	if os.Getenv("ENDEIXIS_PGSERVER_CHILD") != "" {
		s, err := pgserver.Start(context.Background())
		if err != nil {
			fmt.Println("error:", err)
			os.Exit(1)
		}
		fmt.Println(s.URL("postgres"))
		select {}
	}
	os.Exit(m.Run())
}

func TestStartAndStop(t *testing.T) {
	s, err := pgserver.Start(t.Context())
	require.NoError(t, err)
	url, err := pgserver.CreateDatabase(t.Context(), s.URL("postgres"))
	require.NoError(t, err)
	conn, err := pgx.Connect(t.Context(), url)
	require.NoError(t, err)
	var version, address, user string
	require.NoError(
		t,
		conn.QueryRow(
			t.Context(), `SELECT current_setting('server_version'), current_setting('listen_addresses'), current_user`,
		).Scan(
			&version, &address, &user,
		),
	)
	assert.Equal(t, "127.0.0.1", address, "loopback only")
	conn.Close(t.Context())

	_, err = pgx.Connect(t.Context(), strings.Replace(url, "endeixis:", "endeixis:wrong", 1))
	assert.Error(t, err, "others on this machine need the password")
	s.Stop()
	_, err = pgx.Connect(t.Context(), url)
	assert.Error(t, err)
}

// TestLeftoversOfAKilledProgram kills a program that runs a server, and expects
// the next start to end that server and remove its files.
func TestLeftoversOfAKilledProgram(t *testing.T) {
	temp := t.TempDir()
	require.NoError(t, os.Chmod(temp, 0o755)) //nolint:gosec // the unprivileged user passes through
	require.NoError(t, os.Chmod(filepath.Dir(temp), 0o755))
	t.Setenv("TMPDIR", temp)
	child := exec.Command(os.Args[0])
	child.Env = append(os.Environ(), "ENDEIXIS_PGSERVER_CHILD=1")
	out, err := child.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, child.Start())
	buf := make([]byte, 1000)
	n, err := out.Read(buf)
	require.NoError(t, err)
	url := strings.TrimSpace(string(buf[:n]))
	require.True(t, strings.HasPrefix(url, "postgres://"), url)
	require.NoError(t, child.Process.Signal(syscall.SIGKILL))
	child.Wait()
	conn, err := pgx.Connect(t.Context(), url)
	require.NoError(t, err, "the server outlives its program")
	conn.Close(t.Context())
	left, err := filepath.Glob(filepath.Join(temp, "endeixis-postgres-*"))
	require.NoError(t, err)
	require.Len(t, left, 1)

	s, err := pgserver.Start(t.Context())
	require.NoError(t, err)
	defer s.Stop()
	assert.NoDirExists(t, left[0])
	assert.Eventually(t, func() bool {
		_, err := pgx.Connect(t.Context(), url)
		return err != nil
	}, 10*time.Second, 100*time.Millisecond)
}
