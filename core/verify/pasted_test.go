package verify_test

import (
	"context"
	"encoding/base64"
	"fmt"
	"os"
	"regexp"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/digest"
	"endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/core/measure"
	"endeixis/core/survey"
	"endeixis/core/verify"
)

// pastedFile is the file that the texts of testdata/pasted.txt are about.
const pastedName = "gauge-fw-4.2.1.bin"

var (
	pastedRight   = []byte(strings.Repeat("the gauge of the north mole\n", 100))
	pastedAltered = append([]byte("T"), pastedRight[1:]...)
)

// placeholder is “{ALGORITHM FORM:of}” in a text.
var placeholder = regexp.MustCompile(`\{([a-z0-9-]+)(?: ([a-z0-9]+))?(:other)?\}`)

// written writes a digest in the form of a placeholder.
func written(t testing.TB, m []string) string {
	switch m[1] {
	case "name":
		return pastedName
	case "size":
		return fmt.Sprint(len(pastedRight))
	}
	a, err := digest.Parse(m[1])
	require.NoError(t, err, m[0])
	h := a.New()
	h.Write(pastedRight)
	if m[3] != "" {
		h.Write([]byte("another"))
	}
	v := digest.Value(h.Sum(nil))
	out := v.String()
	every := func(n int, sign string) string {
		var parts []string
		for i := 0; i < len(out); i += n {
			parts = append(parts, out[i:min(i+n, len(out))])
		}
		return strings.Join(parts, sign)
	}
	switch m[2] {
	case "":
	case "upper":
		out = strings.ToUpper(out)
	case "pairs":
		out = every(2, " ")
	case "colons":
		out = every(2, ":")
	case "fours":
		out = every(4, " ")
	case "eights":
		out = every(8, " ")
	case "halves":
		fours := every(4, " ")
		out = fours[:len(fours)/2] + "\n" + strings.TrimSpace(fours[len(fours)/2:])
	case "bytes":
		out = "0x" + every(2, ", 0x")
	case "b64":
		out = base64.StdEncoding.EncodeToString(v)
	case "b64url":
		out = base64.RawURLEncoding.EncodeToString(v)
	case "cut31":
		out = out[:31]
	default:
		t.Fatalf("no form is called %s", m[2])
	}
	return out
}

// A pastedCase is one text that was handed over.
type pastedCase struct {
	title, text string
	// doubt is set where it leaves open which value is meant.
	doubt bool
}

func pastedCases(t testing.TB) []pastedCase {
	raw, err := os.ReadFile("testdata/pasted.txt")
	require.NoError(t, err)
	var out []pastedCase
	for part := range strings.SplitSeq(string(raw), "=== ") {
		title, text, ok := strings.Cut(part, "\n")
		if !ok {
			continue
		}
		c := pastedCase{title: title}
		text, c.doubt = strings.CutSuffix(text, "(doubt)\n")
		c.text = placeholder.ReplaceAllStringFunc(text, func(s string) string { return written(t, placeholder.FindStringSubmatch(s)) })
		out = append(out, c)
	}
	return out
}

// heldAgainst judges a file against a text that was handed over for it.
func heldAgainst(t testing.TB, content []byte, text string) (judge.Outcome, *survey.Survey) {
	folder := fstest.MapFS{pastedName: &fstest.MapFile{Data: content}, "pasted text": &fstest.MapFile{Data: []byte(text)}}
	found, err := survey.Gather(context.Background(), folder, survey.Limits{})
	require.NoError(t, err)
	found.Give("pasted text", []byte(text), survey.Given{For: []string{pastedName}})
	plan, err := survey.Plan(found, survey.Options{})
	require.NoError(t, err)
	measured, err := verify.Measure(context.Background(), folder, plan, measure.Witness{Maker: measure.Client, Where: "here"}, digest.Gain{})
	require.NoError(t, err)
	session := verify.New(judge.Basis{Keyring: keyring.New(nil, nil), Policy: judge.DefaultPolicy(), Now: time.Now()})
	var out judge.Outcome
	for i := range plan.Items {
		if item := &plan.Items[i]; item.Role == survey.Manifest {
			m := measured[item.Path]
			session.Manifest(item, &m)
		}
	}
	for i := range plan.Items {
		if item := &plan.Items[i]; item.Path == pastedName {
			m := measured[item.Path]
			out = session.Judge(item, &m)
		}
	}
	return out, plan
}

// TestPasted: a value that was handed over is compared, whatever text it stands in, and
// that text is never an artifact.
func TestPasted(t *testing.T) {
	t.Parallel()
	cases := pastedCases(t)
	require.Greater(t, len(cases), 60)
	for _, c := range cases {
		t.Run(c.title, func(t *testing.T) {
			t.Parallel()
			right, plan := heldAgainst(t, pastedRight, c.text)
			if c.title != "a digest line of another name" {
				assert.Equal(t, judge.Matches, judge.Compared(right.Grounds), "the right file: %+v\n%s", right.Grounds, c.text)
			}
			assert.Equal(t, judge.Unproven, right.Verdict, "the right file: %+v", right.Grounds)
			for i := range plan.Items {
				if plan.Items[i].Path == "pasted text" {
					assert.Equal(t, survey.Manifest, plan.Items[i].Role)
				}
			}
			altered, _ := heldAgainst(t, pastedAltered, c.text)
			if c.doubt {
				assert.NotEqual(t, judge.Cleared, altered.Verdict)
				return
			}
			assert.Equal(t, judge.Refused, altered.Verdict, "the altered file: %+v\n%s", altered.Grounds, c.text)
		})
	}
}
