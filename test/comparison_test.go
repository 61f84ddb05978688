package test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/demo/scenario"
	"endeixis/internal/testkit"
	"endeixis/internal/wire"
)

// TestWhatChanged: two batches are compared by what was measured of them, in the client and on a page, with the
// packages that lists among them name, and the keys and the policy that they rest on.
func TestWhatChanged(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	one, other := keyAdmitted(t, s, "sextant"), keyAdmitted(t, s, "sextant-b")
	bill := func(list ...string) []byte {
		components := []map[string]string{}
		for _, c := range list {
			name, version, _ := strings.Cut(c, " ")
			components = append(components, map[string]string{"name": name, "version": version})
		}
		text, err := json.Marshal(map[string]any{"bomFormat": "CycloneDX", "components": components})
		require.NoError(t, err)
		return text
	}
	run := func(folder string, files map[string][]byte) fullJSON {
		s.Write(t, folder, files)
		return verified(t, s, "quayside:"+folder)
	}
	before := run("one", signed(one, 1, map[string][]byte{
		"sextant-1.0.img": []byte("one"), "tables.bin": []byte("tables"), "gone.bin": []byte("gone"),
		"old-name.bin": []byte("the same"), "readme.bin": []byte("read"), "sextant-1.0.bom.json": bill("zlib 1.2", "left 1"),
	}))
	r := endeixis(
		t, s, "curator", "policy", "set", write(t, "skew_seconds: 200"), "--publisher", "corran", "--reason", "clocks are good",
	)
	require.Zero(t, r.code, r.err)
	after := run("two", signed(other, 2, map[string][]byte{
		"sextant-1.1.img": []byte("two"), "tables.bin": []byte("tables, new"), "new.bin": []byte("new"),
		"new-name.bin": []byte("the same"), "readme.bin": []byte("read"), "sextant-1.1.bom.json": bill("zlib 1.3", "right 1"),
	}))
	require.Equal(t, "cleared", *before.Verdict)
	require.Equal(t, "cleared", *after.Verdict)

	r = endeixis(t, s, "auditor", "batch", "compare", fmt.Sprint(before.ID), "quayside:two")
	require.Zero(t, r.code, r.err)
	said := strings.Join(strings.Fields(r.out), " ")
	for _, says := range []string{
		"1 added, 1 removed, 3 changed, 1 renamed, 2 replaced, 1 unchanged",
		"replaced sextant-1.1.img was sextant-1.0.img", "renamed new-name.bin was old-name.bin",
		"changed tables.bin was 6 B, is 11 B cleared", "removed gone.bin", "added new.bin",
		"Packages of sextant-1.1.bom.json removed left 1 added right 1 changed zlib 1.2 → 1.3",
		"judged by version", "Nothing rests any more on the key", "Something rests on the key",
	} {
		assert.Contains(t, said, says)
	}
	assert.NotContains(t, said, "readme.bin", "it is as it was")
	r = endeixis(t, s, "auditor", "batch", "compare", fmt.Sprint(after.ID), fmt.Sprint(after.ID))
	assert.Contains(t, r.out, "unchanged")

	// A list that is not any more what was verified is compared with nothing.
	list := filepath.Join(s.Config.Depots[scenario.Depot], "two", "sextant-1.1.bom.json")
	require.NoError(t, os.WriteFile(list, bill("zlib 9.9"), 0o600))
	r = endeixis(t, s, "auditor", "batch", "compare", fmt.Sprint(before.ID), fmt.Sprint(after.ID), "--output", "json")
	require.Zero(t, r.code, r.err)
	var found wire.Comparison
	require.NoError(t, json.Unmarshal([]byte(r.out), &found))
	require.Len(t, found.Packages, 1)
	assert.NotEmpty(t, found.Packages[0].Trouble)
	assert.Empty(t, found.Packages[0].Changes)
	assert.Len(t, found.Files, 8)

	// A part at a time, each file stands on one page, and the counts are of all.
	c := s.Client(t, "auditor")
	paged, err := c.Compare(t.Context(), before.ID, after.ID)
	require.NoError(t, err)
	assert.Equal(t, found.Files, paged.Files)
	var names []string
	for cursor := ""; ; {
		status, text := call(
			t, s, s.Token(t, "auditor"), "GET",
			fmt.Sprintf("/batches/%d/comparison/%d?limit=3&cursor=%s", before.ID, after.ID, cursor), nil,
		)
		require.Equal(t, 200, status, string(text))
		var part wire.Comparison
		require.NoError(t, json.Unmarshal(text, &part))
		assert.Equal(t, found.Counts, part.Counts)
		for _, f := range part.Files {
			names = append(names, fmt.Sprint(f.Kind, f.Before, f.After))
		}
		if cursor = part.Next; cursor == "" {
			break
		}
	}
	assert.Len(t, names, len(found.Files))
	for says, args := range map[string][]string{
		"There is no batch 999": {"999", fmt.Sprint(after.ID)}, "was not verified yet": {"quayside:nowhere", fmt.Sprint(after.ID)},
	} {
		r := endeixis(t, s, "auditor", append([]string{"batch", "compare"}, args...)...)
		assert.NotZero(t, r.code)
		assert.Contains(t, r.err, says)
	}

	b := open(t, s)
	b.visit("/", "Sign in")
	b.signIn("auditor")
	b.visit(fmt.Sprintf("/batches/%d", after.ID), "What changed since batch")
	b.fill("What changed since batch", fmt.Sprint(before.ID))
	b.press("Compare")
	b.sees("other release")
	b.sees("sextant-1.0.img")
	b.sees("Nothing rests any more on the key")
	b.accessible("comparison")
}
