package jobs

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"
	"syscall"
	"time"

	"github.com/riverqueue/river"
	"github.com/riverqueue/river/rivertype"

	"endeixis/internal/fault"
)

const (
	// tries is how often a step that fails is tried before its work is ended.
	tries = 5
	// patientTries is the same for a step that finds something away which may
	// come back, such as a depot's file system: with the pauses between, some
	// minutes.
	patientTries = 30
	// crashes is how often a worker may be gone in the middle of a step. It is
	// large: a service that is stopped many times is no fault of the step.
	crashes = 50
	// maxAttempts is for the queue, which is not to give up before we do.
	maxAttempts = 10_000
	// pause is how long work waits for what may pass by itself.
	pause = 2 * time.Second
)

// patient waits a little longer after each failure, up to a minute.
type patient struct{}

func (patient) NextRetry(job *rivertype.JobRow) time.Time {
	return time.Now().Add(min(time.Duration(len(job.Errors)+1)*time.Second, time.Minute))
}

// attempt does a step. What may pass is waited for: a database that is away, a
// host out of files or space, a worker that is stopped. What fails otherwise is
// tried again a few times; then end closes the work, with why, and the job never
// comes back by itself.
func (r *Runner) attempt(
	ctx context.Context, job *rivertype.JobRow, step func(context.Context) error,
	end func(ctx context.Context, cause error) error,
) error {
	err := fmt.Errorf("the program that did it was gone %d times before it was done", crashes)
	if job.Attempt-1-len(job.Errors) < crashes {
		err = r.guarded(ctx, job, step)
	}
	switch {
	case err == nil:
		return nil
	case ctx.Err() != nil || passes(err):
		return river.JobSnooze(pause)
	case job.Attempt-1-len(job.Errors) < crashes && len(job.Errors)+1 < triesFor(err):
		r.log.Warn(
			"a step failed and will be tried again", "job", job.Kind, "args", string(job.EncodedArgs), "failures",
			len(job.Errors)+1, "error", err,
		)
		return err
	}
	if ended := end(ctx, err); ended != nil {
		r.log.Error(
			"a step that fails could not be ended", "job", job.Kind, "args", string(job.EncodedArgs), "error",
			errors.Join(err, ended),
		)
		return river.JobSnooze(time.Minute)
	}
	r.log.Error("a step was given up", "job", job.Kind, "args", string(job.EncodedArgs), "error", err)
	return river.JobCancel(err)
}

// guarded turns a panic into an error.
func (r *Runner) guarded(ctx context.Context, job *rivertype.JobRow, step func(context.Context) error) (err error) {
	defer func() {
		if v := recover(); v != nil {
			r.log.Error(
				"a step panicked", "job", job.Kind, "args", string(job.EncodedArgs), "panic", v, "stack",
				string(debug.Stack()),
			)
			err = errors.New("the program met a state that it does not know")
		}
	}()
	return step(ctx)
}

// triesFor tells how often a step that fails with an error is tried.
func triesFor(err error) int {
	var f *fault.Fault
	if errors.As(err, &f) && f.Kind == fault.Unavailable {
		return patientTries
	}
	return tries
}

// passes reports whether an error is of the kind that passes by itself.
func passes(err error) bool {
	return fault.Is(err, fault.DatabaseDown) || fault.Is(err, fault.DatabaseFull) || errors.Is(err, syscall.EMFILE) ||
		errors.Is(err, syscall.ENFILE) ||
		errors.Is(err, syscall.ENOSPC)
}
