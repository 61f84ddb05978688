package test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/judge"
	"endeixis/core/verify/pastetest"
	"endeixis/internal/browser"
	"endeixis/internal/testkit"
)

// pastedFiles writes the right file and an altered one, each in a folder of its own.
func pastedFiles(t *testing.T) (right, altered string) {
	t.Helper()
	write := func(content []byte) string {
		file := filepath.Join(t.TempDir(), pastetest.FileName)
		require.NoError(t, os.WriteFile(file, content, 0o600))
		return file
	}
	return write(pastetest.Right()), write(pastetest.Altered())
}

// TestPastedTexts hands texts over as people copy them, each for the right file and for an
// altered one, through the client: pasted, and as a file for --manifest.
func TestPastedTexts(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	right, altered := pastedFiles(t)
	cases, err := pastetest.Cases()
	require.NoError(t, err)
	env := []string{"ENDEIXIS_SERVER=" + s.URL, "ENDEIXIS_TOKEN=" + s.Token(t, "operator")}
	spot := func(t *testing.T, file, stdin string, args ...string) (ran, batchJSON) {
		r := endeixisWith(t, env, stdin, append([]string{"spot", file, "--output", "json"}, args...)...)
		var b batchJSON
		r.decode(t, &b)
		return r, b
	}
	for i, c := range cases {
		t.Run(c.Title, func(t *testing.T) {
			t.Parallel()
			given := []string{"--paste"}
			if i%4 == 0 {
				list := filepath.Join(t.TempDir(), "from a page")
				require.NoError(t, os.WriteFile(list, []byte(c.Text), 0o600))
				given = []string{"--manifest", list}
			}
			r, b := spot(t, right, c.Text, given...)
			assert.Equal(t, 11, r.code, r.err)
			want := judge.Matches
			if c.Other {
				want = judge.NothingCompared
			}
			for _, item := range b.Items {
				if item.Path == pastetest.FileName {
					assert.Equal(t, want, item.Compared, "%s\n%v", c.Text, item.Grounds)
				} else {
					assert.Equal(t, "manifest", item.Role, "what was handed over is no artifact")
				}
			}
			r, _ = spot(t, altered, c.Text, given...)
			if c.Doubt {
				assert.Equal(t, 11, r.code, r.err)
			} else {
				assert.Equal(t, 10, r.code, r.err)
			}
		})
	}
}

// TestExpectMatch: the exit code says whether all that was given is the file's, whoever
// vouches for it.
func TestExpectMatch(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	right, altered := pastedFiles(t)
	cases, err := pastetest.Cases()
	require.NoError(t, err)
	value := cases[1].Text
	env := []string{"ENDEIXIS_SERVER=" + s.URL, "ENDEIXIS_TOKEN=" + s.Token(t, "operator")}
	for name, c := range map[string]struct {
		file, stdin string
		args        []string
		code        int
	}{
		"the value":                  {right, "", []string{"--digest", value}, 0},
		"another file":               {altered, "", []string{"--digest", value}, 10},
		"pasted":                     {right, value, []string{"--paste"}, 0},
		"one of two":                 {right, value + cutOff(value), []string{"--paste"}, 11},
		"a value and a commit":       {right, "SHA-256: " + value + "commit " + "3b18e512dba79e4c8300dd08aeb37f8e728b8dad\n", []string{"--paste"}, 11},
		"nothing to compare it with": {right, "", nil, 11},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			r := endeixisWith(t, env, c.stdin, append([]string{"spot", c.file, "--expect-match"}, c.args...)...)
			assert.Equal(t, c.code, r.code, r.out+r.err)
		})
	}
}

// cutOff returns a value of the same kind that is not the file's.
func cutOff(value string) string {
	b := []byte(value)
	for i := range b[:64] {
		b[i] = "0123456789abcdef"[(i*7+int(b[i]))%16]
	}
	return string(b)
}

// becomes waits until an expression is true on the page.
func (b *tab) becomes(expression string) {
	b.t.Helper()
	b.do(browser.Until(expression))
}

// TestPastedInTheBrowser hands some of the texts over on the page.
func TestPastedInTheBrowser(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	right, altered := pastedFiles(t)
	cases, err := pastetest.Cases()
	require.NoError(t, err)
	b := open(t, s)
	b.signIn("operator")
	for i, c := range cases {
		if i%6 != 0 || c.Doubt {
			continue
		}
		for _, file := range []string{right, altered} {
			b.visit("/spot", "Spot check")
			b.becomes(`document.querySelector("textarea") !== null`)
			b.paste(c.Text)
			b.becomes(`document.querySelector("[data-recognised]") !== null`)
			b.give(file)
			b.answered()
			verdict := "unproven"
			if file == altered {
				verdict = "refused"
			}
			b.becomes(
				`document.querySelectorAll('[data-answers] article').length === 1 && document.querySelector('[data-answers] article').dataset.verdict === "` + verdict + `"`,
			)
		}
	}
	b.visit("/spot", "Spot check")
	b.becomes(`document.querySelector("textarea") !== null`)
	b.paste("Dear Ines, all is well.")
	b.sees("There is nothing in this text")
	b.give(right)
	b.sees("nothing is on record")
}
