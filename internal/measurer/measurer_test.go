package measurer

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"slices"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/container"
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
	batches     []wire.Batch // what the batch is, one after the other
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

func (s *service) FollowUntil(ctx context.Context, _ int64, reached func(wire.Batch) bool) (wire.Batch, error) {
	for _, b := range s.batches {
		if reached(b) || b.Closed() {
			return b, nil
		}
	}
	<-ctx.Done()
	return wire.Batch{}, context.Cause(ctx)
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

// TestList: a folder that fills several pages arrives with all of its files, content and
// containers, and the service is told how many pages there are.
func TestList(t *testing.T) {
	t.Parallel()
	long := bytes.Repeat([]byte("0123456789abcdef"), 8<<20/16+3) // one page and a bit
	found := &survey.Findings{
		Files: []survey.Found{
			{Path: "gauge.zip", Size: 7, Changed: time.Unix(7, 0)},
			{Path: "SHA256SUMS", Size: int64(len(long)), Content: long},
			{Path: "empty.asc", Content: []byte{}, Given: &survey.Given{For: []string{"gauge.zip"}}},
		},
		Containers: []survey.Looked{{
			Path: "gauge.zip", Layout: &container.Layout{Format: container.Zip, Links: 1},
			Contents: map[string][]byte{"SUMS": []byte("inside")},
		}},
	}
	s := &service{}
	require.NoError(t, List(t.Context(), s, 7, found))
	require.Equal(t, len(s.pages), s.closed, "it says how many pages there are")
	require.Greater(t, s.closed, 1)
	var content []byte
	files := map[string]wire.ListedFile{}
	inside := ""
	for n := 1; n <= s.closed; n++ {
		for _, f := range s.pages[n].Files {
			files[f.Path] = f
			if f.Path == "SHA256SUMS" {
				part, err := base64.StdEncoding.DecodeString(*f.Content)
				require.NoError(t, err)
				content = append(content, part...)
			}
		}
		for _, c := range s.pages[n].Containers {
			assert.Equal(t, "gauge.zip", c.Path)
			inside += c.Contents["SUMS"]
		}
	}
	assert.True(t, bytes.Equal(long, content))
	assert.Equal(t, time.Unix(7, 0), *files["gauge.zip"].Changed)
	assert.Nil(t, files["gauge.zip"].Content, "it was not read")
	require.NotNil(t, files["empty.asc"].Content, "it was read, and is empty")
	assert.Equal(t, []string{"gauge.zip"}, files["empty.asc"].Given.For)
	assert.Equal(t, base64.StdEncoding.EncodeToString([]byte("inside")), inside)

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
