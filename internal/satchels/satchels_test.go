package satchels_test

import (
	"crypto/rand"
	"crypto/sha256"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/mod/sumdb/note"

	"endeixis/core/judge"
	"endeixis/core/measure"
	"endeixis/core/satchel"
	"endeixis/core/survey"
	"endeixis/internal/fault"
	"endeixis/internal/publishers"
	"endeixis/internal/satchels"
	"endeixis/internal/state"
	"endeixis/internal/testkit"
)

// A desk is a service that packs satchels and takes outcomes back.
type desk struct {
	*testkit.Parts
	satchels *satchels.Service
}

func newDesk(t *testing.T) *desk {
	t.Helper()
	p := testkit.Assemble(t, testkit.Bare(t), testkit.Now)
	_, err := p.Publishers.Add(t.Context(), "tobiah", publishers.Details{Slug: "quoin", Name: "Quoin"})
	require.NoError(t, err)
	return &desk{p, satchels.New(p.Store, p.Records, p.Keys, p.Policy, p.Publishers, p.Batches, testkit.Now)}
}

// pack packs a satchel, and opens it as somebody does who knows the service's key.
func (d *desk) pack(t *testing.T) *satchel.Satchel {
	t.Helper()
	_, file, err := d.satchels.Pack(t.Context(), "ines", []string{"quoin"}, 14, "the island")
	require.NoError(t, err)
	_, verifier, err := d.Records.Seal()
	require.NoError(t, err)
	out, err := satchel.Open(file, verifier)
	require.NoError(t, err)
	return out
}

// A journal is what is written on site.
type journal struct {
	satchel *satchel.Satchel
	signer  note.Signer
	file    []byte
	last    []byte
	n       int
}

func begin(t *testing.T, s *satchel.Satchel) *journal {
	t.Helper()
	first, secret, err := satchel.NewHeader(s, testkit.Now(), "skerrow-light", rand.Reader)
	require.NoError(t, err)
	signer, err := note.NewSigner(secret)
	require.NoError(t, err)
	return &journal{satchel: s, signer: signer, file: first, last: first}
}

// note writes that a folder with one file was verified, whose list has the digest of listed.
func (j *journal) note(t *testing.T, content, listed string, edit func(*satchel.Entry)) {
	t.Helper()
	j.n++
	sum := sha256.Sum256([]byte(content))
	list := fmt.Sprintf("%x  lamp.img\n", sha256.Sum256([]byte(listed)))
	when := testkit.Now().Add(-time.Hour)
	e := satchel.Entry{
		N: j.n, Kind: satchel.Folder, At: when, By: "rowan", Host: "skerrow-light", Path: "/mnt/stick",
		Software: "a test", Publisher: "quoin", Corrections: []survey.Correction{},
		Findings: &survey.Findings{Files: []survey.Found{
			{Path: "SHA256SUMS", Size: int64(len(list)), ModTime: when, Content: []byte(list)},
			{Path: "lamp.img", Size: int64(len(content)), ModTime: when},
		}},
		Measured: map[string]satchel.Measured{"lamp.img": {Reading: measure.Reading{
			Size: int64(len(content)), Results: []measure.Result{{Digest: sum[:]}},
		}}},
		Verdict:  judge.Unproven,
		Outcomes: []satchel.Judged{{Path: "lamp.img", Verdict: judge.Unproven}},
	}
	if edit != nil {
		edit(&e)
	}
	line, err := satchel.Seal(e, j.satchel.ID, j.last, j.signer)
	require.NoError(t, err)
	j.file, j.last = append(j.file, line...), line
}

func (d *desk) returned(t *testing.T, r satchels.Returned) ([]satchels.Visit, *fault.Fault) {
	t.Helper()
	_, visits, err := d.satchels.Return(t.Context(), "ines", r)
	var f *fault.Fault
	if err != nil {
		require.ErrorAs(t, err, &f)
	}
	return visits, f
}

// TestPack: a satchel says whose files it judges, until when, and is on record.
func TestPack(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	for _, c := range []struct {
		slugs []string
		days  int
		label string
		code  fault.Code
	}{
		{[]string{"quoin"}, 0, "", fault.BadDays},
		{[]string{"quoin"}, satchel.MaxDays + 1, "", fault.BadDays},
		{nil, 14, "", fault.PublisherMissing},
		{[]string{"nobody"}, 14, "", fault.PublisherUnknown},
		{[]string{"quoin"}, 14, "a\x00b", fault.LongLabel},
	} {
		_, _, err := d.satchels.Pack(t.Context(), "ines", c.slugs, c.days, c.label)
		assert.True(t, fault.Is(err, c.code), "%v %d %q: %v", c.slugs, c.days, c.label, err)
	}
	size, err := d.Store.LedgerSize(t.Context())
	require.NoError(t, err)
	packed, file, err := d.satchels.Pack(t.Context(), "ines", []string{"quoin", "quoin"}, 14, "the island")
	require.NoError(t, err)
	assert.Equal(t, []string{"quoin"}, packed.Publishers)
	assert.Equal(t, packed.At.AddDate(0, 0, 14), packed.Until)
	assert.Equal(t, size, packed.Position, "packing is a record")
	_, verifier, err := d.Records.Seal()
	require.NoError(t, err)
	opened, err := satchel.Open(file, verifier)
	require.NoError(t, err)
	assert.NoError(t, opened.Valid(testkit.Now()))
	assert.Error(t, opened.Valid(packed.Until.Add(time.Second)), "it ends")
	all, err := d.satchels.All(t.Context())
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, "the island", all[0].Label)
	_, err = d.satchels.Satchel(t.Context(), "no such")
	assert.True(t, fault.Is(err, fault.SatchelUnknown), "%v", err)
}

// TestReturn: outcomes go on record as batches, once each, and are judged by what is known here.
func TestReturn(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	j := begin(t, d.pack(t))
	j.note(t, "lamp", "lamp", nil)
	j.note(t, "other", "lamp", func(e *satchel.Entry) { e.Verdict = judge.Refused })
	first := j.file
	visits, f := d.returned(t, satchels.Returned{File: first, Outcomes: 2})
	require.Nil(t, f)
	require.Len(t, visits, 2)
	for i, want := range []judge.Verdict{judge.Unproven, judge.Refused} {
		assert.Empty(t, visits[i].Refused)
		assert.False(t, visits[i].Known)
		assert.Equal(t, state.BatchDone, visits[i].Now.State)
		require.NotNil(t, visits[i].Now.Verdict)
		assert.Equal(t, want, *visits[i].Now.Verdict, "bytes that the list does not have are refused here too")
	}
	size, err := d.Store.LedgerSize(t.Context())
	require.NoError(t, err)
	again, f := d.returned(t, satchels.Returned{File: first})
	require.Nil(t, f)
	require.Len(t, again, 2)
	assert.True(t, again[0].Known && again[1].Known)
	now, err := d.Store.LedgerSize(t.Context())
	require.NoError(t, err)
	assert.Equal(t, size, now, "what came back before is not taken twice")
	j.note(t, "lamp", "lamp", nil)
	more, f := d.returned(t, satchels.Returned{File: j.file})
	require.Nil(t, f)
	require.Len(t, more, 3)
	assert.Equal(t, []bool{true, true, false}, []bool{more[0].Known, more[1].Known, more[2].Known})
	listed, err := d.satchels.Visits(t.Context(), j.satchel.ID)
	require.NoError(t, err)
	assert.Len(t, listed, 3)
}

// TestReturnRefuses: of a file that is not what was noted on site nothing is taken.
func TestReturnRefuses(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	packed := d.pack(t)
	j := begin(t, packed)
	j.note(t, "lamp", "lamp", nil)
	whole := j.file
	other := begin(t, newDesk(t).pack(t))
	other.note(t, "lamp", "lamp", nil)
	foreign := *packed
	foreign.Digest = strings.Repeat("0", len(packed.Digest))
	replaced := begin(t, &foreign)
	replaced.note(t, "lamp", "lamp", nil)
	altered := append([]byte(nil), whole...)
	altered[len(altered)-8] ^= 1
	strange := begin(t, packed)
	strange.note(t, "lamp", "lamp", func(e *satchel.Entry) { e.Findings.Files[1].Path = "../lamp.img" })
	size, err := d.Store.LedgerSize(t.Context())
	require.NoError(t, err)
	for name, c := range map[string]struct {
		returned satchels.Returned
		code     fault.Code
	}{
		"the end is gone":       {satchels.Returned{File: whole, Outcomes: 2}, fault.OutcomesMissing},
		"another service's":     {satchels.Returned{File: other.file}, fault.SatchelUnknown},
		"another content":       {satchels.Returned{File: replaced.file}, fault.SatchelForeign},
		"another key":           {satchels.Returned{File: whole, Key: "0102 0304 0506 0708"}, fault.OtherSeal},
		"no journal":            {satchels.Returned{File: []byte("lamp.img")}, fault.OutcomesUnreadable},
		"an altered one":        {satchels.Returned{File: altered}, fault.OutcomesAltered},
		"a name that leads out": {satchels.Returned{File: strange.file}, ""},
	} {
		visits, f := d.returned(t, c.returned)
		if c.code == "" { // it keeps no other outcome waiting
			require.Nil(t, f, name)
			require.Len(t, visits, 1)
			assert.NotEmpty(t, visits[0].Refused)
			continue
		}
		require.NotNil(t, f, name)
		assert.Equal(t, c.code, f.Code, name)
		assert.Empty(t, visits, name)
	}
	now, err := d.Store.LedgerSize(t.Context())
	require.NoError(t, err)
	assert.Equal(t, size, now)
}

// TestReturnedOtherwise: a journal of which an outcome is another than the one that came back
// before is taken only with a reason, and then both are kept.
func TestReturnedOtherwise(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	j := begin(t, d.pack(t))
	j.note(t, "lamp", "lamp", nil)
	fork := *j
	fork.file = append([]byte(nil), j.file...)
	j.note(t, "lens", "lens", nil)
	fork.note(t, "other", "lens", nil)
	visits, f := d.returned(t, satchels.Returned{File: j.file})
	require.Nil(t, f)
	require.Len(t, visits, 2)
	_, f = d.returned(t, satchels.Returned{File: fork.file})
	require.NotNil(t, f)
	assert.Equal(t, fault.ReturnedOtherwise, f.Code)
	visits, f = d.returned(t, satchels.Returned{File: fork.file, Otherwise: "the stick broke"})
	require.Nil(t, f)
	require.Len(t, visits, 2)
	assert.True(t, visits[0].Known, "up to there it is the same")
	assert.False(t, visits[1].Known)
	listed, err := d.satchels.Visits(t.Context(), j.satchel.ID)
	require.NoError(t, err)
	assert.Len(t, listed, 3)
}
