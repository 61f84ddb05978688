// Package jobs drives batches through their stages on a queue in the database
// (river), so that any number of processes share the work and none of it is
// lost with one of them. There is one queue for each depot, one for judging again,
// and one for inquiries.
package jobs

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"log/slog"
	"os"
	"runtime"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivertype"

	"endeixis/internal/sources"
	"endeixis/internal/state"
	"endeixis/internal/store"
)

// SurveyArgs ask for the survey of a batch.
type SurveyArgs struct {
	Batch int64  `json:"batch" river:"unique"`
	Queue string `json:"queue"`
}

// Kind names the job.
func (SurveyArgs) Kind() string { return "survey-batch" }

// InsertOpts puts the job on its source's queue, once.
func (a SurveyArgs) InsertOpts() river.InsertOpts { return options(a.Queue) }

// SliceArgs ask for the measuring of a slice.
type SliceArgs struct {
	Batch int64  `json:"batch" river:"unique"`
	Slice int    `json:"slice" river:"unique"`
	Queue string `json:"queue"`
}

// Kind names the job.
func (SliceArgs) Kind() string { return "measure-slice" }

// InsertOpts puts the job on its source's queue, once.
func (a SliceArgs) InsertOpts() river.InsertOpts { return options(a.Queue) }

func options(queue string) river.InsertOpts {
	return river.InsertOpts{
		Queue: queue, MaxAttempts: maxAttempts,
		UniqueOpts: river.UniqueOpts{ByArgs: true, ByState: []rivertype.JobState{
			rivertype.JobStateAvailable,
			rivertype.JobStatePending,
			rivertype.JobStateRetryable,
			rivertype.JobStateRunning,
			rivertype.JobStateScheduled,
		}},
	}
}

// CloseArgs ask for a batch to be closed of which everything is measured.
type CloseArgs struct {
	Batch int64  `json:"batch" river:"unique"`
	Queue string `json:"queue"`
}

// Kind names the job.
func (CloseArgs) Kind() string { return "close-batch" }

// InsertOpts puts the job on its source's queue, once.
func (a CloseArgs) InsertOpts() river.InsertOpts { return options(a.Queue) }

// EndArgs ask for the end of a batch that was stopped.
type EndArgs struct {
	Batch int64 `json:"batch" river:"unique"`
}

// Kind names the job.
func (EndArgs) Kind() string { return "end-batch" }

// endings is a queue of its own: no depot is needed, and nothing is waited for.
const endings = "endings"

// InsertOpts puts the job on the queue of endings, once.
func (EndArgs) InsertOpts() river.InsertOpts { return options(endings) }

// large is the queue beside a depot's for slices that take long.
func large(queue string) string { return "large-" + queue }

// ReassessArgs ask for a reassessment.
type ReassessArgs struct {
	Reassessment int64 `json:"reassessment" river:"unique"`
}

// Kind names the job.
func (ReassessArgs) Kind() string { return "reassess" }

// reassessments is the queue of its own: they read no depot.
const reassessments = "reassessments"

// InsertOpts puts the job on the queue of reassessments, once.
func (ReassessArgs) InsertOpts() river.InsertOpts {
	return options(reassessments)
}

// AnswerArgs ask for the answer to an inquiry.
type AnswerArgs struct {
	Inquiry int64 `json:"inquiry" river:"unique"`
}

// Kind names the job.
func (AnswerArgs) Kind() string { return "answer" }

// questions is the queue of inquiries, so that they wait behind nothing else.
const questions = "inquiries"

// InsertOpts puts the job on the queue of inquiries, once.
func (AnswerArgs) InsertOpts() river.InsertOpts { return options(questions) }

// Batches carries out the steps. Each may be repeated at any point.
type Batches interface {
	// Survey and Measure do a part of a batch, and Finish closes it when no
	// part is left.
	Survey(ctx context.Context, batch int64) error
	Measure(ctx context.Context, batch int64, slice int) error
	Finish(ctx context.Context, batch int64) (closed bool, err error)
	// Abandon stops a batch of which a part cannot be done. End gives each item of
	// one that was stopped its outcome and closes it; Close only closes it.
	Abandon(ctx context.Context, batch int64, cause error) error
	End(ctx context.Context, batch int64) error
	Close(ctx context.Context, batch int64) error
}

// Numbered is work with a number: a reassessment, an inquiry. It may be repeated
// at any point.
type Numbered interface {
	Run(ctx context.Context, id int64) error
	Abandon(ctx context.Context, id int64, cause error) error
}

// Work is what a [Runner] carries out. Without Inquiries it answers none: that takes the key
// by which answers are signed.
type Work struct {
	Batches       Batches
	Reassessments Numbered
	Inquiries     Numbered
}

// Runner owns the queue's client in this process.
type Runner struct {
	store  *store.Store
	work   Work
	queue  *Queue
	client *river.Client[pgx.Tx]
	log    *slog.Logger
	id     string

	mu   sync.Mutex
	lock *store.WorkerLock
	stop context.CancelFunc
	done sync.WaitGroup
}

// Sizes say how many jobs run at once: Workers on a queue that reads files, 0 for one on each
// core, and Devices on that of devices, which mostly waits; 0 where none can be reached.
type Sizes struct{ Workers, Devices int }

// New returns a Runner for some queues and those that read no depot.
func New(s *store.Store, work Work, queue *Queue, queues []string, sizes Sizes, log *slog.Logger) (*Runner, error) {
	workers := sizes.Workers
	if workers <= 0 {
		workers = runtime.NumCPU()
	}
	host, err := os.Hostname()
	if err != nil {
		host = "host"
	}
	random := make([]byte, 6)
	rand.Read(random)
	r := &Runner{
		store: s, work: work, queue: queue, log: log,
		id: fmt.Sprintf("%.40s-%d-%s", host, os.Getpid(), hex.EncodeToString(random)),
	}
	workersOf := river.NewWorkers()
	river.AddWorker(workersOf, &surveyWorker{runner: r})
	river.AddWorker(workersOf, &sliceWorker{runner: r})
	river.AddWorker(workersOf, &closeWorker{runner: r})
	river.AddWorker(workersOf, &reassessWorker{runner: r})
	river.AddWorker(workersOf, &answerWorker{runner: r})
	river.AddWorker(workersOf, &endWorker{runner: r})
	configured := map[string]river.QueueConfig{reassessments: {MaxWorkers: 1}, endings: {MaxWorkers: 1}}
	if work.Inquiries != nil {
		configured[questions] = river.QueueConfig{MaxWorkers: 1}
	}
	if sizes.Devices > 0 {
		configured[sources.Devices] = river.QueueConfig{MaxWorkers: sizes.Devices}
	}
	for _, name := range queues {
		configured[name] = river.QueueConfig{MaxWorkers: workers}
		configured[large(name)] = river.QueueConfig{MaxWorkers: max(1, workers/2)}
	}
	r.client, err = river.NewClient(riverpgxv5.New(s.Pool), &river.Config{
		ID: r.id, Queues: configured, Workers: workersOf, Logger: slog.New(quiet{log.Handler()}),
		JobTimeout:           -1,             // a file may be of any size
		RescueStuckJobsAfter: 24 * time.Hour, // our own sweep is quicker
		FetchPollInterval:    500 * time.Millisecond,
		FetchCooldown:        20 * time.Millisecond, // what a place that came free waits for
		RetryPolicy:          patient{},
		// Only who owns the tables could rebuild their indexes.
		ReindexerIndexNames: []string{},
	})
	return r, err
}

// quiet lowers the queue's own chatter.
type quiet struct{ slog.Handler }

func (q quiet) Enabled(ctx context.Context, level slog.Level) bool {
	return level >= slog.LevelWarn && q.Handler.Enabled(ctx, level)
}

// Start takes up work until Stop.
func (r *Runner) Start(ctx context.Context) error {
	if err := r.hold(ctx); err != nil {
		return err
	}
	if err := r.adopt(ctx); err != nil {
		return err
	}
	if err := r.client.Start(context.WithoutCancel(ctx)); err != nil {
		return err
	}
	loop, cancel := context.WithCancel(context.WithoutCancel(ctx))
	r.stop = cancel
	r.done.Go(func() {
		tick := time.NewTicker(3 * time.Second)
		defer tick.Stop()
		for {
			if err := r.Sweep(loop); err != nil && loop.Err() == nil {
				r.log.Warn("looking for the jobs of workers that are gone", "error", err)
			}
			select {
			case <-loop.Done():
				return
			case <-tick.C:
			}
		}
	})
	return nil
}

// hold takes this worker's lock, or takes it again after the connection broke.
func (r *Runner) hold(ctx context.Context) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.lock != nil && r.lock.Alive(ctx) {
		return nil
	}
	lock, err := r.store.HoldWorker(ctx, r.id)
	if err != nil {
		return err
	}
	r.lock = lock
	return nil
}

// Stop lets running jobs end at their next safe point and gives up the rest.
func (r *Runner) Stop(ctx context.Context) error {
	r.stop()
	r.done.Wait()
	err := r.client.StopAndCancel(ctx)
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.lock != nil {
		r.lock.Release(ctx)
	}
	return err
}

// Sweep takes up the jobs of dead workers.
func (r *Runner) Sweep(ctx context.Context) error {
	if err := r.hold(ctx); err != nil {
		return err
	}
	rescued, err := r.store.RescueJobs(ctx)
	if err != nil {
		return err
	}
	if rescued > 0 {
		r.log.Info("took up the jobs of a worker that is gone", "jobs", rescued)
	}
	return nil
}

// adopt asks for the jobs of work that is open and has none: of a database that
// an earlier version wrote, which stored work and job apart, or that was
// restored without the queue. For work that has its job it does nothing.
func (r *Runner) adopt(ctx context.Context) error {
	return r.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		waiting, err := tx.Waiting(ctx)
		if err != nil {
			return err
		}
		for _, id := range waiting {
			if err := r.queue.Reassess(ctx, tx, id); err != nil {
				return err
			}
		}
		unanswered, err := tx.WaitingInquiries(ctx)
		if err != nil {
			return err
		}
		for _, id := range unanswered {
			if err := r.queue.Answer(ctx, tx, id); err != nil {
				return err
			}
		}
		open, err := tx.Unfinished(ctx)
		if err != nil {
			return err
		}
		for _, b := range open {
			on := sources.Queue(sources.Source{Kind: sources.Kind(b.SourceKind), Reference: b.Source})
			switch {
			case b.Stopping:
				err = r.queue.End(ctx, tx, b.Batch)
			case b.State == state.BatchWaiting:
				err = r.queue.Survey(ctx, tx, b.Batch, on)
			case len(b.Slices) == 0:
				err = r.queue.Close(ctx, tx, b.Batch, on)
			default:
				err = r.queue.Slices(ctx, tx, b.Batch, on, b.Slices)
			}
			if err != nil {
				return err
			}
		}
		return nil
	})
}

type surveyWorker struct {
	river.WorkerDefaults[SurveyArgs]
	runner *Runner
}

// Work surveys a batch, and closes it if nothing is left to measure.
func (w *surveyWorker) Work(ctx context.Context, job *river.Job[SurveyArgs]) error {
	return w.runner.batch(ctx, job.JobRow, job.Args.Batch, func(ctx context.Context, b Batches) error {
		return b.Survey(ctx, job.Args.Batch)
	})
}

type sliceWorker struct {
	river.WorkerDefaults[SliceArgs]
	runner *Runner
}

// Work measures a slice, and closes the batch if it was the last.
func (w *sliceWorker) Work(ctx context.Context, job *river.Job[SliceArgs]) error {
	return w.runner.batch(ctx, job.JobRow, job.Args.Batch, func(ctx context.Context, b Batches) error {
		return b.Measure(ctx, job.Args.Batch, job.Args.Slice)
	})
}

// batch does a step of a batch, and closes the batch if that was the last.
func (r *Runner) batch(
	ctx context.Context, job *rivertype.JobRow, id int64, step func(context.Context, Batches) error,
) error {
	return r.attempt(ctx, job, func(ctx context.Context) error {
		if err := step(ctx, r.work.Batches); err != nil {
			return err
		}
		_, err := r.work.Batches.Finish(ctx, id)
		return err
	}, func(ctx context.Context, cause error) error { return r.work.Batches.Abandon(ctx, id, cause) })
}

type closeWorker struct {
	river.WorkerDefaults[CloseArgs]
	runner *Runner
}

// Work closes a batch, unless something of it is still to be measured.
func (w *closeWorker) Work(ctx context.Context, job *river.Job[CloseArgs]) error {
	return w.runner.batch(ctx, job.JobRow, job.Args.Batch, func(context.Context, Batches) error { return nil })
}

type endWorker struct {
	river.WorkerDefaults[EndArgs]
	runner *Runner
}

// Work ends a batch that was stopped.
func (w *endWorker) Work(ctx context.Context, job *river.Job[EndArgs]) error {
	b := w.runner.work.Batches
	return w.runner.attempt(ctx, job.JobRow, func(ctx context.Context) error { return b.End(ctx, job.Args.Batch) },
		func(ctx context.Context, _ error) error { return b.Close(ctx, job.Args.Batch) })
}

type reassessWorker struct {
	river.WorkerDefaults[ReassessArgs]
	runner *Runner
}

// Work judges again what a reassessment selects.
func (w *reassessWorker) Work(ctx context.Context, job *river.Job[ReassessArgs]) error {
	return w.runner.numbered(ctx, job.JobRow, w.runner.work.Reassessments, job.Args.Reassessment)
}

type answerWorker struct {
	river.WorkerDefaults[AnswerArgs]
	runner *Runner
}

// Work answers an inquiry.
func (w *answerWorker) Work(ctx context.Context, job *river.Job[AnswerArgs]) error {
	return w.runner.numbered(ctx, job.JobRow, w.runner.work.Inquiries, job.Args.Inquiry)
}

func (r *Runner) numbered(ctx context.Context, job *rivertype.JobRow, work Numbered, id int64) error {
	return r.attempt(ctx, job, func(ctx context.Context) error { return work.Run(ctx, id) },
		func(ctx context.Context, cause error) error { return work.Abandon(ctx, id, cause) })
}
