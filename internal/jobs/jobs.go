// Package jobs drives batches through their stages on a queue in the database
// (river), so that any number of processes share the work and none of it is
// lost with one of them. There is one queue for each depot.
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

	"endeixis/internal/batches"
	"endeixis/internal/store"
)

// SurveyArgs ask for the survey of a batch.
type SurveyArgs struct {
	Batch int64  `json:"batch" river:"unique"`
	Depot string `json:"depot"`
}

// Kind names the job.
func (SurveyArgs) Kind() string { return "survey-batch" }

// InsertOpts puts the job on its depot's queue, once.
func (a SurveyArgs) InsertOpts() river.InsertOpts { return options(a.Depot) }

// SliceArgs ask for the measuring of a slice.
type SliceArgs struct {
	Batch int64  `json:"batch" river:"unique"`
	Slice int    `json:"slice" river:"unique"`
	Depot string `json:"depot"`
}

// Kind names the job.
func (SliceArgs) Kind() string { return "measure-slice" }

// InsertOpts puts the job on its depot's queue, once.
func (a SliceArgs) InsertOpts() river.InsertOpts { return options(a.Depot) }

func options(depot string) river.InsertOpts {
	return river.InsertOpts{
		Queue: queue(depot),
		UniqueOpts: river.UniqueOpts{ByArgs: true, ByState: []rivertype.JobState{
			rivertype.JobStateAvailable, rivertype.JobStatePending, rivertype.JobStateRetryable, rivertype.JobStateRunning, rivertype.JobStateScheduled,
		}},
	}
}

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
	o := options("")
	o.Queue = reassessments
	return o
}

func queue(depot string) string { return "depot-" + depot }

// Runner owns the queue's client in this process.
type Runner struct {
	store   *store.Store
	batches *batches.Service
	client  *river.Client[pgx.Tx]
	log     *slog.Logger
	id      string

	mu   sync.Mutex
	lock *store.WorkerLock
	stop context.CancelFunc
	done sync.WaitGroup
}

// New returns a Runner for the queues of the depots; workers is how many jobs
// run at once, 0 for one on each core.
func New(s *store.Store, b *batches.Service, depots []string, workers int, log *slog.Logger) (*Runner, error) {
	if workers <= 0 {
		workers = runtime.NumCPU()
	}
	host, err := os.Hostname()
	if err != nil {
		host = "host"
	}
	random := make([]byte, 6)
	rand.Read(random) //nolint:errcheck // never fails
	r := &Runner{store: s, batches: b, log: log, id: fmt.Sprintf("%.40s-%d-%s", host, os.Getpid(), hex.EncodeToString(random))}
	workersOf := river.NewWorkers()
	river.AddWorker(workersOf, &surveyWorker{runner: r})
	river.AddWorker(workersOf, &sliceWorker{runner: r})
	river.AddWorker(workersOf, &reassessWorker{runner: r})
	queues := map[string]river.QueueConfig{reassessments: {MaxWorkers: 1}}
	for _, depot := range depots {
		queues[queue(depot)] = river.QueueConfig{MaxWorkers: workers}
	}
	r.client, err = river.NewClient(riverpgxv5.New(s.Pool), &river.Config{
		ID: r.id, Queues: queues, Workers: workersOf, Logger: slog.New(quiet{log.Handler()}),
		JobTimeout:           -1,             // a file may be of any size
		RescueStuckJobsAfter: 24 * time.Hour, // our own sweep is quicker
		FetchPollInterval:    500 * time.Millisecond,
		RetryPolicy:          patient{},
	})
	return r, err
}

// patient waits a little longer after each failure, up to a minute: what fails
// here is the database, and it comes back.
type patient struct{}

func (patient) NextRetry(job *rivertype.JobRow) time.Time {
	return time.Now().Add(min(time.Duration(len(job.Errors)+1)*time.Second, time.Minute))
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
				r.log.Warn("sweeping for unfinished batches", "error", err)
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

// Enqueue asks for the survey of a new batch. When it fails, the sweep does it
// later.
func (r *Runner) Enqueue(ctx context.Context, batch int64, depot string) error {
	_, err := r.client.Insert(ctx, SurveyArgs{Batch: batch, Depot: depot}, nil)
	return err
}

// Reassess asks for a reassessment. When it fails, the sweep does it later.
func (r *Runner) Reassess(ctx context.Context, id int64) error {
	_, err := r.client.Insert(ctx, ReassessArgs{Reassessment: id}, nil)
	return err
}

// Sweep takes up what fell to the ground: jobs of dead workers, stored batches
// whose job is missing, and batches with nothing left to do but to be closed.
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
	waiting, err := r.store.Reassessments(ctx, true, 100)
	if err != nil {
		return err
	}
	for _, a := range waiting {
		if err := r.Reassess(ctx, a.ID); err != nil {
			return err
		}
	}
	open, err := r.store.Unfinished(ctx)
	if err != nil {
		return err
	}
	for _, b := range open {
		switch {
		case b.State == "waiting":
			err = r.Enqueue(ctx, b.Batch, b.Depot)
		case len(b.Slices) > 0:
			err = r.enqueueSlices(ctx, b.Batch, b.Depot, b.Slices)
		default:
			_, err = r.batches.Finish(ctx, b.Batch)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (r *Runner) enqueueSlices(ctx context.Context, batch int64, depot string, slices []int) error {
	var params []river.InsertManyParams
	for _, slice := range slices {
		params = append(params, river.InsertManyParams{Args: SliceArgs{Batch: batch, Slice: slice, Depot: depot}})
	}
	_, err := r.client.InsertMany(ctx, params)
	return err
}

type surveyWorker struct {
	river.WorkerDefaults[SurveyArgs]
	runner *Runner
}

// Work surveys a batch and asks for its slices.
func (w *surveyWorker) Work(ctx context.Context, job *river.Job[SurveyArgs]) error {
	slices, err := w.runner.batches.Survey(ctx, job.Args.Batch)
	if err != nil {
		return err
	}
	if len(slices) > 0 {
		return w.runner.enqueueSlices(ctx, job.Args.Batch, job.Args.Depot, slices)
	}
	_, err = w.runner.batches.Finish(ctx, job.Args.Batch)
	return err
}

type reassessWorker struct {
	river.WorkerDefaults[ReassessArgs]
	runner *Runner
}

// Work judges again what a reassessment selects.
func (w *reassessWorker) Work(ctx context.Context, job *river.Job[ReassessArgs]) error {
	return w.runner.batches.RunReassessment(ctx, job.Args.Reassessment)
}

type sliceWorker struct {
	river.WorkerDefaults[SliceArgs]
	runner *Runner
}

// Work measures a slice, and closes the batch if it was the last.
func (w *sliceWorker) Work(ctx context.Context, job *river.Job[SliceArgs]) error {
	if err := w.runner.batches.Measure(ctx, job.Args.Batch, job.Args.Slice); err != nil {
		return err
	}
	_, err := w.runner.batches.Finish(ctx, job.Args.Batch)
	return err
}
