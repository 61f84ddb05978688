package test

import (
	"bufio"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A demoRun is “make demo” without make: the program in a checkout of its own.
type demoRun struct {
	cmd *exec.Cmd
	out string
}

func startDemo(t *testing.T, checkout, temp string) *demoRun {
	t.Helper()
	d := &demoRun{cmd: exec.Command(filepath.Join(checkout, "bin", "endeixis-demo"))}
	d.cmd.Dir = checkout
	d.cmd.Env = append(os.Environ(), "TMPDIR="+temp)
	pipe, err := d.cmd.StdoutPipe()
	require.NoError(t, err)
	d.cmd.Stderr = d.cmd.Stdout
	require.NoError(t, d.cmd.Start())
	t.Cleanup(func() {
		d.cmd.Process.Signal(syscall.SIGTERM)
		d.cmd.Wait()
	})
	lines := bufio.NewScanner(pipe)
	for lines.Scan() {
		d.out += lines.Text() + "\n"
		if strings.HasPrefix(lines.Text(), "Stop with Ctrl-C") {
			go io.Copy(io.Discard, pipe)
			return d
		}
	}
	t.Fatalf("the demo did not start:\n%s", d.out)
	return nil
}

// TestDemo starts the demo as a newcomer does, uses the client beside it,
// kills it in the worst way, and starts it again.
func TestDemo(t *testing.T) {
	if testing.Short() {
		t.Skip("starts the whole demo twice")
	}
	t.Parallel()
	checkout, temp := t.TempDir(), t.TempDir()
	for _, dir := range []string{temp, filepath.Dir(temp)} {
		require.NoError(t, os.Chmod(dir, 0o755)) // PostgreSQL's user passes through
	}
	build := exec.Command(
		"go", "build", "-o", filepath.Join(checkout, "bin")+"/", "endeixis/cmd/endeixis", "endeixis/cmd/endeixisd",
		"endeixis/cmd/endeixis-world",
	)
	out, err := build.CombinedOutput()
	require.NoError(t, err, string(out))
	out, err = exec.Command(
		"go", "build", "-o", filepath.Join(checkout, "bin", "endeixis-demo"), "endeixis/demo",
	).CombinedOutput()
	require.NoError(t, err, string(out))

	clientRun := func(args ...string) (string, int) {
		cmd := exec.Command(filepath.Join(checkout, "bin", "endeixis"), args...)
		cmd.Dir = checkout
		out, _ := cmd.CombinedOutput()
		return string(out), cmd.ProcessState.ExitCode()
	}
	first := startDemo(t, checkout, temp)
	for _, says := range []string{"Endeixis is ready at  http://127.0.0.1:", "ines", "curator", "bin/endeixis batch run"} {
		assert.Contains(t, first.out, says)
	}
	said, code := clientRun("batch", "run", "quayside:tidewright/gauge-fw-4.2", "--wait")
	assert.Zero(t, code, said)
	said, code = clientRun("batch", "run", "quayside:brackwater/buoy-rx-survey-2026", "--wait")
	assert.Equal(t, 11, code, said)

	again := exec.Command(filepath.Join(checkout, "bin", "endeixis-demo"))
	again.Dir = checkout
	out, err = again.CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "runs in this checkout already")

	require.NoError(t, first.cmd.Process.Signal(syscall.SIGKILL))
	first.cmd.Wait()
	second := startDemo(t, checkout, temp)
	said, code = clientRun("batch", "list")
	assert.Zero(t, code, said)
	assert.Contains(t, said, "No batch yet", "every run starts afresh")
	require.NoError(t, second.cmd.Process.Signal(syscall.SIGINT))
	require.NoError(t, second.cmd.Wait())
	left, err := filepath.Glob(filepath.Join(temp, "endeixis-postgres-*"))
	require.NoError(t, err)
	assert.Empty(t, left, "nothing is left behind")
	_, code = clientRun("batch", "list")
	assert.Equal(t, 3, code, "the profile is gone with the demo")
}
