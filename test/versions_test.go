package test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/demo/scenario"
	"endeixis/internal/client"
	"endeixis/internal/roles"
	"endeixis/internal/testkit"
)

// previous is the tag of the version before this one, and the commit that it is on, for copies
// without tags.
var previous = []string{"v0.1.0", "7cd92a65a07110332e45826e633aefdd0953006a"}

// earlier builds the programs of the previous version from the repository, with the console of this
// one, and returns where they are. A copy without its history has no previous version.
func earlier(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	var archive []byte
	for _, name := range previous {
		out, err := exec.Command("git", "-C", "..", "archive", "--format=tar", name+"^{commit}").Output()
		if err == nil {
			archive = out
			break
		}
	}
	if archive == nil {
		t.Skip("this copy of the repository has no history to build the previous version from")
	}
	unpack := exec.Command("tar", "-x", "-C", dir)
	unpack.Stdin = bytes.NewReader(archive)
	require.NoError(t, unpack.Run())
	require.NoError(t, os.CopyFS(filepath.Join(dir, "dist"), os.DirFS(filepath.Join("..", "console", "dist"))))
	require.NoError(t, os.RemoveAll(filepath.Join(dir, "console", "dist")))
	require.NoError(t, os.Rename(filepath.Join(dir, "dist"), filepath.Join(dir, "console", "dist")))
	build := exec.Command("go", "build", "-buildvcs=false", "-o", "bin/", "./cmd/endeixis", "./cmd/endeixisd")
	build.Dir = dir
	out, err := build.CombinedOutput()
	require.NoError(t, err, string(out))
	return filepath.Join(dir, "bin")
}

// TestVersionsTalk has the client of the previous version use this service, and this client a
// service of the previous version, whose data this service goes on with then. Each does its work, or says in
// words that the two differ; none
// says of a whole ledger that it is broken, of a file that it is cleared or refused which is not, or
// ends in a panic.
func TestVersionsTalk(t *testing.T) {
	t.Parallel()
	old := earlier(t)
	type command struct {
		codes []int
		says  string
		args  []string
	}
	commands := []command{
		{[]int{0}, "cleared", []string{"batch", "run", "quayside:tidewright/gauge-fw-4.2", "--wait"}},
		{[]int{10}, "refused", []string{"batch", "run", "quayside:tidewright/gauge-fw-4.2-flipped", "--wait"}},
		{[]int{0}, "", []string{"batch", "list"}},
		{[]int{0}, "cleared", []string{"batch", "show", "1"}},
		{[]int{0}, "", []string{"keyring", "list"}},
		{[]int{0}, "", []string{"publisher", "list"}},
		{[]int{0}, "", []string{"policy", "show"}},
		{[]int{0}, "", []string{"record", "list"}},
		{[]int{0}, "", []string{"record", "show", "3"}},
		{[]int{0}, "as they were written", []string{"record", "audit"}},
		{[]int{0}, "", []string{"status"}},
	}
	use := func(t *testing.T, program, url, token string, renamed command) {
		dir := t.TempDir()
		for _, c := range append(commands[:len(commands):len(commands)], renamed) {
			cmd := exec.CommandContext(t.Context(), program, c.args...)
			cmd.Env = append(
				os.Environ(), "ENDEIXIS_SERVER="+url, "ENDEIXIS_TOKEN="+token,
				"ENDEIXIS_PROFILE="+filepath.Join(dir, "profile.yaml"), "TZ=UTC",
			)
			out, err := cmd.CombinedOutput()
			text := string(out)
			assert.Contains(t, c.codes, cmd.ProcessState.ExitCode(), "%v: %v %s", c.args, err, text)
			assert.Contains(t, text, c.says, "%v", c.args)
			assert.NotContains(t, text, "panic", "%v", c.args)
			assert.NotContains(t, text, "goroutine", "%v", c.args)
			assert.NotContains(t, strings.ToLower(text), "broken", "%v", c.args)
		}
	}
	t.Run("the previous client", func(t *testing.T) {
		t.Parallel()
		s := testkit.Start(t)
		use(
			t, filepath.Join(old, "endeixis"), s.URL, s.Token(t, roles.Curator),
			command{[]int{0}, "looked up", []string{"keyring", "refresh"}},
		)
	})
	t.Run("the previous service", func(t *testing.T) {
		t.Parallel()
		c := testkit.Prepare(t)
		p := process{file: filepath.Join(t.TempDir(), "endeixis.yaml"), program: filepath.Join(old, "endeixisd")}
		text := fmt.Sprintf("name: %s\nlisten: %s\ndatabase: {url: %q}\nledger: {key_file: %q}\ndepots: {%s: %q}\n",
			c.Name, c.Listen, c.Database.URL, c.Ledger.KeyFile, scenario.Depot, c.Depots[scenario.Depot])
		require.NoError(t, os.WriteFile(p.file, []byte(text), 0o600))
		first := exec.CommandContext(t.Context(), p.program, "init", "--config", p.file, "--administrator", "ines")
		first.Stdin = strings.NewReader("a long enough word for a test\n")
		out, err := first.CombinedOutput()
		require.NoError(t, err, string(out))
		at := strings.Index(string(out), "endx_")
		require.Positive(t, at, string(out))
		token := strings.Fields(string(out[at:]))[0]
		p.start(t)
		admitted(t, p.url, token)
		use(
			t, binary(t, "endeixis"), p.url, token,
			command{[]int{1}, "No key directory is configured", []string{"keyring", "lookup", "--all"}},
		)
		before := endeixisWith(
			t, []string{"ENDEIXIS_SERVER=" + p.url, "ENDEIXIS_TOKEN=" + token}, "", "batch", "show", "2", "-o", "json",
		)
		require.True(t, json.Valid([]byte(before.out)), before.out)

		// This version goes on with what that one has left: what it shows is the same, the audit
		// holds, and what was verified there is judged again.
		p.kill()
		p.program = binary(t, "endeixisd")
		p.start(t)
		now := []string{"ENDEIXIS_SERVER=" + p.url, "ENDEIXIS_TOKEN=" + token}
		after := endeixisWith(t, now, "", "batch", "show", "2", "-o", "json")
		assert.JSONEq(t, before.out, after.out)
		r := endeixisWith(t, now, "", "record", "audit", "--full")
		assert.Zero(t, r.code, r.out+r.err)
		assert.Contains(t, r.out, "as they were written")
		require.Zero(t, endeixisWith(t, now, "", "reassess", "--batch", "1", "--reason", "a newer program").code)
		assert.Zero(t, endeixisWith(t, now, "", "batch", "drill", "1").code)
		assert.Zero(t, endeixisWith(t, now, "", "batch", "run", "quayside:tidewright/gauge-fw-4.2", "--wait").code)
		r = endeixisWith(t, now, "", "record", "audit", "--full")
		assert.Zero(t, r.code, r.out+r.err)
	})
}

// admitted has a service keep the demo's publishers and keys.
func admitted(t *testing.T, url, token string) {
	t.Helper()
	c, err := client.New(url, token)
	require.NoError(t, err)
	require.NoError(t, scenario.Keep(t.Context(), c))
}
