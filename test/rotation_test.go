package test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/internal/cli"
	"endeixis/internal/roles"
	"endeixis/internal/testkit"
)

// TestTheLedgersKeyIsFollowed: the ledger goes on with a new key that the old one has signed. Who
// knows the old one goes on by itself; receipts of before and of now hold with either.
func TestTheLedgersKeyIsFollowed(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	dir := t.TempDir()
	profile := filepath.Join(dir, "profile.yaml")
	known := func() []string { return []string{"ENDEIXIS_PROFILE=" + profile} }
	require.NoError(t, cli.SaveProfile(profile, s.URL, "merit", "auditor", s.Token(t, roles.Auditor), s.PublicKey))
	b := verified(t, s, "quayside:tidewright/gauge-fw-4.2")
	require.Equal(t, "cleared", *b.Verdict)
	kept, receipt := filepath.Join(dir, "checkpoint.txt"), filepath.Join(dir, "before.json")
	require.Zero(t, endeixisWith(t, known(), "", "record", "audit", "--save", kept).code)
	require.Zero(t, endeixisWith(t, known(), "", "record", "receipt", "5", "--file", receipt).code)
	old := s.PublicKey

	require.NoError(t, s.Rotate(t))
	require.NotEqual(t, old, s.PublicKey)
	require.NoError(t, s.Restart(t))
	// The token is as good as before; the profile has the address of before, and the old key.
	require.NoError(t, cli.SaveProfile(profile, s.URL, "merit", "auditor", s.Token(t, roles.Auditor), old))
	r := endeixisWith(t, known(), "", "batch", "list")
	assert.Zero(t, r.code, r.out+r.err)
	assert.Contains(t, r.err, "goes on with another key, as the one remembered has signed")
	text, err := os.ReadFile(profile)
	require.NoError(t, err)
	assert.Contains(t, string(text), s.PublicKey)
	r = endeixisWith(t, known(), "", "batch", "list")
	assert.Zero(t, r.code)
	assert.NotContains(t, r.err, "another key", "it is told once")

	after := filepath.Join(dir, "after.json")
	r = endeixisWith(t, known(), "", "record", "receipt", "5", "--file", after)
	require.Zero(t, r.code, r.err)
	for _, c := range []struct {
		file, key string
		code      int
	}{{receipt, old, 0}, {after, old, 0}, {after, s.PublicKey, 0}, {receipt, s.PublicKey, 10}} {
		r := endeixisWith(t, known(), "", "record", "verify-receipt", c.file, "--public-key", c.key)
		assert.Equal(t, c.code, r.code, "%s %s: %s", filepath.Base(c.file), c.key, r.out+r.err)
	}
	r = endeixisWith(t, known(), "", "record", "audit")
	assert.Zero(t, r.code, r.out+r.err)
	r = endeixisWith(t, known(), "", "record", "audit", "--against", kept, "--public-key", old)
	assert.Zero(t, r.code, r.out+r.err)
	r = endeixisWith(t, known(), "", "record", "list", "--kind", "ledger-key-rotated")
	assert.Contains(t, r.out, "ledger-key-rotated")
	// What was cleared before counts, and receipts of before do as evidence.
	b = verified(t, s, "quayside:tidewright/gauge-fw-4.2")
	assert.Equal(t, "cleared", *b.Verdict)
	folder := s.Write(t, "with-a-receipt", map[string][]byte{"before.json": read(t, receipt)})
	b = verified(t, s, folder)
	shown := endeixis(t, s, "auditor", "batch", "show", fmt.Sprint(b.ID), "-o", "json")
	assert.NotContains(t, shown.out, "receipt-fails")

	// The old file is there to be destroyed, and can be used for nothing.
	ended := s.Config.Ledger.KeyFile + ".ended"
	require.NoError(t, os.WriteFile(s.Config.Ledger.KeyFile, read(t, ended), 0o600))
	assert.ErrorContains(t, s.Restart(t), "is not the one that this database has")
}

// TestTheLedgersKeyIsLost: what was there is taken as it is, and everybody who knew the old key is
// asked.
func TestTheLedgersKeyIsLost(t *testing.T) {
	t.Parallel()
	s := testkit.StartBare(t)
	profile := filepath.Join(t.TempDir(), "profile.yaml")
	env := []string{"ENDEIXIS_PROFILE=" + profile, "ENDEIXIS_PASSWORD=" + passwordOf(roles.Auditor)}
	require.NoError(t, cli.SaveProfile(profile, s.URL, "merit", "auditor", s.Token(t, roles.Auditor), s.PublicKey))
	require.Zero(t, endeixisWith(t, env, "", "record", "audit").code)
	old := s.PublicKey
	require.NoError(t, s.LoseKey(t))
	require.NoError(t, s.Restart(t))
	require.NoError(t, cli.SaveProfile(profile, s.URL, "merit", "auditor", s.Token(t, roles.Auditor), old))
	r := endeixisWith(t, env, "", "batch", "list")
	assert.Equal(t, 10, r.code, r.out+r.err)
	assert.Contains(t, r.err, "signed with another key")
	signIn := func(said string) ran {
		return endeixisWith(
			t, env, passwordOf(roles.Auditor)+"\n"+said+"\n", "login", "--server", s.URL, "--user", "merit",
		)
	}
	r = signIn("yes")
	assert.Equal(t, 10, r.code, r.out+r.err)
	assert.Contains(t, r.err, "has another key than the one remembered")
	r = signIn("accept")
	assert.Zero(t, r.code, r.out+r.err)
	text := string(read(t, profile))
	assert.True(t, strings.Contains(text, s.PublicKey), text)
	r = endeixisWith(t, env, "", "record", "audit")
	assert.Zero(t, r.code, r.out+r.err)
	r = endeixisWith(t, env, "", "record", "list", "--kind", "ledger-key-lost")
	assert.Contains(t, r.out, "ledger-key-lost")
}

// read reads a file of the test.
func read(t *testing.T, path string) []byte {
	t.Helper()
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	return text
}
