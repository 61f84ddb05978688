package test

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/internal/testkit"
)

// TestCompanionsComeAlong: named for a batch, or by a policy afterwards and no longer, files come
// along without a verdict, are counted apart, and are handed on when that is asked for.
func TestCompanionsComeAlong(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	publishes(t, s, "sextant-3", map[string][]byte{"sextant-3.img": []byte("sextant, release 3")})
	s.Write(t, "sextant-3", map[string][]byte{"notes.txt": []byte("what is new"), "chart.png": []byte("a picture")})

	left := endeixis(t, s, "operator", "batch", "run", "quayside:sextant-3", "--wait")
	assert.Equal(t, 11, left.code, "nobody has said that they need no clearing: %s", left.out)
	asked := endeixis(
		t, s, "operator", "batch", "run", "quayside:sextant-3", "--wait", "--companion", "*.txt", "--companion", "*.png",
	)
	assert.Zero(t, asked.code, asked.out+asked.err)
	assert.Contains(t, asked.out, "1 cleared, 0 unproven, 0 refused, 0 absent, and 2 companions")
	assert.Contains(t, asked.out, "+ companion  notes.txt")
	named := verified(t, s, "quayside:sextant-3", "--companion", "*.txt")
	assert.Equal(t, "unproven", *named.Verdict, "the picture")
	assert.Equal(t, 1, named.Counts.Companions)
	wrong := endeixis(t, s, "operator", "batch", "run", "quayside:sextant-3", "--companion", "*")
	assert.Equal(t, 1, wrong.code)
	assert.Contains(t, wrong.err, "it could be any file")

	// The curator names the rest; what was verified is judged again by that, and back.
	own := filepath.Join(t.TempDir(), "own.yaml")
	set := func(text string) {
		require.NoError(t, os.WriteFile(own, []byte(text), 0o644))
		r := endeixis(
			t, s, "curator", "policy", "set", own, "--publisher", "corran", "--reason", "they send pictures along",
		)
		require.Zero(t, r.code, r.out+r.err)
	}
	given := verified(t, s, "quayside:sextant-3", "--publisher", "corran")
	assert.Equal(t, "unproven", *given.Verdict)
	show := func() ran { return endeixis(t, s, "operator", "batch", "follow", fmt.Sprint(given.ID)) }
	set(`companions: ["*.png", "*.txt"]`)
	became := show()
	assert.Zero(t, became.code, became.out+became.err)
	assert.Contains(t, became.out, "It ended unproven, with 1 cleared, 2 unproven and 0 refused.")
	assert.Contains(t, became.out, "1 cleared, 0 unproven, 0 refused, 0 absent, and 2 companions")
	set(`{}`)
	back := show()
	assert.Equal(t, 11, back.code, back.out+back.err)
	assert.Contains(t, back.out, "1 cleared, 2 unproven, 0 refused, 0 absent")

	stick := t.TempDir()
	full := fmt.Sprint(named.ID - 1)
	only := endeixis(t, s, "operator", "batch", "hand-on", full, "--to", stick)
	assert.Zero(t, only.code, only.out+only.err)
	assert.Contains(t, only.out, "it is a companion, which is copied with --companions")
	assert.NoFileExists(t, filepath.Join(stick, "notes.txt"))
	along := endeixis(t, s, "operator", "batch", "hand-on", full, "--to", stick, "--companions")
	assert.Zero(t, along.code, along.out+along.err)
	assert.FileExists(t, filepath.Join(stick, "notes.txt"))
	assert.FileExists(t, filepath.Join(stick, "chart.png"))
	lists, err := filepath.Glob(filepath.Join(stick, "endeixis-proofs", "*.digests.txt"))
	require.NoError(t, err)
	require.NotEmpty(t, lists)
	for _, list := range lists {
		text, err := os.ReadFile(list)
		require.NoError(t, err)
		assert.NotContains(t, string(text), "notes.txt", "nothing vouches for a companion")
	}

	audit := endeixis(t, s, "auditor", "record", "audit")
	assert.Zero(t, audit.code, audit.out+audit.err)
}
