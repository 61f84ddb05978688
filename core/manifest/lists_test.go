package manifest

import (
	"encoding/base32"
	"encoding/base64"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"endeixis/core/digest"
)

// A listCase is one list of testdata/lists, whose README tells the form.
type listCase struct {
	title, file, text string
	beside            []string
	entries           []string
	problems          []int
	asides            []string
	// maybe are values that may be left aside or be entries without a name.
	quiet bool
}

// placeholder stands for a digest in a case: “{sha256:boot}” for that of the word.
var placeholder = regexp.MustCompile(`\{([a-z0-9-]+):([^}|]*)(?:\|([a-z0-9,]+))?\}`)

// valueOf returns the digest of a word.
func valueOf(t testing.TB, algorithm, word string) digest.Value {
	t.Helper()
	a, err := digest.Parse(algorithm)
	require.NoError(t, err)
	h := a.New()
	h.Write([]byte(word))
	return h.Sum(nil)
}

// fillIn puts digests in the place of placeholders.
func fillIn(t testing.TB, text string) string {
	t.Helper()
	return placeholder.ReplaceAllStringFunc(text, func(s string) string {
		m := placeholder.FindStringSubmatch(s)
		v := valueOf(t, m[1], m[2])
		out := v.String()
		for form := range strings.SplitSeq(m[3], ",") {
			switch {
			case form == "upper":
				out = strings.ToUpper(out)
			case form == "b32":
				out = base32.StdEncoding.EncodeToString(v)
			case form == "b64":
				out = base64.StdEncoding.EncodeToString(v)
			case form == "b64url":
				out = base64.RawURLEncoding.EncodeToString(v)
			case form == "pairs", form == "colons", form == "fours", form == "eights":
				n, gap := map[string]int{"pairs": 2, "colons": 2, "fours": 4, "eights": 8}[form], " "
				if form == "colons" {
					gap = ":"
				}
				var groups []string
				for chunk := range slices.Chunk([]byte(out), n) {
					groups = append(groups, string(chunk))
				}
				out = strings.Join(groups, gap)
			case strings.HasPrefix(form, "cut") && len(form) > 3:
				n, err := strconv.Atoi(form[3:])
				require.NoError(t, err)
				out = out[:n]
			case strings.HasPrefix(form, "from"):
				n, err := strconv.Atoi(form[4:])
				require.NoError(t, err)
				out = out[n:]
			}
		}
		return out
	})
}

// readCases reads a file of testdata/lists.
func readCases(t testing.TB, file string) []listCase {
	t.Helper()
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	var cases []listCase
	for part := range strings.SplitSeq("\n"+string(raw), "\n=== ") {
		title, rest, _ := strings.Cut(part, "\n")
		if strings.TrimSpace(title) == "" {
			continue
		}
		head, rest, ok := strings.Cut(rest, "---\n")
		require.True(t, ok, "%s: %s has no text", file, title)
		text, expected, ok := strings.Cut(rest, "+++")
		require.True(t, ok, "%s: %s has nothing expected", file, title)
		c := listCase{title: title, text: fillIn(t, text)}
		c.text = strings.NewReplacer("\\r\\n\n", "\r\n", "<NBSP>", "\u00a0", "<TAB>", "\t", "<CR>\n", "\r").
			Replace(c.text)
		for line := range strings.Lines(head) {
			key, value, _ := strings.Cut(strings.TrimSpace(line), ": ")
			switch key {
			case "file":
				c.file = value
			case "beside":
				c.beside = append(c.beside, value)
			case "quiet":
				c.quiet = true
			}
		}
		for line := range strings.Lines(expected) {
			line = strings.TrimSpace(line)
			kind, value, _ := strings.Cut(line, " ")
			switch kind {
			case "":
			case "problem":
				n, err := strconv.Atoi(value)
				require.NoError(t, err)
				c.problems = append(c.problems, n)
			case "aside":
				algorithm, word, _ := strings.Cut(value, ":")
				c.asides = append(c.asides, clip([]byte(valueOf(t, algorithm, word).String())))
			default:
				c.entries = append(c.entries, expectedEntry(t, line))
			}
		}
		slices.Sort(c.entries)
		cases = append(cases, c)
	}
	return cases
}

// expectedEntry reads “sha256:boot NAME” or “?sha256:boot NAME”, perhaps with a size
// before the name: “sha256:boot 1234| NAME”.
func expectedEntry(t testing.TB, line string) string {
	t.Helper()
	what, name, _ := strings.Cut(line, " ")
	size := "-"
	if before, after, ok := strings.Cut(name, "| "); ok {
		size, name = before, after
	}
	label := what
	what = strings.TrimPrefix(what, "?")
	algorithm, word, _ := strings.Cut(what, ":")
	a, err := digest.Parse(algorithm)
	require.NoError(t, err, line)
	known := a.String()
	if label != what {
		known = "?"
	}
	if name == "-" {
		name = ""
	}
	return fmt.Sprintf("%s %s %s %q", known, short(valueOf(t, algorithm, word)), size, name)
}

func short(v digest.Value) string { return v.String()[:min(12, 2*len(v))] }

func shownEntry(e Entry) string {
	known, size := "?", "-"
	if e.Algorithm != digest.Unknown {
		known = e.Algorithm.String()
	} else if len(e.Digest) == 16 {
		known = "MD5"
	}
	if e.Size != nil {
		size = fmt.Sprint(*e.Size)
	}
	return fmt.Sprintf("%s %s %s %q", known, short(e.Digest), size, e.Name)
}

// without returns what is in the first list and not in the second.
func without(a, b []string) []string {
	return slices.DeleteFunc(slices.Clone(a), func(s string) bool { return slices.Contains(b, s) })
}

// TestLists reads every list of testdata/lists: nothing may be invented, and nothing
// lost.
func TestLists(t *testing.T) {
	files, err := filepath.Glob("testdata/lists/*.txt")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	count := 0
	for _, file := range files {
		for _, c := range readCases(t, file) {
			count++
			t.Run(strings.TrimSuffix(filepath.Base(file), ".txt")+"/"+c.title, func(t *testing.T) {
				m, err := Read(strings.NewReader(c.text), Options{FileName: c.file, Beside: NewNames(c.beside)})
				require.NoError(t, err)
				var entries []string
				for _, e := range m.Entries.All() {
					entries = append(entries, shownEntry(e))
				}
				slices.Sort(entries)
				entries = slices.Compact(entries)
				missing, extra := without(c.entries, entries), without(entries, c.entries)
				assert.Empty(t, missing, "lost")
				assert.Empty(t, extra, "invented")
				var problems []int
				for _, p := range m.Problems {
					if !slices.Contains(problems, p.Line) {
						problems = append(problems, p.Line)
					}
				}
				if !c.quiet {
					assert.Equal(t, c.problems, problems, "%v", m.Problems)
				}
				var asides []string
				for _, a := range m.LeftAside {
					asides = append(asides, strings.ToLower(a.Text))
					assert.NotEmpty(t, a.Why)
				}
				for _, want := range c.asides {
					assert.Contains(t, asides, want)
				}
				accountedFor(t, c.text, m)
			})
		}
	}
	assert.GreaterOrEqual(t, count, 150)
}

var wholeValue = regexp.MustCompile(`[0-9a-fA-F]+`)

// accountedFor holds the second law: each run of digits of a digest's length is in an
// entry, in a line with a problem, or left aside.
func accountedFor(t rapid.TB, text string, m *Manifest) {
	t.Helper()
	known := map[string]bool{}
	var all strings.Builder
	for _, e := range m.Entries.All() {
		known[e.Digest.String()] = true
		all.WriteString(e.Digest.String() + " ")
		if e.Pieces != nil {
			for _, v := range e.Pieces.Digests {
				known[v.String()] = true
			}
		}
	}
	lines := map[int]bool{}
	for _, p := range m.Problems {
		lines[p.Line] = true
	}
	for _, a := range m.LeftAside {
		known[strings.ToLower(strings.TrimSuffix(a.Text, "…"))] = true
	}
	no := 0
	for line := range strings.SplitSeq(strings.NewReplacer("\r\n", "\n", "\r", "\n").Replace(text), "\n") {
		no++
		if lines[no] || m.MoreProblems > 0 || m.MoreLeftAside > 0 {
			continue
		}
		for _, value := range wholeValue.FindAllString(line, -1) {
			value = strings.ToLower(value)
			if len(value) < 32 || digest.OfSize(len(value)/2) == nil || len(value)%2 != 0 {
				continue
			}
			if !known[value] && !known[value[:min(40, len(value))]] && !strings.Contains(all.String(), value) {
				t.Errorf("line %d: %s is lost in %q", no, value, text)
			}
		}
	}
}

// TestRecordsAcrossWindows: a text of many records is read in windows, and none of them
// is cut.
func TestRecordsAcrossWindows(t *testing.T) {
	for _, extra := range []int{0, 1, 2, 3} {
		var text strings.Builder
		const n = 3 * window / 7
		text.WriteString(strings.Repeat("Remark: none\n\n", extra))
		for i := range n {
			fmt.Fprintf(
				&text,
				"Package: lamp\nVersion: %d\nFilename: pool/lamp-%d.deb\nSize: %d\nSection: utils\nSHA256: %s\n\n", i,
				i, i+1, valueOf(t, "sha256", fmt.Sprint(i)),
			)
		}
		m, err := Parse(text.String(), Options{FileName: "Packages"})
		require.NoError(t, err)
		require.Equal(t, n, m.Entries.Len())
		for i, e := range m.Entries.All() {
			require.Equal(t, fmt.Sprintf("pool/lamp-%d.deb", i), e.Name)
			require.EqualValues(t, i+1, *e.Size)
		}
	}
}
