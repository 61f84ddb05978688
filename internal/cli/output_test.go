package cli

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"endeixis/core/plain"

	"endeixis/core/diagnose"
	"endeixis/core/judge"
	"endeixis/internal/wire"
)

func testApp(output string) (*app, *bytes.Buffer) {
	var out bytes.Buffer
	return &app{stdout: &out, stderr: &bytes.Buffer{}, output: output}, &out
}

func TestComparedMarksEveryDifference(t *testing.T) {
	a, out := testApp("table")
	a.compared("", "aaaabbbbccccdddd", "aaaabbxbccccdd")
	lines := strings.Split(strings.TrimRight(out.String(), "\n"), "\n")
	require.Len(t, lines, 3)
	assert.Equal(t, "expected  AAAA BBBB CCCC DDDD", lines[0])
	assert.Equal(t, "computed  AAAA BBXB CCCC DD", lines[1])
	assert.Equal(t, "                 ^         ^^", lines[2])
	out.Reset()
	a.compared("", "aaaa", "AAAA")
	assert.NotContains(t, out.String(), "^", "case makes no difference")
}

// TestMarksStandUnderDifferences holds for any two digests of which most characters are
// the same: a mark stands in a column exactly where the characters above it differ. Of
// others it is said that they are others.
func TestMarksStandUnderDifferences(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		hex := rapid.StringMatching(`[0-9a-f]{8,128}`)
		e := hex.Draw(t, "expected")
		var c string
		if rapid.Bool().Draw(t, "another") {
			c = hex.Draw(t, "computed")
		} else {
			slip := []byte(e)
			for range rapid.IntRange(0, len(e)/2).Draw(t, "slips") {
				slip[rapid.IntRange(0, len(e)-1).Draw(t, "at")] ^= 1
			}
			c = string(slip)
		}
		a, out := testApp("table")
		a.compared("  ", e, c)
		if plain.Unlike(strings.ToUpper(e), strings.ToUpper(c)) {
			if !strings.Contains(out.String(), "another value altogether") || strings.Contains(out.String(), "^") {
				t.Fatalf("they are others:\n%s", out)
			}
			return
		}
		lines := strings.Split(strings.TrimRight(out.String(), "\n"), "\n")
		marks := 0
		for i := 0; i+1 < len(lines); {
			under := ""
			step := 2
			if i+2 < len(lines) && !strings.Contains(lines[i+2], "expected") {
				under, step = lines[i+2], 3
			}
			for column := len("  expected  "); column < max(len(lines[i]), len(lines[i+1])); column++ {
				at := func(s string) byte {
					if column < len(s) {
						return s[column]
					}
					return ' '
				}
				if (at(lines[i]) != at(lines[i+1])) != (at(under) == '^') {
					t.Fatalf("column %d of\n%s", column, out)
				}
				if at(under) == '^' {
					marks++
				}
			}
			i += step
		}
		want := 0
		for i := range max(len(e), len(c)) {
			if i >= len(e) || i >= len(c) || e[i] != c[i] {
				want++
			}
		}
		if marks != want {
			t.Fatalf("%d marks for %d differences:\n%s", marks, want, out)
		}
	})
}

func TestDamageMap(t *testing.T) {
	a, out := testApp("table")
	a.damageMap(
		"", diagnose.Cause{Size: 6400, Damage: []diagnose.Range{{Offset: 0, Length: 1}, {Offset: 3200, Length: 200}}},
	)
	line, _, _ := strings.Cut(out.String(), "\n")
	cells := []rune(strings.Fields(line)[1])
	require.Len(t, cells, 64)
	filled := []int{}
	for i, c := range cells {
		if c == '█' {
			filled = append(filled, i)
		}
	}
	assert.Equal(t, []int{0, 32, 33}, filled, "a single damaged byte shows")
	assert.Contains(t, out.String(), "bytes 3200 to 3399")
	out.Reset()
	a.damageMap("", diagnose.Cause{})
	assert.Empty(t, out.String())
	many := diagnose.Cause{Size: 1000}
	for i := range int64(20) {
		many.Damage = append(many.Damage, diagnose.Range{Offset: i * 50, Length: 1})
	}
	a.damageMap("", many)
	assert.Contains(t, out.String(), "and 12 more")
}

func TestPrintInEveryForm(t *testing.T) {
	value := []map[string]string{{"file": "=cmd|' /C calc'!A0\x1b"}}
	g := &grid{header: []string{"file"}, empty: "nothing"}
	g.add(value[0]["file"])
	a, out := testApp("json")
	require.NoError(t, a.print(value, g, nil))
	var back []map[string]string
	require.NoError(t, json.Unmarshal(out.Bytes(), &back))
	assert.Equal(t, value, back, "JSON keeps everything")

	a, out = testApp("csv")
	require.NoError(t, a.print(value, g, nil))
	assert.Equal(t, "file\n'=cmd|' /C calc'!A0\\x1b\n", out.String())

	a, out = testApp("yaml")
	require.NoError(t, a.print(value, g, nil))
	assert.NotContains(t, out.String(), "\x1b", "a terminal shows the YAML as it is")
	require.NoError(t, yaml.Unmarshal(out.Bytes(), &back))
	assert.Equal(t, value, back, "and YAML keeps everything too")
	for _, tame := range []string{"a line\nand one", "ä – 漢", "=1+1", "\u202e.gpj", "\u0085", "\x7f"} {
		a, out = testApp("yaml")
		require.NoError(t, a.print([]map[string]string{{"file": tame}}, g, nil))
		assert.NotRegexp(t, `[\x00-\x09\x0b-\x1f\x7f-\x{9f}\x{202a}-\x{202e}]`, out.String())
		require.NoError(t, yaml.Unmarshal(out.Bytes(), &back), "%q", out.String())
		assert.Equal(t, tame, back[0]["file"])
	}

	a, out = testApp("table")
	require.NoError(t, a.print(value, g, nil))
	assert.NotContains(t, out.String(), "\x1b")
	a, out = testApp("table")
	require.NoError(t, a.print(nil, &grid{header: []string{"x"}, empty: "nothing"}, nil))
	assert.Equal(t, "nothing\n", out.String())
}

func TestColourOnTerminalsOnly(t *testing.T) {
	t.Setenv("NO_COLOR", "")
	a, _ := testApp("table")
	assert.Equal(t, "✓ cleared", a.paint("cleared"))
	a.terminal = true
	assert.Contains(t, a.paint("cleared"), "\x1b[")
	assert.Contains(t, a.paint("cleared"), "✓ cleared", "colour alone never tells")
	assert.Equal(t, "other", a.paint("other"))
	t.Setenv("NO_COLOR", "1")
	assert.Equal(t, "✗ refused", a.paint("refused"))
}

func TestSize(t *testing.T) {
	for n, want := range map[int64]string{0: "0 B", 1023: "1023 B", 1024: "1.0 KiB", 1536: "1.5 KiB", 1 << 20: "1.0 MiB", 5 << 30: "5.0 GiB", 1 << 62: "4096.0 PiB"} {
		assert.Equal(t, want, size(n))
	}
}

func TestProblems(t *testing.T) {
	assert.Len(t, problems(wire.Item{Grounds: []judge.Ground{
		{
			Code: judge.DigestMatch, Effect: judge.Supports,
		},
		{Code: judge.WeakDigestOnly, Effect: judge.Withholds},
		{Code: judge.DigestMismatch, Effect: judge.Refuses},
	}}), 2)
}

func TestWhereAndCorrections(t *testing.T) {
	depot, path, err := where("quayside:a/b:c")
	require.NoError(t, err)
	assert.Equal(t, []string{"quayside", "a/b:c"}, []string{depot, path})
	_, _, err = where("/tmp")
	assert.ErrorContains(t, err, "does not name a depot")
	set, err := parseCorrections([]string{"a.sig=b=c.img"})
	require.NoError(t, err)
	assert.Equal(t, []wire.Correction{{Signature: "a.sig", File: "b=c.img"}}, set)
	for _, bad := range []string{"a.sig", "=b", "a="} {
		_, err := parseCorrections([]string{bad})
		assert.Error(t, err)
	}
}

func TestProfile(t *testing.T) {
	path := filepath.Join(t.TempDir(), "deep", "profile.yaml")
	t.Setenv("ENDEIXIS_PROFILE", path)
	a, _ := testApp("table")
	require.NoError(t, a.loadProfile(), "no profile is no error")
	require.NoError(t, SaveProfile(path, "http://s", "ines", "operator", "endx_secret", "key"))
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, info.Mode().Perm())
	require.NoError(t, a.loadProfile())
	assert.Equal(
		t, profile{Server: "http://s", User: "ines", Role: "operator", Token: "endx_secret", PublicKey: "key"},
		a.profile,
	)
	require.NoError(t, os.WriteFile(path, []byte("{"), 0o600))
	assert.ErrorContains(t, a.loadProfile(), "sign in again")

	// The token goes to the service it belongs to, and to no other.
	t.Setenv("ENDEIXIS_SERVER", "")
	t.Setenv("ENDEIXIS_TOKEN", "")
	a.server = "http://another.example"
	assert.NotEqual(t, a.profile.Server, a.address())
	neighbour := ProfileBeside("/opt/endeixis")
	assert.Equal(t, "/opt/endeixis/endeixis.profile.yaml", neighbour)
}

// TestHelpFits: no help is wider than its terminal, but for commands, which are copied whole.
func TestHelpFits(t *testing.T) {
	shown := 0
	for _, width := range []int{40, 64, 100} {
		a, _ := testApp("table")
		a.columns = width
		var each func(cmd *cobra.Command)
		each = func(cmd *cobra.Command) {
			var out bytes.Buffer
			cmd.SetOut(&out)
			require.NoError(t, cmd.Help())
			for line := range strings.Lines(out.String()) {
				line = strings.TrimSuffix(line, "\n")
				whole := copied.MatchString(line) || !strings.Contains(strings.TrimSpace(line), " ")
				assert.True(t, whole || text.StringWidth(line) <= width, "%d: %s", width, line)
			}
			shown++
			for _, sub := range cmd.Commands() {
				each(sub)
			}
		}
		each(a.root())
	}
	assert.Greater(t, shown, 200)
}
