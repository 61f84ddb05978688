package test

import (
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/internal/roles"
	"endeixis/internal/testkit"
)

// TestNotedReferences: digests from a letter and an old list are found again with where they were read, clear
// nothing, and are taken whole or not at all.
func TestNotedReferences(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	dir := t.TempDir()
	sum := func(content string) string { return fmt.Sprintf("%x", sha256.Sum256([]byte(content))) }
	list := func(name, text string) string {
		file := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		return file
	}
	add := func(role roles.Role, args ...string) ran {
		return endeixis(t, s, role, append([]string{"reference", "add"}, args...)...)
	}
	from := []string{"--publisher", "tidewright", "--channel", "letter", "--at", "letter of 12 March, file 7"}
	r := add("curator", append([]string{sum("one"), "--name", "gauge-fw-3.0.img", "--note", "read twice"}, from...)...)
	require.Zero(t, r.code, r.err)
	assert.Contains(t, r.err+r.out, "It is noted, as record")
	whole := list("SHA256SUMS-2019", sum("two")+"  gauge-fw-3.1.img\n"+sum("three")+"  gauge-fw-3.2.img\n")
	r = add(
		"curator", "--list", whole, "--publisher", "tidewright", "--channel", "mirror", "--at", "mirror.tidewright.example",
	)
	require.Zero(t, r.code, r.err)
	assert.Contains(t, r.err+r.out, "2 digests are noted")

	// What is not understood as a whole is noted in no part.
	for name, c := range map[string]struct{ text, says string }{
		"a damaged line":       {sum("four") + "  gauge-fw-3.4.img\n" + sum("five")[:40] + "g" + sum("five")[41:] + "  gauge-fw-3.5.img\n", "line 2"},
		"a value without name": {sum("four") + "\n", "line 1: the digest has no name"},
		"a checksum":           {"CRC32 (gauge-fw-3.4.img) = 0badcafe\n", "checksum"},
		"nothing":              {"nothing of it\n", "nothing in"},
	} {
		r := add("curator", append([]string{"--list", list("list", c.text)}, from...)...)
		assert.Equal(t, 2, r.code, "%s: %s", name, r.err)
		assert.Contains(t, strings.Join(strings.Fields(r.err), " "), c.says, name)
	}
	for says, args := range map[string][]string{
		"say with --name":        append([]string{sum("one")}, from...),
		"give one digest":        from,
		"nobody":                 {sum("one"), "--name", "x", "--publisher", "nobody", "--channel", "letter", "--at", "x"},
		"no digest by which":     append([]string{"c959bdba", "--name", "x"}, from...),
		"where exactly":          {sum("one"), "--name", "x", "--publisher", "tidewright", "--channel", "letter", "--at", " "},
		"it can be vendor-site":  {sum("one"), "--name", "x", "--publisher", "tidewright", "--channel", "hearsay", "--at", "x"},
		"noted with the name of": {sum("one"), "--name", " ", "--publisher", "tidewright", "--channel", "letter", "--at", "x"},
	} {
		r := add("curator", args...)
		assert.NotZero(t, r.code, says)
		assert.Contains(t, r.err, says)
	}
	r = add("operator", append([]string{sum("one"), "--name", "x"}, from...)...)
	assert.NotZero(t, r.code, "a curator's word")

	r = endeixis(t, s, "auditor", "reference", "list", "--noted")
	assert.Equal(t, 3, strings.Count(r.out, "gauge-fw-3."), r.out)
	r = endeixis(t, s, "auditor", "reference", "list", "--noted", "--name", "3.1", "--output", "json")
	assert.Contains(t, r.out, sum("two"))
	assert.NotContains(t, r.out, sum("one"))
	r = endeixis(t, s, "operator", "reference", "find", sum("one"))
	assert.Equal(t, 11, r.code, "nothing was cleared")
	said := strings.Join(strings.Fields(r.out), " ")
	assert.Contains(t, said, "No file that was cleared here has these bytes.")
	assert.Contains(t, said, "Noted, and not cleared: “gauge-fw-3.0.img” of tidewright, read on the channel letter (letter of 12 March")

	// What is looked for is meant as it stands, in any script and with any sign.
	for _, name := range []string{"100%_sure.img", `it's "quoted".img`, "журнал-4.img", "ﷺ.img", `a\b.img`} {
		r := add("curator", append([]string{sum(name), "--name", name}, from...)...)
		require.Zero(t, r.code, r.err)
	}
	for part, want := range map[string]int{
		"%": 1, "_": 1, "'": 1, `"`: 1, "ЖУРНАЛ": 1, "ﷺ": 1, `\b`: 1, "*": 0, "%sure%": 0, "gauge-fw-3.%": 0, "' OR 1=1 --": 0,
	} {
		for _, more := range [][]string{{"--noted"}, {}} {
			r := endeixis(t, s, "auditor", append([]string{"reference", "list", "--name", part, "--output", "json"}, more...)...)
			require.Zero(t, r.code, "%s: %s", part, r.err)
			if len(more) > 0 {
				assert.Equal(t, want, strings.Count(r.out, `"digest"`), part)
			}
		}
	}
	for _, more := range [][]string{{"--noted"}, {}} {
		args := append([]string{"reference", "list", "--name", strings.Repeat("x", 10_000)}, more...)
		r := endeixis(t, s, "auditor", args...)
		assert.Equal(t, 1, r.code)
		assert.Contains(t, r.err, "match")
	}

	// It clears nothing, whatever the policy says.
	r = endeixis(
		t, s, "curator", "policy", "set", write(t, "reference_clears: true"), "--publisher", "tidewright", "--reason", "a mirror",
	)
	require.Zero(t, r.code, r.err)
	s.Write(t, "old", map[string][]byte{"gauge-fw-3.0.img": []byte("one")})
	assert.Equal(t, "unproven", *verified(t, s, "quayside:old", "--publisher", "tidewright").Verdict)

	r = endeixis(t, s, "auditor", "record", "list", "--kind", "reference-noted", "--publisher", "tidewright")
	assert.Equal(t, 3, strings.Count(r.out, "gauge-fw-3."), r.out)
	r = endeixis(t, s, "auditor", "record", "show", "75")
	assert.Contains(t, strings.Join(strings.Fields(r.out), " "), "It is noted, and clears nothing.")
	audit := endeixis(t, s, "auditor", "record", "audit")
	assert.Zero(t, audit.code, audit.out+audit.err)
}
