package store

import (
	"context"
	"time"

	"endeixis/internal/state"
)

// An Inquiry is a question whose answer takes a while.
type Inquiry struct {
	ID         int64      `db:"id"`
	Kind       string     `db:"kind"`
	Question   []byte     `db:"question"`
	AskedBy    string     `db:"asked_by"`
	CreatedAt  time.Time  `db:"created_at"`
	State      state.Run  `db:"state"`
	Done       int64      `db:"done"`
	Total      int64      `db:"total"`
	Answer     []byte     `db:"answer"`
	Note       string     `db:"note"`
	FinishedAt *time.Time `db:"finished_at"`
}

// AskInquiry stores a question and returns it, or the same question that waits
// already; isNew tells which.
func (t *Tx) AskInquiry(ctx context.Context, q Inquiry) (out Inquiry, isNew bool, err error) {
	// Two who ask at once are to share one answer.
	if _, err := t.tx.ExecContext(ctx, `SELECT pg_advisory_xact_lock(hashtext('inquiries'))`); err != nil {
		return out, false, err
	}
	err = explain(
		t.tx.GetContext(
			ctx, &out, `SELECT * FROM inquiries WHERE state = 'waiting' AND kind = $1 AND question = $2::jsonb LIMIT 1`,
			q.Kind, string(q.Question),
		),
	)
	if err == nil || err != ErrNotFound { //nolint:errorlint // explain returns it bare
		return out, false, err
	}
	err = t.tx.GetContext(
		ctx, &out, `INSERT INTO inquiries (kind, question, asked_by, created_at) VALUES ($1, $2, $3, $4) RETURNING *`,
		q.Kind, string(q.Question), q.AskedBy, q.CreatedAt,
	)
	return out, true, explain(err)
}

// ForgetInquiries removes those that ended before a time.
func (t *Tx) ForgetInquiries(ctx context.Context, before time.Time) error {
	_, err := t.tx.ExecContext(ctx, `DELETE FROM inquiries WHERE state <> 'waiting' AND finished_at < $1`, before)
	return err
}

// Inquiry returns one question, or [ErrNotFound].
func (s Reads) Inquiry(ctx context.Context, id int64) (Inquiry, error) {
	var out Inquiry
	err := s.q.GetContext(ctx, &out, `SELECT * FROM inquiries WHERE id = $1`, id)
	return out, explain(err)
}

// WaitingInquiries lists the numbers of the questions without an answer.
func (s Reads) WaitingInquiries(ctx context.Context) ([]int64, error) {
	out := []int64{}
	err := s.q.SelectContext(ctx, &out, `SELECT id FROM inquiries WHERE state = 'waiting' ORDER BY id`)
	return out, explain(err)
}

// InquiryProgress notes how far an answer has come.
func (s *Store) InquiryProgress(ctx context.Context, id, done, total int64) error {
	return s.Do(ctx, func(ctx context.Context, tx *Tx) error {
		_, err := tx.tx.ExecContext(
			ctx, `UPDATE inquiries SET done = $2, total = $3 WHERE id = $1 AND state = 'waiting'`, id, done, total,
		)
		return err
	})
}

// EndInquiry stores the answer, or why there is none. What has ended stays as it
// is.
func (t *Tx) EndInquiry(
	ctx context.Context, id int64, ended state.Run, answer []byte, note string, at time.Time,
) error {
	var stored *string
	if answer != nil {
		text := string(answer)
		stored = &text
	}
	_, err := t.tx.ExecContext(
		ctx,
		`UPDATE inquiries SET state = $2, answer = $3::jsonb, note = $4, finished_at = $5,
			done = CASE WHEN $2 = 'done' THEN total ELSE done END
		WHERE id = $1 AND state = 'waiting'`,
		id,
		ended,
		stored,
		note,
		at,
	)
	return err
}
