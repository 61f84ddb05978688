package judge_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	. "endeixis/core/judge"
)

// TestCompanions: what a person has named comes along, and nothing else; what is refused stays
// refused, and what is cleared stays cleared.
func TestCompanions(t *testing.T) {
	list := sums(line("image", "gauge-main.img"))
	release := func(more map[string]string) map[string]string {
		out := map[string]string{"gauge-main.img": "image", "SHA256SUMS": list, "SHA256SUMS.sig": sign(tidewright, list)}
		for name, content := range more {
			out[name] = content
		}
		return out
	}
	both := sums(line("image", "gauge-main.img"), line("notes", "notes.txt"))
	given := func(patterns ...string) func(*Basis) { return func(b *Basis) { b.Companions = patterns } }
	own := func(slug string, patterns ...string) func(*Basis) {
		return func(b *Basis) {
			p := b.Policy
			p.Companions = patterns
			b.Own = map[string]Policy{slug: p}
		}
	}
	for name, c := range map[string]struct {
		files   map[string]string
		adjust  func(*Basis)
		of      string
		verdict Verdict
	}{
		"named for the batch":                {release(map[string]string{"notes.txt": "n"}), given("*.txt"), "notes.txt", Companion},
		"named by its publisher's policy":    {release(map[string]string{"notes.txt": "n"}), own("tidewright", "*.txt"), "notes.txt", Companion},
		"named by another publisher's":       {release(map[string]string{"notes.txt": "n"}), own("brackwater", "*.txt"), "notes.txt", Unproven},
		"named by nobody":                    {release(map[string]string{"notes.txt": "n"}), nil, "notes.txt", Unproven},
		"of another name":                    {release(map[string]string{"notes.pdf": "n"}), given("*.txt"), "notes.pdf", Unproven},
		"in a folder below":                  {release(map[string]string{"doc/notes.txt": "n"}), given("*.txt"), "doc/notes.txt", Companion},
		"a folder is named":                  {release(map[string]string{"doc/notes.pdf": "n"}), given("doc/*"), "doc/notes.pdf", Companion},
		"and another has it":                 {release(map[string]string{"tools/notes.pdf": "n"}), given("doc/*"), "tools/notes.pdf", Unproven},
		"letters are told apart":             {release(map[string]string{"NOTES.TXT": "n"}), given("*.txt"), "NOTES.TXT", Unproven},
		"what is cleared stays cleared":      {release(nil), given("gauge-*"), "gauge-main.img", Cleared},
		"a list refuses it":                  {map[string]string{"notes.txt": "other", "SHA256SUMS": both}, given("*.txt"), "notes.txt", Refused},
		"a signature does not hold":          {map[string]string{"notes.txt": "n", "notes.txt.sig": sign(tidewright, "m")}, given("*.txt"), "notes.txt", Refused},
		"a revoked key signed it":            {map[string]string{"notes.txt": "n", "notes.txt.sig": sign(revoked, "n")}, given("*.txt"), "notes.txt", Refused},
		"an unsigned list names it":          {map[string]string{"notes.txt": "notes", "SHA256SUMS": both}, given("*.txt"), "notes.txt", Companion},
		"a list that is tampered refuses it": {map[string]string{"notes.txt": "notes", "SHA256SUMS": both, "SHA256SUMS.sig": sign(tidewright, list)}, given("*.txt"), "notes.txt", Refused},
		"the publisher's own is none": {release(map[string]string{"notes.txt": "n"}), func(b *Basis) {
			own("tidewright")(b)
			b.Policy.Companions = []string{"*.txt"}
		}, "notes.txt", Unproven},
	} {
		t.Run(name, func(t *testing.T) {
			out := judgeFolder(t, c.files, "", c.adjust).artifacts[c.of]
			assert.Equal(t, c.verdict, out.Verdict, "%+v", out.Grounds)
			if c.verdict == Companion {
				assert.Equal(t, ComesAlong, out.Grounds[0].Code)
				assert.NotContains(t, codes(out), NotListed)
				assert.Equal(t, out.Grounds[0].Sentence, Deciding(Companion, out.Grounds))
			} else {
				assert.NotContains(t, codes(out), ComesAlong)
			}
		})
	}
	assert.Equal(t, Unproven, Batch(0, 0, 0, 0, false), "companions alone clear no batch")
}

func TestCheckCompanions(t *testing.T) {
	require.NoError(t, CheckCompanions([]string{"*.txt", "RELEASE-NOTES-[0-9]*", "doc/*", "écran?.png"}))
	for _, pattern := range []string{"", "*", "*.*", "?*", "[a-z]*", "*/*", "[", `a\`, strings.Repeat("a", 201), "a\xff"} {
		require.Error(t, CheckCompanions([]string{pattern}), "%q", pattern)
	}
	require.Error(t, CheckCompanions(make([]string, 101)))
}
