package batches

import (
	"context"
	"errors"
	"fmt"

	"endeixis/core/measure"
	"endeixis/core/plain"
	"endeixis/core/verify"
	"endeixis/internal/fault"
	"endeixis/internal/query"
	"endeixis/internal/recorded"
	"endeixis/internal/records"
	"endeixis/internal/state"
	"endeixis/internal/store"
)

// A batch that is ended before it is done is stopped first: that is the decision,
// with who and why. Then every item that has no outcome gets one, that it was not
// measured, and the batch is closed.

// Cancel stops a batch of one's own, with a reason. What is measured stays.
func (s *Service) Cancel(ctx context.Context, by string, id int64, reason string) (query.Batch, error) {
	return s.cancel(ctx, by, id, reason, func(b store.Batch) error {
		if b.AskedBy == by {
			return nil
		}
		return fault.New(fault.Denied, fault.NotYours, "Batch %d was asked for by %s.", id, b.AskedBy).
			Advise("Ask them, or a curator, to cancel it.")
	})
}

// CancelAny stops anybody's batch, as a curator may.
func (s *Service) CancelAny(ctx context.Context, by string, id int64, reason string) (query.Batch, error) {
	return s.cancel(ctx, by, id, reason, func(store.Batch) error { return nil })
}

func (s *Service) cancel(
	ctx context.Context, by string, id int64, reason string, allowed func(store.Batch) error,
) (query.Batch, error) {
	if err := fault.Reason(reason, "A cancellation"); err != nil {
		return query.Batch{}, err
	}
	err := s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		now, err := tx.LockBatch(ctx, id)
		if err != nil {
			return unknown(id, err)
		}
		b, err := tx.Tally(ctx, id)
		switch {
		case err != nil:
			return err
		case now.Ended():
			return fault.New(fault.Conflict, fault.BatchEnded, "Batch %d has ended already, as %s.", id, now)
		case b.StopState != nil:
			return fault.New(fault.Conflict, fault.BatchEnding, "Batch %d is being ended already.", id)
		}
		if err := allowed(b); err != nil {
			return err
		}
		if _, err := s.records.Append(
			ctx, tx, records.Entry{By: by, Subject: b.Source, Body: recorded.BatchCancelled{Batch: id, Reason: reason}},
		); err != nil {
			return err
		}
		return s.stop(ctx, tx, b, state.BatchCancelled, by, reason)
	})
	if err != nil {
		return query.Batch{}, err
	}
	return s.Get(ctx, id)
}

// stop decides that a batch is ended. One that was not surveyed has no items, and
// is closed at once.
func (s *Service) stop(ctx context.Context, tx *store.Tx, b store.Batch, as state.Batch, by, reason string) error {
	if err := tx.StopBatch(ctx, b.ID, as, by, reason); err != nil {
		return err
	}
	b.StopState, b.StopBy, b.StopReason = &as, by, reason
	if b.State == state.BatchWaiting {
		return s.closeStopped(ctx, tx, b)
	}
	if err := tx.Announce(ctx, b.ID); err != nil {
		return err
	}
	return s.jobs.End(ctx, tx, b.ID)
}

// closeStopped closes a batch that was stopped.
func (s *Service) closeStopped(ctx context.Context, tx *store.Tx, b store.Batch) error {
	note := b.StopReason
	if *b.StopState == state.BatchCancelled {
		note = fmt.Sprintf("Cancelled by %s: %s", b.StopBy, b.StopReason)
	}
	return s.close(ctx, tx, b, nil, *b.StopState, "", note)
}

func stoppedOf(b store.Batch) *recorded.Stopped {
	if b.StopState == nil {
		return nil
	}
	return &recorded.Stopped{As: *b.StopState, By: b.StopBy, Reason: b.StopReason}
}

// End gives what has no outcome in a stopped batch its outcome, slice by slice, and
// closes the batch. It may be repeated at any point.
func (s *Service) End(ctx context.Context, id int64) error {
	b, err := s.batch(ctx, id)
	if err != nil || b.State.Ended() {
		return err
	}
	lapsed := false
	if b.StopState == nil {
		if lapsed, err = s.lapsed(ctx, s.store, b); err != nil || !lapsed {
			return err
		}
	}
	ring, err := s.ringOf(ctx, b)
	if err != nil {
		return err
	}
	session, err := s.Session(ctx, b, ring)
	if err != nil {
		return err
	}
	numbers, err := s.store.SliceNumbers(ctx, id)
	if err != nil {
		return err
	}
	why := "the batch could not go on before it was read"
	switch {
	case lapsed:
		why = fmt.Sprintf(
			"the %s on %s, which had it, did not send what was asked", sourceOf(b).Kind, plain.Text(sourceOf(b).Host()),
		)
	case *b.StopState == state.BatchCancelled:
		why = "the batch was cancelled before it was read"
	}
	for _, slice := range numbers {
		rows, err := s.store.SliceItems(ctx, id, slice)
		if err != nil {
			return err
		}
		items, err := itemsOf(rows)
		if err != nil {
			return err
		}
		left := make([]verify.Item, len(rows))
		w := s.witness(b.AskedBy)
		for i, item := range items {
			left[i] = verify.Item{
				N: rows[i].N, Planned: item,
				Measurement: measure.Measurement{Problem: &measure.Problem{Code: measure.NotMeasured, Message: why}},
			}
			left[i].Measurement.Sign(w)
		}
		for len(left) > 0 {
			n := min(len(left), s.limits.SliceItems)
			if err := session.Settle(ctx, left[:n], verify.Bytes{}, otherFiles{store: s.store, batch: id}); err != nil {
				return err
			}
			keep := s.keepSome
			if lapsed && n == len(left) {
				keep = s.keepLast
			}
			if err := keep(ctx, b, slice, left[:n]); err != nil {
				return err
			}
			left = left[n:]
		}
	}
	if lapsed {
		_, err := s.Finish(ctx, id)
		return err
	}
	return s.Close(ctx, id)
}

// measurers is asked who measures, over the pool or in a transaction.
type measurers interface {
	Measurer(ctx context.Context, batch int64) (store.Measurer, error)
}

// lapsed reports whether a batch ends because its measurer is gone.
func (s *Service) lapsed(ctx context.Context, from measurers, b store.Batch) (bool, error) {
	if !sourceOf(b).HasMeasurer() {
		return false, nil
	}
	m, err := from.Measurer(ctx, b.ID)
	return m.Lapsed && b.State == state.BatchMeasuring, err
}

// Close closes a stopped batch when nobody can store anything of it any more, also
// one of which some items could not be given an outcome, however often that was tried.
func (s *Service) Close(ctx context.Context, id int64) error {
	return s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		if err := tx.LockSlices(ctx, id); err != nil {
			return err
		}
		now, err := tx.LockBatch(ctx, id)
		if err != nil || now.Ended() {
			return err
		}
		b, err := tx.Tally(ctx, id)
		if err != nil || b.StopState == nil {
			return err
		}
		return s.closeStopped(ctx, tx, b)
	})
}

// Abandon stops a batch of which a step has failed each time it was tried.
func (s *Service) Abandon(ctx context.Context, id int64, cause error) error {
	b, err := s.batch(ctx, id)
	if err != nil {
		return err
	}
	return s.fail(ctx, b, errors.New(fault.Abandoned(cause)))
}

// fail stops a batch that cannot be carried out. Trouble with the database is no
// such reason: then the error is returned and the step is tried again.
func (s *Service) fail(ctx context.Context, b store.Batch, cause error) error {
	if fault.Is(cause, fault.DatabaseDown) || fault.Is(cause, fault.DatabaseFull) {
		return cause
	}
	return s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		now, err := tx.LockBatch(ctx, b.ID)
		if err != nil || now.Ended() {
			return err
		}
		if b, err = tx.Tally(ctx, b.ID); err != nil || b.StopState != nil {
			return err
		}
		return s.stop(ctx, tx, b, state.BatchFailed, "", plain.Text(cause.Error()))
	})
}
