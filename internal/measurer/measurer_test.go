package measurer

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"sync"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/digest"
	"endeixis/core/measure"
	"endeixis/core/survey"
	"endeixis/internal/state"
	"endeixis/internal/wire"
)

// service is a [Service] that keeps what it is sent.
type service struct {
	mu          sync.Mutex
	pages       map[int]wire.ListingPage
	closed      int
	batches     []wire.Batch // answered one after the other, the last for ever
	assignments []wire.Assignment
	submitted   []wire.Submission
	requests    int
	answer      func(request int, sent []wire.Submission) (wire.Taken, error)
}

func (s *service) SendListing(_ context.Context, _ int64, n int, page wire.ListingPage) error {
	if s.pages == nil {
		s.pages = map[int]wire.ListingPage{}
	}
	s.pages[n] = page
	return nil
}

func (s *service) CloseListing(_ context.Context, _ int64, pages int) (wire.Batch, error) {
	s.closed = pages
	return wire.Batch{}, nil
}

func (s *service) Batch(context.Context, int64) (wire.Batch, error) {
	b := s.batches[0]
	if len(s.batches) > 1 {
		s.batches = s.batches[1:]
	}
	return b, nil
}

func (s *service) Assignments(context.Context, int64) ([]wire.Assignment, error) {
	return s.assignments, nil
}

func (s *service) SendMeasurements(_ context.Context, _ int64, sent []wire.Submission) (wire.Taken, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.requests++
	if s.answer != nil {
		if taken, err := s.answer(s.requests, sent); err != nil || len(taken.Declined) > 0 {
			return taken, err
		}
	}
	s.submitted = append(s.submitted, sent...)
	return wire.Taken{Taken: len(sent)}, nil
}

// TestList: whatever is in a folder arrives in pages of bounded size, and can be put together
// again.
func TestList(t *testing.T) {
	t.Parallel()
	long := bytes.Repeat([]byte("0123456789abcdef"), pageBytes/16+3) // one page and a bit
	found := &survey.Findings{}
	for i := range 2*pageFiles + 1 {
		found.Files = append(found.Files, survey.Found{Path: fmt.Sprintf("f%05d.img", i), Size: int64(i)})
	}
	found.Files = append(found.Files, survey.Found{Path: "SHA256SUMS", Size: int64(len(long)), Content: long})
	s := &service{}
	require.NoError(t, List(t.Context(), s, 7, found))
	assert.Equal(t, len(s.pages), s.closed, "it says how many pages there are")
	var names []string
	var content []byte
	for n := 1; n <= s.closed; n++ {
		weight := 0
		require.LessOrEqual(t, len(s.pages[n].Files), pageFiles)
		for _, f := range s.pages[n].Files {
			if f.Content == nil {
				names = append(names, f.Path)
				continue
			}
			assert.Equal(t, content != nil, f.Continued, "the first part begins a file, the next go on with it")
			part, err := base64.StdEncoding.DecodeString(*f.Content)
			require.NoError(t, err)
			weight += len(part)
			content = append(content, part...)
		}
		assert.LessOrEqual(t, weight, pageBytes)
	}
	assert.Len(t, names, 2*pageFiles+1)
	assert.True(t, slices.IsSorted(names))
	assert.True(t, bytes.Equal(long, content))

	empty := &service{}
	require.NoError(t, List(t.Context(), empty, 7, &survey.Findings{}))
	assert.Equal(t, 1, empty.closed, "an empty folder has a list too")
}

// TestSurveyed waits for as long as the plan takes, and no longer than it is wanted.
func TestSurveyed(t *testing.T) {
	t.Parallel()
	waiting := wire.Batch{State: state.BatchWaiting}
	s := &service{batches: []wire.Batch{waiting, waiting, {State: state.BatchMeasuring}}}
	b, err := Surveyed(t.Context(), s, 7)
	require.NoError(t, err)
	assert.Equal(t, state.BatchMeasuring, b.State)
	b, err = Surveyed(t.Context(), &service{batches: []wire.Batch{{State: state.BatchFailed}}}, 7)
	require.NoError(t, err)
	assert.Equal(t, state.BatchFailed, b.State, "one that ended is told as it is")
	cause := errors.New("interrupted")
	ctx, cancel := context.WithCancelCause(t.Context())
	cancel(cause)
	_, err = Surveyed(ctx, &service{batches: []wire.Batch{waiting}}, 7)
	assert.Equal(t, cause, err)
}

// folderOf is a folder with files, and what is to be measured of them.
func folderOf(names ...string) (fstest.MapFS, []wire.Assignment) {
	dir := fstest.MapFS{}
	var list []wire.Assignment
	for i, name := range names {
		content := bytes.Repeat([]byte(name), 500)
		dir[name] = &fstest.MapFile{Data: content}
		list = append(list, wire.Assignment{N: i, Target: measure.Target{
			Path: name, Size: int64(len(content)), Tasks: []measure.Task{{Algorithm: digest.SHA256}},
		}})
	}
	return dir, list
}

// TestMeasure: each assignment is answered once, a file that is not there with its problem, and
// what was interrupted goes on with what is left.
func TestMeasure(t *testing.T) {
	t.Parallel()
	dir, list := folderOf("a", "b", "c", "gone")
	delete(dir, "gone")
	s := &service{assignments: list}
	var last Progress
	var mu sync.Mutex
	require.NoError(t, Measure(t.Context(), s, 7, dir, 1<<20, func(p Progress) {
		mu.Lock()
		defer mu.Unlock()
		last = p
	}))
	slices.SortFunc(s.submitted, func(a, b wire.Submission) int { return a.N - b.N })
	require.Len(t, s.submitted, 4)
	for i, sent := range s.submitted {
		assert.Equal(t, i, sent.N)
		if list[i].Target.Path == "gone" {
			require.NotNil(t, sent.Reading.Problem)
			continue
		}
		require.Nil(t, sent.Reading.Problem)
		want := sha256.Sum256(dir[list[i].Target.Path].Data)
		assert.EqualValues(t, want[:], sent.Reading.Results[0].Digest)
	}
	assert.Equal(t, 4, last.Done)
	assert.Equal(t, 4, last.Items)

	lost := errors.New("the line is cut")
	cut := &service{assignments: list, answer: func(int, []wire.Submission) (wire.Taken, error) {
		return wire.Taken{}, lost
	}}
	assert.ErrorIs(t, Measure(t.Context(), cut, 7, dir, 1<<20, nil), lost)
	assert.Empty(t, cut.submitted)

	declines := &service{assignments: list, answer: func(int, []wire.Submission) (wire.Taken, error) {
		return wire.Taken{Declined: []wire.Declined{{N: 2, Code: "measured-otherwise", Reason: "It was measured before."}}}, nil
	}}
	var declined *DeclinedError
	require.ErrorAs(t, Measure(t.Context(), declines, 7, dir, 1<<20, nil), &declined)
	assert.Equal(t, 2, declined.Item)
	assert.Contains(t, declined.Error(), "It was measured before.")

	ctx, cancel := context.WithCancelCause(t.Context())
	cancel(lost)
	assert.ErrorIs(t, Measure(ctx, &service{assignments: list}, 7, dir, 1<<20, nil), lost)
	assert.NoError(t, Measure(t.Context(), &service{}, 7, dir, 1<<20, nil), "nothing is left")
}
