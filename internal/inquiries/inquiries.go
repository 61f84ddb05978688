// Package inquiries answers questions that take a while, as jobs: who asked can
// look how far the answer has come, and go away. The same question asked twice
// while it waits is answered once.
package inquiries

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"endeixis/internal/fault"
	"endeixis/internal/state"
	"endeixis/internal/store"
)

// A Kind says what is asked.
type Kind string

// The kinds.
const (
	// Audit: is the ledger as it was written?
	Audit Kind = "audit"
	// Reach: what rests on a key, and what would become of it?
	Reach Kind = "reach"
)

// An Inquiry is a question, with its answer when it is done.
type Inquiry struct {
	ID        int64
	Kind      Kind
	AskedBy   string
	CreatedAt time.Time
	State     state.Run
	// Done of Total is how far the answer has come, in units of its own.
	Done, Total int64
	// Answer is the JSON of what the [Answerer] has returned, once State says that it is done.
	Answer []byte
	// Note says why there is no answer, where there will be none.
	Note       string
	FinishedAt *time.Time
}

func inquiryOf(row store.Inquiry) Inquiry {
	return Inquiry{
		ID: row.ID, Kind: Kind(row.Kind), AskedBy: row.AskedBy, CreatedAt: row.CreatedAt, State: row.State,
		Done: row.Done, Total: row.Total, Answer: row.Answer, Note: row.Note, FinishedAt: row.FinishedAt,
	}
}

// Jobs asks for work in the transaction that makes it necessary.
type Jobs interface {
	Answer(ctx context.Context, tx *store.Tx, id int64) error
}

// An Answerer answers questions of one kind. The question is the JSON that was
// asked with, and the answer is kept as JSON. It calls progress with how much is
// done of how much there is, as often as it likes. What it returns as a
// [*fault.Fault] ends the inquiry with its words.
type Answerer func(ctx context.Context, question []byte, progress func(done, total int64)) (any, error)

// Service takes questions, and answers them.
type Service struct {
	store   *store.Store
	jobs    Jobs
	answers map[Kind]Answerer
	now     func() time.Time
}

// New returns a Service.
func New(s *store.Store, jobs Jobs, answers map[Kind]Answerer, now func() time.Time) *Service {
	return &Service{s, jobs, answers, now}
}

// kept is how long answers are kept.
const kept = 7 * 24 * time.Hour

// Ask takes a question, with the job that answers it.
func (s *Service) Ask(ctx context.Context, by string, kind Kind, question any) (Inquiry, error) {
	text, err := json.Marshal(question)
	if err != nil {
		return Inquiry{}, err
	}
	var out store.Inquiry
	err = s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		now := s.now()
		if err := tx.ForgetInquiries(ctx, now.Add(-kept)); err != nil {
			return err
		}
		var isNew bool
		if out, isNew, err = tx.AskInquiry(
			ctx, store.Inquiry{Kind: string(kind), Question: text, AskedBy: by, CreatedAt: now},
		); err != nil || !isNew {
			return err
		}
		return s.jobs.Answer(ctx, tx, out.ID)
	})
	return inquiryOf(out), err
}

// Get returns an inquiry by its number.
func (s *Service) Get(ctx context.Context, id int64) (Inquiry, error) {
	row, err := s.store.Inquiry(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		err = fault.New(fault.NotFound, fault.InquiryUnknown, "There is no inquiry %d; answers are kept for a week.", id).
			Advise("Ask again.")
	}
	return inquiryOf(row), err
}

// pace is how often progress is stored at most.
const pace = 300 * time.Millisecond

// Run answers an inquiry. It may be repeated at any point.
func (s *Service) Run(ctx context.Context, id int64) error {
	q, err := s.store.Inquiry(ctx, id)
	if errors.Is(err, store.ErrNotFound) || err == nil && q.State != state.RunWaiting {
		return nil
	}
	if err != nil {
		return err
	}
	var last time.Time
	var lost error
	answer, err := s.answers[Kind(q.Kind)](ctx, q.Question, func(done, total int64) {
		if now := s.now(); now.Sub(last) >= pace {
			last, lost = now, s.store.InquiryProgress(ctx, id, done, total)
		}
	})
	var f *fault.Fault
	if errors.As(err, &f) && f.Kind != fault.Unavailable {
		return s.end(ctx, id, state.RunFailed, nil, f.Error())
	}
	if err = errors.Join(err, lost); err != nil {
		return err
	}
	text, err := json.Marshal(answer)
	if err != nil {
		return err
	}
	return s.end(ctx, id, state.RunDone, text, "")
}

// Abandon ends an inquiry that cannot be answered.
func (s *Service) Abandon(ctx context.Context, id int64, cause error) error {
	return s.end(ctx, id, state.RunFailed, nil, fault.Abandoned(cause))
}

func (s *Service) end(ctx context.Context, id int64, ended state.Run, answer []byte, note string) error {
	return s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		return tx.EndInquiry(ctx, id, ended, answer, note, s.now())
	})
}
