package verify_test

import (
	"bytes"
	"context"
	"fmt"
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
	"endeixis/core/verify/pastetest"
)

const pastedText = "pasted text"

// heldAgainst judges a file against a text that was handed over for it.
func heldAgainst(t testing.TB, content []byte, text string) (judge.Outcome, *survey.Survey) {
	folder := fstest.MapFS{
		pastetest.FileName: &fstest.MapFile{Data: content}, pastedText: &fstest.MapFile{Data: []byte(text)},
	}
	found, err := survey.Gather(context.Background(), folder, survey.Limits{})
	require.NoError(t, err)
	found.Give(pastedText, []byte(text), survey.Given{For: []string{pastetest.FileName}})
	plan, err := survey.Plan(found, survey.Options{})
	require.NoError(t, err)
	measured, err := verify.Measure(
		context.Background(), folder, plan, measure.Attribution{Maker: measure.Client, Where: "client here"}, digest.Gain{},
	)
	require.NoError(t, err)
	session := verify.New(judge.Basis{Keyring: keyring.New(nil, nil), Policy: judge.DefaultPolicy(), Now: time.Now()})
	byPath := map[string]*survey.Item{}
	for i := range plan.Items {
		item := &plan.Items[i]
		byPath[item.Path] = item
		if item.Role == survey.Manifest {
			m := measured[item.Path]
			session.Manifest(item, &m)
		}
	}
	m := measured[pastetest.FileName]
	return session.Judge(byPath[pastetest.FileName], &m), plan
}

// roleOf returns the role of a file in a plan.
func roleOf(plan *survey.Survey, path string) survey.Role {
	for i := range plan.Items {
		if plan.Items[i].Path == path {
			return plan.Items[i].Role
		}
	}
	return ""
}

// TestPasted: a value that was handed over is compared, whatever text it stands in, and
// that text is never an artifact.
func TestPasted(t *testing.T) {
	t.Parallel()
	cases, err := pastetest.Cases()
	require.NoError(t, err)
	require.Greater(t, len(cases), 60)
	for _, c := range cases {
		t.Run(c.Title, func(t *testing.T) {
			t.Parallel()
			right, plan := heldAgainst(t, pastetest.Right(), c.Text)
			want := judge.Matches
			if c.Other {
				want = judge.NothingCompared // it speaks of another file
				assert.Contains(t, right.Grounds[0].Sentence, "What was handed over for this file speaks of")
			}
			assert.Equal(t, want, judge.Compared(right.Grounds), "the right file: %+v\n%s", right.Grounds, c.Text)
			assert.Equal(t, judge.Unproven, right.Verdict, "the right file: %+v", right.Grounds)
			assert.Equal(t, survey.Manifest, roleOf(plan, pastedText))
			altered, _ := heldAgainst(t, pastetest.Altered(), c.Text)
			if c.Doubt {
				assert.Equal(t, judge.Unproven, altered.Verdict)
				assert.NotEqual(t, judge.Matches, judge.Compared(altered.Grounds))
				return
			}
			assert.Equal(t, judge.Refused, altered.Verdict, "the altered file: %+v\n%s", altered.Grounds, c.Text)
		})
	}
}

// TestPastedBeside: other texts that lie in the same folder change nothing, however many
// they are.
func TestPastedBeside(t *testing.T) {
	t.Parallel()
	cases, err := pastetest.Cases()
	require.NoError(t, err)
	for _, most := range []int{1, 500, 50_000} {
		folder := fstest.MapFS{pastetest.FileName: &fstest.MapFile{Data: pastetest.Altered()}}
		for i := range most {
			folder[fmt.Sprintf("note-%d.txt", i)] = &fstest.MapFile{Data: []byte("a note\n")}
		}
		found, err := survey.Gather(context.Background(), folder, survey.Limits{})
		require.NoError(t, err)
		found.Give(pastedText, []byte(cases[0].Text), survey.Given{For: []string{pastetest.FileName}})
		plan, err := survey.Plan(found, survey.Options{})
		require.NoError(t, err)
		for i := range plan.Items {
			if item := &plan.Items[i]; item.Path == pastetest.FileName {
				require.Len(t, item.Listed, 1)
				assert.False(t, item.Listed[0].Doubtful)
			} else {
				assert.Empty(t, item.Listed, item.Path)
			}
		}
	}
}

// TestPastedOdd: what was pasted may be long, nothing at all or an image's bytes.
func TestPastedOdd(t *testing.T) {
	t.Parallel()
	cases, err := pastetest.Cases()
	require.NoError(t, err)
	words := strings.Repeat("The tide rises at the mole, and the lamp is lit.\n", 8<<20/49)
	long, _ := heldAgainst(t, pastetest.Right(), words+cases[0].Text)
	assert.Equal(t, judge.Matches, judge.Compared(long.Grounds), "behind 8 MiB of words")
	altered, _ := heldAgainst(t, pastetest.Altered(), words+cases[0].Text)
	assert.Equal(t, judge.Refused, altered.Verdict, "behind 8 MiB of words")
	for name, text := range map[string]string{
		"nothing":          "",
		"blanks":           " \n\t\n",
		"an image's bytes": string(bytes.Repeat([]byte{0, 0xff, 'P', 'K', 3, 4, 0x1b}, 100_000)),
	} {
		out, plan := heldAgainst(t, pastetest.Right(), text)
		assert.Equal(t, judge.NothingCompared, judge.Compared(out.Grounds), name)
		assert.Equal(t, judge.Unproven, out.Verdict, name)
		assert.NotEqual(t, survey.Artifact, roleOf(plan, pastedText), name)
	}
}
