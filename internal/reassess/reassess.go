package reassess

import (
	"context"
	"time"

	"golang.org/x/sync/errgroup"

	"endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/core/measure"
	"endeixis/core/openpgp"
	"endeixis/core/survey"
	"endeixis/core/verify"
	"endeixis/internal/keys"
	"endeixis/internal/policy"
	"endeixis/internal/publishers"
	"endeixis/internal/recorded"
	"endeixis/internal/records"
	"endeixis/internal/store"
)

// Sessions put together what the items of a stored batch are judged with.
type Sessions interface {
	Session(ctx context.Context, b store.Batch, ring *keyring.Keyring) (*verify.Session, error)
}

// Service judges again, and tells what that would change.
type Service struct {
	store      *store.Store
	records    *records.Service
	keys       *keys.Service
	publishers *publishers.Service
	policy     *policy.Service
	sessions   Sessions
	orders     *Orders
	now        func() time.Time
}

// New returns a Service.
func New(
	s *store.Store, r *records.Service, k *keys.Service, pub *publishers.Service, pol *policy.Service,
	sessions Sessions, orders *Orders, now func() time.Time,
) *Service {
	return &Service{
		store: s, records: r, keys: k, publishers: pub, policy: pol, sessions: sessions, orders: orders, now: now,
	}
}

// A Rejudgement is an artifact, judged again.
type Rejudgement struct {
	verify.Rejudgement
	Batch int64
	// Before is the verdict that held.
	Before judge.Verdict
}

// asOf is what stored measurements are judged with again.
type asOf struct {
	ring   *keyring.Keyring
	policy int64
	at     time.Time
}

// chunk is how many items are read and judged at a time.
const chunk = 2000

// rejudge judges the items of the selected batches again from what is stored: no
// file is read. yield gets every artifact, in the order of batches and items,
// with how many items of how many there are have been gone through, and through each batch that has
// been gone through.
func (s *Service) rejudge(
	ctx context.Context, sel Selection, basis asOf, yield func(judged []Rejudgement, done, total int64) error,
	through func(batch int64) error,
) (items int, err error) {
	issuers := issuersOf(basis.ring, sel.Key)
	stored := store.Selection{Batch: sel.Batch, Publisher: sel.Publisher, Issuers: issuers, Waiting: sel.Waiting}
	if sel.From != nil {
		stored.From = *sel.From
	}
	if sel.To != nil {
		stored.To = *sel.To
	}
	selected, err := s.store.SelectedBatches(ctx, stored)
	if err != nil {
		return 0, err
	}
	var total int64
	for _, b := range selected {
		total += b.Items
	}
	for _, batch := range selected {
		id := batch.ID
		b, err := s.store.Batch(ctx, id)
		if err != nil {
			return items, err
		}
		b.JudgedAsOf, b.PolicyVersion = basis.at, basis.policy
		session, err := s.sessions.Session(ctx, b, basis.ring)
		if err != nil {
			return items, err
		}
		if err := s.chunks(ctx, id, func(rows []store.StoredItem) error {
			items += len(rows)
			judged, err := judgeAgain(ctx, session, id, rows, issuers)
			if err != nil {
				return err
			}
			return yield(judged, int64(items), total)
		}); err != nil {
			return items, err
		}
		if err := through(id); err != nil {
			return items, err
		}
	}
	return items, nil
}

// chunks calls f for the items of a batch, some at a time and in their order, and reads the next
// while f is at it.
func (s *Service) chunks(ctx context.Context, batch int64, f func([]store.StoredItem) error) error {
	g, ctx := errgroup.WithContext(ctx)
	queue := make(chan []store.StoredItem)
	g.Go(func() error {
		defer close(queue)
		for after := -1; ; {
			rows, err := s.store.StoredItems(ctx, batch, after, chunk)
			if err != nil || len(rows) == 0 {
				return err
			}
			after = rows[len(rows)-1].N
			if err := s.orders.held(ctx, s.store.Reads, rows); err != nil {
				return err
			}
			select {
			case queue <- rows:
			case <-ctx.Done():
				return ctx.Err()
			}
		}
	})
	g.Go(func() error {
		for rows := range queue {
			if err := f(rows); err != nil {
				return err
			}
		}
		return nil
	})
	return g.Wait()
}

// judgeAgain judges a chunk of stored items.
func judgeAgain(
	ctx context.Context, session *verify.Session, batch int64, rows []store.StoredItem, issuers []string,
) ([]Rejudgement, error) {
	judged, err := session.Again(ctx, len(rows), func(i int) (*survey.Item, *measure.Measurement, error) {
		seen, err := recorded.Measured(rows[i].Record.Body)
		if err == nil && (seen.Batch != batch || seen.Survey.Path != rows[i].Path || seen.Verdict != rows[i].Verdict) {
			err = store.Mistaken(batch, rows[i].Path)
		}
		return seen.Survey, seen.Measurement, err
	}, issuers)
	out := make([]Rejudgement, len(judged))
	for i, j := range judged {
		row := rows[j.N]
		j.N = row.N
		out[i] = Rejudgement{j, batch, judge.Verdict(row.Present)}
	}
	return out, err
}

// issuersOf lists what signatures may name when they are by a key, or by one that was
// admitted because it certified that. It is nil when no key is meant.
func issuersOf(ring *keyring.Keyring, fp openpgp.Fingerprint) []string {
	if fp == "" {
		return nil
	}
	if k := ring.Lookup(fp); k != nil {
		return ring.IssuersWith(k.Certificate)
	}
	return []string{string(fp)}
}
