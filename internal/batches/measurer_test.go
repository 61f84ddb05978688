package batches_test

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"endeixis/core/container"
	"endeixis/core/diagnose"
	"endeixis/core/digest"
	"endeixis/core/judge"
	"endeixis/core/measure"
	"endeixis/core/survey"
	"endeixis/core/verify"
	"endeixis/internal/batches"
	"endeixis/internal/fault"
	"endeixis/internal/sources"
	"endeixis/internal/store"
	"endeixis/internal/testkit"
)

// away are the files of a machine that the service cannot read.
type away map[string]string

// found is what whoever has the files sends of them: the content of lists only.
func (a away) found() batches.ListingPage {
	out := batches.ListingPage{}
	for name, content := range a {
		f := survey.Found{Path: name, Size: int64(len(content))}
		if strings.HasSuffix(name, "SUMS") {
			f.Content = []byte(content)
		}
		out.Files = append(out.Files, f)
	}
	return out
}

// submission is what an honest measurer sends of an assignment.
func (a away) submission(c batches.Assignment) batches.Submission {
	content := a[c.Target.Path]
	out := batches.Submission{
		N: c.N, Submission: verify.Submission{Reading: measure.Reading{Size: int64(len(content))}},
	}
	for _, task := range c.Target.Tasks {
		h := task.Algorithm.New()
		h.Write(append(append(append([]byte{}, task.Before...), content...), task.After...))
		out.Reading.Results = append(out.Reading.Results, measure.Result{Digest: h.Sum(nil)})
	}
	return out
}

// listOf makes a manifest of files.
func (a away) listOf(names ...string) string {
	var b strings.Builder
	for _, name := range names {
		fmt.Fprintf(&b, "%x  %s\n", sha256.Sum256([]byte(a[name])), name)
	}
	return b.String()
}

// begun is a batch of a measurer's files that is surveyed.
func begun(t *testing.T, b *batches.Service, files away) (int64, []batches.Assignment) {
	t.Helper()
	source, err := sources.OfMeasurer(sources.Client, "kelp", "/home/ines/downloads")
	require.NoError(t, err)
	made, err := b.Create(t.Context(), "ines", batches.Request{Source: source, Software: "a test"})
	require.NoError(t, err)
	require.NoError(t, b.SendListing(t.Context(), "ines", made.ID, 1, files.found()))
	_, err = b.CloseListing(t.Context(), "ines", made.ID, 1)
	require.NoError(t, err)
	require.NoError(t, b.Survey(t.Context(), made.ID))
	assignments, err := b.Assignments(t.Context(), "ines", made.ID, -1, 1000)
	require.NoError(t, err)
	return made.ID, assignments
}

func lamps() away {
	a := away{"lamp-a.img": "image a", "lamp-b.img": "image b", "lamp-c.img": "image c"}
	a["SHA256SUMS"] = a.listOf("lamp-a.img", "lamp-b.img", "lamp-c.img")
	return a
}

// codes returns the codes of an item's grounds, and its verdict.
func codes(t *testing.T, s *store.Store, batch int64, path string) (verdict string, grounds string) {
	t.Helper()
	items, err := s.Items(t.Context(), batch, store.ItemFilter{Limit: 100})
	require.NoError(t, err)
	for _, item := range items {
		if item.Path == path {
			if item.Verdict != nil {
				verdict = *item.Verdict
			}
			return verdict, string(item.Evidence.Grounds)
		}
	}
	t.Fatalf("there is no %s", path)
	return "", ""
}

// TestMeasuredByAMeasurer goes the whole way, with each step said twice, results in two
// parts and in any order, and a pause between them.
func TestMeasuredByAMeasurer(t *testing.T) {
	t.Parallel()
	b, s, _ := service(t)
	files := lamps()
	id, assignments := begun(t, b, files)
	require.Len(t, assignments, 3)
	assert.Equal(t, "lamp-a.img", assignments[0].Target.Path)
	require.Len(t, assignments[0].Expected, 1)
	_, err := b.CloseListing(t.Context(), "ines", id, 1)
	require.NoError(t, err, "said again, it does nothing more")

	taken, err := b.Take(
		t.Context(), "ines", id,
		[]batches.Submission{files.submission(assignments[2]), files.submission(assignments[0])},
	)
	require.NoError(t, err)
	assert.Equal(t, batches.Taken{Taken: 2, Left: 1, Declined: []batches.Decline{}}, taken)
	left, err := b.Assignments(t.Context(), "ines", id, -1, 1000)
	require.NoError(t, err)
	require.Len(t, left, 1, "whoever comes back is told what is missing")

	taken, err = b.Take(
		t.Context(), "ines", id,
		[]batches.Submission{files.submission(assignments[0]), files.submission(assignments[1])},
	)
	require.NoError(t, err)
	assert.Equal(t, batches.Taken{Taken: 1, Known: 1, Declined: []batches.Decline{}}, taken)
	got, err := b.Get(t.Context(), id)
	require.NoError(t, err)
	assert.EqualValues(t, "done", got.State)
	assert.Equal(t, got.Items, got.ItemsDone)
	assert.Equal(t, got.Bytes, got.BytesDone)
	_, grounds := codes(t, s, id, "lamp-a.img")
	assert.Contains(t, grounds, "digest-match")
	assert.Contains(t, grounds, "measured-elsewhere")
	assert.Contains(t, grounds, "client on kelp")

	taken, err = b.Take(t.Context(), "ines", id, []batches.Submission{files.submission(assignments[1])})
	require.NoError(t, err)
	assert.Equal(t, 1, taken.Known, "also when it has ended")
	_, err = s.ListingPage(t.Context(), id, 1)
	assert.ErrorIs(t, err, store.ErrNotFound, "the list is not kept")
}

// TestTwoMeasurers: two programs measure one batch side by side; each item has one
// outcome.
func TestTwoMeasurers(t *testing.T) {
	t.Parallel()
	b, s, _ := service(t)
	files := away{}
	for i := range 40 {
		files[fmt.Sprintf("lamp-%02d.img", i)] = fmt.Sprint(i)
	}
	id, assignments := begun(t, b, files)
	before, err := s.LedgerSize(t.Context())
	require.NoError(t, err)
	var g errgroup.Group
	for m := range 4 {
		g.Go(func() error {
			for i := range assignments {
				c := assignments[(i+11*m)%len(assignments)]
				taken, err := b.Take(t.Context(), "ines", id, []batches.Submission{files.submission(c)})
				if err != nil {
					return err
				}
				if taken.Taken+taken.Known != 1 {
					return fmt.Errorf("%+v", taken)
				}
			}
			return nil
		})
	}
	require.NoError(t, g.Wait())
	got, err := b.Get(t.Context(), id)
	require.NoError(t, err)
	assert.EqualValues(t, "done", got.State)
	after, err := s.LedgerSize(t.Context())
	require.NoError(t, err)
	assert.EqualValues(t, len(assignments)+1, after-before, "one record for each item, one for the batch")
}

// TestMeasurersThatLie sends what does not fit: none of it changes anything but what it
// is about, and each is told why.
func TestMeasurersThatLie(t *testing.T) {
	t.Parallel()
	b, s, _ := service(t)
	files := lamps()
	id, assignments := begun(t, b, files)
	honest := files.submission(assignments[0])
	short := files.submission(assignments[0])
	short.Reading.Results = short.Reading.Results[:0]
	cut := files.submission(assignments[0])
	cut.Reading.Results = []measure.Result{{Digest: honest.Reading.Results[0].Digest[:20]}}
	unknown := files.submission(assignments[0])
	unknown.N = 77
	odd := batches.Submission{
		N: assignments[0].N,
		Submission: verify.Submission{
			Reading: measure.Reading{Problem: &measure.Problem{Code: "cleared", Message: "\x1b[2J"}},
		},
	}
	negative := files.submission(assignments[0])
	negative.Reading.Size = -1
	for name, c := range map[string]struct {
		send []batches.Submission
		code string
	}{
		"of nobody":  {[]batches.Submission{unknown}, "not-asked"},
		"too few":    {[]batches.Submission{short}, "wrong-shape"},
		"too short":  {[]batches.Submission{cut}, "wrong-shape"},
		"a problem":  {[]batches.Submission{odd}, "wrong-shape"},
		"below zero": {[]batches.Submission{negative}, "wrong-shape"},
	} {
		taken, err := b.Take(t.Context(), "ines", id, c.send)
		require.NoError(t, err, name)
		assert.Zero(t, taken.Taken, name)
		require.Len(t, taken.Declined, 1, name)
		assert.Equal(t, c.code, taken.Declined[0].Code, name)
		assert.Equal(t, 3, taken.Left, name)
	}
	_, err := b.Take(t.Context(), "mallory", id, []batches.Submission{honest})
	assert.True(t, fault.Is(err, fault.NotYours), "%v", err)
	_, err = b.Assignments(t.Context(), "mallory", id, -1, 10)
	assert.True(t, fault.Is(err, fault.NotYours), "%v", err)

	// The same item with other bytes: the first result stays.
	other := files.submission(assignments[0])
	sum := sha256.Sum256([]byte("something else"))
	other.Reading.Results = []measure.Result{{Digest: sum[:]}}
	taken, err := b.Take(t.Context(), "ines", id, []batches.Submission{honest, other})
	require.NoError(t, err)
	assert.Equal(t, 1, taken.Taken)
	assert.Equal(t, "wrong-shape", taken.Declined[0].Code, "twice in one request")
	taken, err = b.Take(t.Context(), "ines", id, []batches.Submission{other})
	require.NoError(t, err)
	assert.Equal(t, "measured-otherwise", taken.Declined[0].Code)

	// Another length than the list of files says: nobody knows which file that was.
	grown := files.submission(assignments[1])
	grown.Reading.Size = 9
	taken, err = b.Take(t.Context(), "ines", id, []batches.Submission{grown})
	require.NoError(t, err)
	assert.Equal(t, 1, taken.Taken)
	verdict, grounds := codes(t, s, id, "lamp-b.img")
	assert.Equal(t, "unproven", verdict)
	assert.Contains(t, grounds, "changed-while-reading")
	assert.NotContains(t, grounds, "digest-match")

	// What is said about a difference is kept safe to show, and only of this entry.
	altered := files.submission(assignments[2])
	altered.Reading.Results = []measure.Result{{Digest: sum[:]}}
	e := assignments[2].Expected[0]
	altered.Diagnoses = []diagnose.Diagnosis{
		{Manifest: e.Manifest, Line: e.Line, Expected: e.Digest, Causes: []diagnose.Cause{
			{
				Code: diagnose.Truncated, Sentence: "cut\x1b[2J short", Advice: strings.Repeat("a", 10_000),
			},
			{Code: "cleared", Sentence: "all is well"},
			{Code: diagnose.OtherRelease, Sentence: "it is fine"},
		}},
		{
			Manifest: "OTHER", Line: 1, Expected: e.Digest,
			Causes: []diagnose.Cause{{Code: diagnose.Altered, Sentence: "not here"}},
		},
	}
	_, err = b.Take(t.Context(), "ines", id, []batches.Submission{altered})
	require.NoError(t, err)
	verdict, grounds = codes(t, s, id, "lamp-c.img")
	assert.Equal(t, "refused", verdict)
	assert.Contains(t, grounds, "short")
	for _, no := range []string{`\u001b`, "all is well", "it is fine", "not here", strings.Repeat("a", 3000)} {
		assert.NotContains(t, grounds, no)
	}
	got, err := b.Get(t.Context(), id)
	require.NoError(t, err)
	assert.EqualValues(t, "done", got.State)
}

// TestListsThatLie: a list of files that no folder can have is refused, or fails the
// batch with what is wrong; nothing of it is half there.
func TestListsThatLie(t *testing.T) {
	t.Parallel()
	b, s, _ := service(t)
	source, err := sources.OfMeasurer(sources.Client, "kelp", "/home/ines")
	require.NoError(t, err)
	begin := func() int64 {
		made, err := b.Create(t.Context(), "ines", batches.Request{Source: source})
		require.NoError(t, err)
		return made.ID
	}
	id := begin()
	for name, f := range map[string]survey.Found{
		"up":          {Path: "../x"},
		"absolute":    {Path: "/etc/passwd"},
		"empty":       {Path: ""},
		"itself":      {Path: "."},
		"inside":      {Path: "a.zip//b"},
		"not UTF-8":   {Path: "a\xff"},
		"NUL":         {Path: "a\x00b"},
		"negative":    {Path: "a", Size: -1},
		"too much":    {Path: "a", Size: 1, Content: []byte("abc")},
		"odd trouble": {Path: "a", Problem: &measure.Problem{Code: "all-well"}},
	} {
		err := b.SendListing(t.Context(), "ines", id, 1, batches.ListingPage{Files: []survey.Found{f}})
		assert.True(t, fault.Is(err, fault.BadListing), "%s: %v", name, err)
	}
	err = b.SendListing(
		t.Context(), "ines", id, 1,
		batches.ListingPage{
			Containers: []survey.Looked{
				{Path: "a.zip", Layout: &container.Layout{Members: []container.Member{{Name: "../../x"}}}},
			},
		},
	)
	assert.True(t, fault.Is(err, fault.BadListing), "%v", err)
	assert.True(t, fault.Is(b.SendListing(t.Context(), "mallory", id, 1, batches.ListingPage{}), fault.NotYours))
	_, err = b.CloseListing(t.Context(), "ines", id, 2)
	assert.True(t, fault.Is(err, fault.ListingIncomplete), "%v", err)
	_, err = b.Assignments(t.Context(), "ines", id, -1, 1)
	assert.True(t, fault.Is(err, fault.NotSurveyed), "%v", err)

	for name, pages := range map[string][]batches.ListingPage{
		"twice":         {{Files: []survey.Found{{Path: "a.img", Size: 1}}}, {Files: []survey.Found{{Path: "a.img", Size: 2}}}},
		"a part missed": {{Files: []survey.Found{{Path: "SHA256SUMS", Size: 9, Content: []byte("12345")}}}},
		"in no file":    {{Containers: []survey.Looked{{Path: "a.zip", Layout: &container.Layout{}}}}},
	} {
		id := begin()
		for n, page := range pages {
			require.NoError(t, b.SendListing(t.Context(), "ines", id, n+1, page), name)
		}
		_, err := b.CloseListing(t.Context(), "ines", id, len(pages))
		require.NoError(t, err, name)
		require.NoError(t, b.Survey(t.Context(), id), name)
		got, err := b.Get(t.Context(), id)
		require.NoError(t, err)
		assert.EqualValues(t, "failed", got.State, name)
		assert.Contains(t, got.Note, "cannot be used", name)
		assert.Zero(t, got.Items, name)
	}
	for range 30 {
		if _, err = b.Create(t.Context(), "ines", batches.Request{Source: source}); err != nil {
			break
		}
	}
	assert.True(t, fault.Is(err, fault.TooManyListings), "%v", err)
	open, err := s.OpenListings(t.Context(), "ines")
	require.NoError(t, err)
	assert.Equal(t, 20, open)
}

// TestContentInPages: a manifest that does not fit in a page comes in parts.
func TestContentInPages(t *testing.T) {
	t.Parallel()
	b, _, _ := service(t)
	files := lamps()
	source, err := sources.OfMeasurer(sources.Client, "kelp", "/home/ines")
	require.NoError(t, err)
	made, err := b.Create(t.Context(), "ines", batches.Request{Source: source})
	require.NoError(t, err)
	list := files["SHA256SUMS"]
	for n, part := range []string{list[:50], list[50:100], list[100:]} {
		page := batches.ListingPage{
			Files: []survey.Found{{Path: "SHA256SUMS", Size: int64(len(list)), Content: []byte(part)}},
		}
		if n == 1 {
			page.Files = append(
				page.Files, survey.Found{Path: "lamp-a.img", Size: 7}, survey.Found{Path: "lamp-b.img", Size: 7},
			)
		}
		require.NoError(t, b.SendListing(t.Context(), "ines", made.ID, n+1, page))
	}
	_, err = b.CloseListing(t.Context(), "ines", made.ID, 3)
	require.NoError(t, err)
	require.NoError(t, b.Survey(t.Context(), made.ID))
	assignments, err := b.Assignments(t.Context(), "ines", made.ID, -1, 10)
	require.NoError(t, err)
	require.Len(t, assignments, 2)
	assert.Equal(t, 1, assignments[0].Expected[0].Line)
	got, err := b.Get(t.Context(), made.ID)
	require.NoError(t, err)
	assert.Equal(t, 1, got.Absent)
}

// TestFilesComeWhole: what lies inside a file is measured in the same read, and is sent
// with it, in any order; a part alone changes nothing.
func TestFilesComeWhole(t *testing.T) {
	t.Parallel()
	b, s, _ := service(t)
	files := away{"lamp.zip": "an archive", "lamp.zip//lamp.img": "image"}
	list := fmt.Sprintf("%x  lamp.img\n", sha256.Sum256([]byte("image")))
	source, err := sources.OfMeasurer(sources.Client, "kelp", "/home/ines")
	require.NoError(t, err)
	made, err := b.Create(t.Context(), "ines", batches.Request{Source: source})
	require.NoError(t, err)
	require.NoError(t, b.SendListing(t.Context(), "ines", made.ID, 1, batches.ListingPage{
		Files: []survey.Found{
			{Path: "SHA256SUMS", Size: int64(len(list)), Content: []byte(list)}, {Path: "lamp.zip", Size: 10},
		},
		Containers: []survey.Looked{
			{
				Path: "lamp.zip",
				Layout: &container.Layout{
					Format: container.Zip, Members: []container.Member{{Name: "lamp.img", Size: 5}},
				},
			},
		},
	}))
	_, err = b.CloseListing(t.Context(), "ines", made.ID, 1)
	require.NoError(t, err)
	require.NoError(t, b.Survey(t.Context(), made.ID))
	assignments, err := b.Assignments(t.Context(), "ines", made.ID, -1, 10)
	require.NoError(t, err)
	require.Len(t, assignments, 2)
	for i := range assignments {
		taken, err := b.Take(t.Context(), "ines", made.ID, []batches.Submission{files.submission(assignments[i])})
		require.NoError(t, err)
		assert.Zero(t, taken.Taken, assignments[i].Target.Path)
		require.Len(t, taken.Declined, 1)
		assert.Equal(t, "incomplete-file", taken.Declined[0].Code)
	}
	taken, err := b.Take(
		t.Context(), "ines", made.ID,
		[]batches.Submission{files.submission(assignments[1]), files.submission(assignments[0])},
	)
	require.NoError(t, err)
	assert.Equal(t, batches.Taken{Taken: 2, Declined: []batches.Decline{}}, taken)
	_, grounds := codes(t, s, made.ID, "lamp.zip//lamp.img")
	assert.Contains(t, grounds, "digest-match")
}

// TestSilentMeasurers: whoever is not heard from for too long is waited for no longer.
func TestSilentMeasurers(t *testing.T) {
	t.Parallel()
	clock := testkit.Now()
	c := testkit.Prepare(t)
	p := testkit.Assemble(t, c, func() time.Time { return clock })
	b, s := p.Batches, p.Store
	files := lamps()
	id, assignments := begun(t, b, files)
	_, err := b.Take(t.Context(), "ines", id, []batches.Submission{files.submission(assignments[0])})
	require.NoError(t, err)
	source, err := sources.OfMeasurer(sources.Client, "kelp", "/home/ines")
	require.NoError(t, err)
	unlisted, err := b.Create(t.Context(), "ines", batches.Request{Source: source})
	require.NoError(t, err)

	clock = clock.Add(23 * time.Hour)
	require.NoError(t, b.Lapse(t.Context(), 24*time.Hour))
	require.NoError(t, b.End(t.Context(), id))
	got, err := b.Get(t.Context(), id)
	require.NoError(t, err)
	assert.EqualValues(t, "measuring", got.State, "it is waited for")

	clock = clock.Add(2 * time.Hour)
	require.NoError(t, b.Lapse(t.Context(), 24*time.Hour))
	require.NoError(t, b.End(t.Context(), id))
	require.NoError(t, b.End(t.Context(), id))
	got, err = b.Get(t.Context(), id)
	require.NoError(t, err)
	assert.EqualValues(t, "done", got.State)
	assert.EqualValues(t, "unproven", *got.Verdict)
	assert.Contains(t, got.Note, "The client on kelp was not heard from any more")
	verdict, grounds := codes(t, s, id, "lamp-b.img")
	assert.Equal(t, "unproven", verdict)
	assert.Contains(t, grounds, string(judge.NotMeasured))
	_, grounds = codes(t, s, id, "lamp-a.img")
	assert.Contains(t, grounds, "digest-match")
	got, err = b.Get(t.Context(), unlisted.ID)
	require.NoError(t, err)
	assert.EqualValues(t, "failed", got.State)
	assert.Contains(t, got.Note, "never sent the whole list")
	_, err = b.Take(t.Context(), "ines", id, []batches.Submission{files.submission(assignments[1])})
	require.NoError(t, err)
	verdict, _ = codes(t, s, id, "lamp-b.img")
	assert.Equal(t, "unproven", verdict, "what comes too late changes nothing")
}

// TestWhoMayMeasure: the policy says who may have read what is cleared.
func TestWhoMayMeasure(t *testing.T) {
	value, err := hex.DecodeString(strings.Repeat("ab", 32))
	require.NoError(t, err)
	item := survey.Item{
		Path: "lamp.img", Role: survey.Artifact,
		Listed: []survey.Entry{{Manifest: "SUMS", Line: 1, Algorithms: digest.Only(digest.SHA256), Digest: value}},
	}
	m := measure.Measurement{Digests: map[digest.Algorithm]digest.Value{digest.SHA256: value}}
	for _, c := range []struct {
		maker  measure.Maker
		by     []measure.Maker
		effect judge.Effect
	}{
		{"", []measure.Maker{measure.Client}, ""},
		{measure.Service, []measure.Maker{measure.Service}, ""},
		{measure.Client, judge.DefaultPolicy().MeasuredBy, judge.Notes},
		{measure.Console, judge.DefaultPolicy().MeasuredBy, judge.Notes},
		{measure.Device, judge.DefaultPolicy().MeasuredBy, judge.Withholds},
		{measure.Typed, judge.DefaultPolicy().MeasuredBy, judge.Withholds},
		{measure.Client, []measure.Maker{measure.Service}, judge.Withholds},
	} {
		policy := judge.DefaultPolicy()
		policy.MeasuredBy = c.by
		m.Maker, m.Where = c.maker, "client on kelp"
		effect := judge.Effect("")
		for _, g := range (judge.Basis{Policy: policy}).Artifact(&item, &m, judge.Surroundings{}).Grounds {
			if g.Code == judge.ByMeasurer {
				effect = g.Effect
			}
		}
		assert.Equal(t, c.effect, effect, "%s under %v", c.maker, c.by)
	}
}
