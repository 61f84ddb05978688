package jobs

import (
	"context"
	"database/sql"
	"log/slog"

	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverdatabasesql"

	"endeixis/internal/store"
)

// A Queue takes jobs in the transaction that makes them necessary: they are
// there when it is committed, and only then. It works on none; that is for a
// [Runner], in this process or another.
type Queue struct{ client *river.Client[*sql.Tx] }

// NewQueue returns a Queue.
func NewQueue() (*Queue, error) {
	// What goes wrong is returned, or ends the transaction; it is not logged too.
	client, err := river.NewClient(riverdatabasesql.New(nil), &river.Config{Logger: slog.New(slog.DiscardHandler)})
	return &Queue{client}, err
}

// Survey asks for the survey of a batch.
func (q *Queue) Survey(ctx context.Context, tx *store.Tx, batch int64, queue string) error {
	return q.insert(ctx, tx, SurveyArgs{Batch: batch, Queue: queue})
}

// Slices asks for the measuring of slices of a batch.
func (q *Queue) Slices(ctx context.Context, tx *store.Tx, batch int64, queue string, slices []store.DueSlice) error {
	if len(slices) == 0 {
		return nil
	}
	args := make([]river.JobArgs, len(slices))
	for i, slice := range slices {
		on := queue
		if slice.Large {
			on = large(queue)
		}
		args[i] = SliceArgs{Batch: batch, Slice: slice.N, Queue: on}
	}
	return q.insert(ctx, tx, args...)
}

// Close asks for a batch to be closed of which everything is measured.
func (q *Queue) Close(ctx context.Context, tx *store.Tx, batch int64, queue string) error {
	return q.insert(ctx, tx, CloseArgs{Batch: batch, Queue: queue})
}

// End asks for the end of a batch that was stopped.
func (q *Queue) End(ctx context.Context, tx *store.Tx, batch int64) error {
	return q.insert(ctx, tx, EndArgs{Batch: batch})
}

// insert asks for jobs that are due at once.
func (q *Queue) insert(ctx context.Context, tx *store.Tx, args ...river.JobArgs) error {
	params := make([]river.InsertManyParams, len(args))
	for i := range args {
		params[i].Args = args[i]
	}
	inserted, err := q.client.InsertManyTx(ctx, tx.SQL(), params)
	if err != nil {
		return err
	}
	ids := make([]int64, len(inserted))
	for i, r := range inserted {
		ids[i] = r.Job.ID
	}
	return tx.DueNow(ctx, ids)
}

// Answer asks for the answer to an inquiry.
func (q *Queue) Answer(ctx context.Context, tx *store.Tx, id int64) error {
	return q.insert(ctx, tx, AnswerArgs{Inquiry: id})
}

// Reassess asks for a reassessment.
func (q *Queue) Reassess(ctx context.Context, tx *store.Tx, id int64) error {
	return q.insert(ctx, tx, ReassessArgs{Reassessment: id})
}
