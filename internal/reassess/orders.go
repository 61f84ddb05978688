// Package reassess judges stored measurements again: on somebody's request, or
// because a key has fallen on which something rests.
package reassess

import (
	"context"
	"encoding/json"
	"time"

	"endeixis/core/judge"
	"endeixis/core/openpgp"
	"endeixis/core/verify"
	"endeixis/internal/records"
	"endeixis/internal/state"
	"endeixis/internal/store"
)

// A Selection says what is judged again. At least one field is set, or All.
type Selection struct {
	Batch     int64               `json:"batch,omitempty"`
	Publisher string              `json:"publisher,omitempty"`
	Key       openpgp.Fingerprint `json:"key,omitempty"`
	From      *time.Time          `json:"from,omitempty"`
	To        *time.Time          `json:"to,omitempty"`
	// Waiting limits it to batches in which something is not cleared.
	Waiting bool `json:"waiting,omitempty"`
	All     bool `json:"all,omitempty"`
}

// Empty reports whether nothing is selected.
func (s Selection) Empty() bool {
	return s.Batch == 0 && s.Publisher == "" && s.Key == "" && s.From == nil && s.To == nil && !s.Waiting &&
		!s.All
}

// String says what is selected, for people.
func (s Selection) String() string {
	switch {
	case s.Key != "":
		return string(s.Key)
	case s.Publisher != "":
		return s.Publisher
	case s.Batch != 0:
		return "one batch"
	case s.From != nil || s.To != nil:
		return "a period"
	case s.Waiting:
		return "what is not cleared"
	}
	return "everything"
}

// Jobs asks for work in the transaction that makes it necessary.
type Jobs interface {
	Reassess(ctx context.Context, tx *store.Tx, id int64) error
}

// Orders stores what is to be judged again, each with the job that does it, in
// the transaction of the decision that it follows from.
type Orders struct {
	jobs    Jobs
	records *records.Service
	now     func() time.Time
}

// NewOrders returns Orders that are carried out by the queue.
func NewOrders(jobs Jobs, r *records.Service, now func() time.Time) *Orders {
	return &Orders{jobs, r, now}
}

// Place orders a reassessment with the keyring as of a time and the policy in
// force.
func (o *Orders) Place(
	ctx context.Context, tx *store.Tx, by string, at time.Time, sel Selection, reason string,
) (store.Reassessment, error) {
	version, err := tx.PolicyVersion(ctx)
	if err != nil {
		return store.Reassessment{}, err
	}
	r, err := o.add(ctx, tx, by, at, version, sel, reason)
	if err != nil {
		return store.Reassessment{}, err
	}
	return r, o.jobs.Reassess(ctx, tx, r.ID)
}

func (o *Orders) add(
	ctx context.Context, tx *store.Tx, by string, at time.Time, policy int64, sel Selection, reason string,
) (store.Reassessment, error) {
	text, err := json.Marshal(sel)
	if err != nil {
		return store.Reassessment{}, err
	}
	r := store.Reassessment{
		Reason: reason, Selection: text, PolicyVersion: policy, AskedBy: by, CreatedAt: at, State: state.RunWaiting,
	}
	r.ID, err = tx.AddReassessment(ctx, r)
	return r, err
}

// A Run is a reassessment that is carried out in the transaction that makes it
// necessary.
type Run struct {
	orders *Orders
	row    store.Reassessment
	items  int
}

// Begin begins one, with what is in force: a policy version, and the keyring as of a
// time.
func (o *Orders) Begin(
	ctx context.Context, tx *store.Tx, by string, at time.Time, policy int64, sel Selection, reason string,
) (*Run, error) {
	row, err := o.add(ctx, tx, by, at, policy, sel, reason)
	return &Run{orders: o, row: row}, err
}

// Batch judges all items of a stored batch again in a session, and keeps the verdicts
// that change. changed is told of each.
func (r *Run) Batch(
	ctx context.Context, tx *store.Tx, id int64, session *verify.Session, changed func(before, after judge.Verdict),
) error {
	for after := -1; ; {
		rows, err := tx.StoredItems(ctx, id, after, chunk)
		if err != nil || len(rows) == 0 {
			return err
		}
		after = rows[len(rows)-1].N
		r.items += len(rows)
		if err := r.orders.held(ctx, tx.Reads, rows); err != nil {
			return err
		}
		judged, err := judgeAgain(ctx, session, id, rows, nil)
		if err != nil {
			return err
		}
		judged = differing(judged)
		for _, j := range judged {
			changed(j.Before, j.Outcome.Verdict)
		}
		if err := r.orders.keep(ctx, tx, r.row, judged); err != nil {
			return err
		}
	}
}

// held proves that items are judged again by what this program has written.
func (o *Orders) held(ctx context.Context, reads store.Reads, rows []store.StoredItem) error {
	from := make([]store.Record, len(rows))
	for i := range rows {
		from[i] = rows[i].Record
	}
	return o.records.Held(ctx, reads, from)
}

// End ends it, and returns its number.
func (r *Run) End(ctx context.Context, tx *store.Tx) (int64, error) {
	return r.row.ID, r.orders.end(ctx, tx, r.row, state.RunDone, "", r.items)
}

// KeyChanged orders that what a signature by a key bears on be judged again: the key counts from
// now on, or no longer, or says something else than before. issuers are what signatures by it may
// name. It returns the number of the reassessment, or 0 where no signature names one of them.
func (o *Orders) KeyChanged(
	ctx context.Context, tx *store.Tx, by string, at time.Time, key openpgp.Fingerprint, issuers []string,
	reason string,
) (int64, error) {
	return o.follow(ctx, tx, by, at, Selection{Key: key}, store.Selection{Issuers: issuers}, reason)
}

// RulesChanged orders that everything be judged again by what is asked of evidence from now on. It
// returns the number of the reassessment, or 0 where nothing has been verified.
func (o *Orders) RulesChanged(
	ctx context.Context, tx *store.Tx, by string, at time.Time, reason string,
) (int64, error) {
	return o.follow(ctx, tx, by, at, Selection{All: true}, store.Selection{}, reason)
}

// RulesLoosened orders, as [Orders.RulesChanged] does, that what is not cleared be judged again: less
// is asked of evidence from now on, and of nothing more.
func (o *Orders) RulesLoosened(
	ctx context.Context, tx *store.Tx, by string, at time.Time, reason string,
) (int64, error) {
	return o.follow(ctx, tx, by, at, Selection{Waiting: true}, store.Selection{Waiting: true}, reason)
}

// follow places an order that follows from a decision, if it concerns a batch.
func (o *Orders) follow(
	ctx context.Context, tx *store.Tx, by string, at time.Time, sel Selection, stored store.Selection, reason string,
) (int64, error) {
	concerned, err := tx.SelectsBatch(ctx, stored)
	if err != nil || !concerned {
		return 0, err
	}
	r, err := o.Place(ctx, tx, by, at, sel, reason)
	return r.ID, err
}
