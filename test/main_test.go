// Package test meets the product as its users do: the service with a real
// PostgreSQL, called through the client's binary, its API and a browser.
package test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"endeixis/internal/browser"
	"endeixis/internal/roles"
	"endeixis/internal/testkit"
	"endeixis/internal/wire"
)

// TestMain says at once where there is no browser, and not after a quarter of an hour.
func TestMain(m *testing.M) {
	if err := browser.Installed(); err != nil {
		fmt.Fprintln(os.Stderr, "The tests of the whole product need a browser:", err)
		os.Exit(1)
	}
	testkit.Main(m, func() {
		os.RemoveAll(built.dir)
		if shown.browser != nil {
			shown.browser.End()
		}
	})
}

var built struct {
	once sync.Once
	dir  string
	err  error
}

// binary returns the path of a program, built once for all tests.
func binary(t testing.TB, name string) string {
	t.Helper()
	built.once.Do(func() {
		if built.dir, built.err = os.MkdirTemp("", "endeixis-test-bin-"); built.err != nil {
			return
		}
		cmd := exec.Command("go", "build", "-o", built.dir+"/", "endeixis/cmd/endeixis", "endeixis/cmd/endeixisd")
		if out, err := cmd.CombinedOutput(); err != nil {
			built.err = &exec.Error{Name: string(out), Err: err}
		}
	})
	require.NoError(t, built.err)
	return filepath.Join(built.dir, name)
}

// A ran is a finished run of the client.
type ran struct {
	code     int
	out, err string
}

// decode reads JSON output.
func (r ran) decode(t testing.TB, into any) {
	t.Helper()
	require.NoError(t, json.Unmarshal([]byte(r.out), into), "stdout: %s\nstderr: %s", r.out, r.err)
}

// endeixis runs the client as somebody with the role.
func endeixis(t testing.TB, s *testkit.Service, role roles.Role, args ...string) ran {
	t.Helper()
	return endeixisWith(t, []string{"ENDEIXIS_SERVER=" + s.URL, "ENDEIXIS_TOKEN=" + s.Token(t, role)}, "", args...)
}

// endeixisWith runs the client with an environment and standard input.
func endeixisWith(t testing.TB, env []string, stdin string, args ...string) ran {
	t.Helper()
	// A command that waits for what never comes fails, and does not hold up the rest.
	ctx, stop := context.WithTimeout(t.Context(), 5*time.Minute)
	defer stop()
	cmd := exec.CommandContext(ctx, binary(t, "endeixis"), args...)
	cmd.Env = append(
		append(os.Environ(), "ENDEIXIS_PROFILE="+filepath.Join(t.TempDir(), "none.yaml"), "TZ=UTC"),
		env...)
	var out, errs bytes.Buffer
	cmd.Stdin, cmd.Stdout, cmd.Stderr = bytes.NewBufferString(stdin), &out, &errs
	err := cmd.Run()
	exitError := &exec.ExitError{}
	if err != nil && !errors.As(err, &exitError) {
		require.NoError(t, err)
	}
	return ran{cmd.ProcessState.ExitCode(), out.String(), errs.String()}
}

// nothing is for those who only want to know the end of a batch.
func nothing(wire.Batch) {}
