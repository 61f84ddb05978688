package inquiries_test

import (
	"context"
	"encoding/json"
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/internal/fault"
	"endeixis/internal/inquiries"
	"endeixis/internal/state"
	"endeixis/internal/testkit"
)

func TestMain(m *testing.M) { testkit.Main(m) }

type question struct {
	Of string `json:"of"`
}

func TestInquiry(t *testing.T) {
	t.Parallel()
	p := testkit.Assemble(t, testkit.Bare(t), testkit.Now)
	broken := errors.New("the disk is on fire")
	asked := map[string]int{}
	s := inquiries.New(p.Store, p.Queue, map[inquiries.Kind]inquiries.Answerer{
		inquiries.Audit: func(ctx context.Context, text []byte, progress func(done, total int64)) (any, error) {
			var q question
			require.NoError(t, json.Unmarshal(text, &q))
			asked[q.Of]++
			progress(40, 100)
			switch q.Of {
			case "nobody":
				return nil, fault.New(fault.NotFound, "nobody", "There is nobody.").Advise("Ask for somebody.")
			case "fire":
				return nil, broken
			}
			return map[string]string{"is": q.Of}, nil
		},
	}, testkit.Now)
	ask := func(of string) inquiries.Inquiry {
		out, err := s.Ask(t.Context(), "merit", inquiries.Audit, question{of})
		require.NoError(t, err)
		assert.Equal(t, state.RunWaiting, out.State)
		return out
	}
	get := func(id int64) inquiries.Inquiry {
		out, err := s.Get(t.Context(), id)
		require.NoError(t, err)
		return out
	}

	first := ask("tide")
	assert.Equal(t, first.ID, ask("tide").ID, "who asks the same while it waits shares the answer")
	assert.NotEqual(t, first.ID, ask("ebb").ID)
	require.NoError(t, s.Run(t.Context(), first.ID))
	require.NoError(t, s.Run(t.Context(), first.ID), "a repeated job does nothing")
	done := get(first.ID)
	assert.Equal(t, state.RunDone, done.State)
	assert.JSONEq(t, `{"is": "tide"}`, string(done.Answer))
	assert.EqualValues(t, 100, done.Done)
	assert.EqualValues(t, 100, done.Total)
	assert.Equal(t, 1, asked["tide"])
	assert.NotEqual(t, first.ID, ask("tide").ID, "what is answered is asked anew")

	nobody := ask("nobody")
	require.NoError(t, s.Run(t.Context(), nobody.ID))
	assert.Equal(t, state.RunFailed, get(nobody.ID).State)
	assert.Equal(t, "There is nobody. Ask for somebody.", get(nobody.ID).Note)

	fire := ask("fire")
	require.ErrorIs(t, s.Run(t.Context(), fire.ID), broken)
	assert.Equal(t, state.RunWaiting, get(fire.ID).State, "it is tried again")
	require.NoError(t, s.Abandon(t.Context(), fire.ID, broken))
	assert.Equal(t, state.RunFailed, get(fire.ID).State)
	assert.Contains(t, get(fire.ID).Note, "the disk is on fire")

	_, err := s.Get(t.Context(), 1000)
	assert.True(t, fault.Is(err, fault.InquiryUnknown))
	require.NoError(t, s.Run(t.Context(), 1000), "one that was forgotten is no error of the job")
}
