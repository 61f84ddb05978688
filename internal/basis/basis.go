// Package basis keeps in memory what everything is judged by, put together from the records that
// decide. What stands in the tables about policy, waivers, publishers and keys is for people to
// look at: changing it changes no verdict.
package basis

import (
	"context"
	"fmt"
	"sort"
	"sync"

	"golang.org/x/sync/singleflight"

	"endeixis/core/ledger"
	"endeixis/internal/recorded"
	"endeixis/internal/store"
)

// Records are read from the ledger; [records.Service] does. Both return a fault “ledger-altered”
// where the ledger is not what this program has written.
type Records interface {
	Decided(ctx context.Context, reads store.Reads) (int64, error)
	Decisions(
		ctx context.Context, reads store.Reads, from, known int64,
		f func(position int64, kind ledger.Kind, body []byte) error,
	) error
}

// Service keeps the basis. Its lock is never held while the database is asked: a caller that waits for
// it may hold the connection that the holder would wait for.
type Service struct {
	store   *store.Store
	records Records

	mu      sync.Mutex
	current *recorded.Basis
	// events are those that current comes from.
	events []recorded.Event
	// earlier holds a few as they were at earlier sizes, the newest last.
	earlier []*recorded.Basis
	// reading lets one at a time read for all who wait.
	reading singleflight.Group
}

// keptEarlier bounds how many earlier ones are kept: batches that run at once each need one, and
// only while something is decided.
const keptEarlier = 8

// New returns a Service.
func New(s *store.Store, r Records) *Service { return &Service{store: s, records: r} }

func (s *Service) known() (*recorded.Basis, []recorded.Event) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.current, s.events
}

// Now returns the basis that all records make, as they are now.
func (s *Service) Now(ctx context.Context) (*recorded.Basis, error) {
	decided, err := s.records.Decided(ctx, s.store.Reads)
	if err != nil {
		return nil, err
	}
	if current, _ := s.known(); current != nil && current.Decisions == decided {
		return current, nil
	}
	read, err, _ := s.reading.Do("", func() (any, error) {
		var out *recorded.Basis
		// It is read for all who wait, also when the first of them has gone.
		err := s.store.Look(context.WithoutCancel(ctx), func(ctx context.Context, reads store.Reads) error {
			var events []recorded.Event
			var err error
			if out, events, err = s.goOn(ctx, reads); err != nil {
				return err
			}
			s.keep(out, events)
			return nil
		})
		return out, err
	})
	if err != nil {
		return nil, err
	}
	out, _ := read.(*recorded.Basis)
	if out.Decisions < decided { // it was read for somebody who had asked before
		return s.Now(ctx)
	}
	return out, nil
}

// In returns the basis as a transaction sees it, with what it has decided itself.
func (s *Service) In(ctx context.Context, tx *store.Tx) (*recorded.Basis, error) {
	decided, err := s.records.Decided(ctx, tx.Reads)
	if err != nil {
		return nil, err
	}
	if current, _ := s.known(); current != nil && current.Decisions == decided {
		return current, nil
	}
	out, _, err := s.goOn(ctx, tx.Reads)
	return out, err
}

// goOn reads what has been decided since the basis in memory.
func (s *Service) goOn(ctx context.Context, reads store.Reads) (*recorded.Basis, []recorded.Event, error) {
	current, events := s.known()
	if current == nil {
		adopted, err := reads.AdoptedKeys(ctx)
		if err != nil {
			return nil, nil, err
		}
		current = recorded.NewBasis(adopted)
	}
	var more []recorded.Event
	err := s.records.Decisions(
		ctx, reads, current.Next, current.Decisions,
		func(position int64, kind ledger.Kind, text []byte) error {
			head, body, err := recorded.Read(position, text)
			if err == nil && head.Kind != kind {
				err = fmt.Errorf("record %d is not of the kind that it is listed as", position)
			}
			more = append(more, recorded.Event{Head: head, Body: body})
			return err
		},
	)
	if err != nil {
		return nil, nil, err
	}
	return current.With(more...), append(events[:len(events):len(events)], more...), nil
}

// keep keeps a basis, unless a newer one is there.
func (s *Service) keep(b *recorded.Basis, events []recorded.Event) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.current == nil || s.current.Decisions < b.Decisions {
		s.current, s.events = b, events
	}
}

// AsOf returns the basis as it was when the ledger had a size: what is recorded at that position
// or behind it does not count.
func (s *Service) AsOf(ctx context.Context, size int64) (*recorded.Basis, error) {
	now, err := s.Now(ctx)
	if err != nil || now.Next <= size {
		return now, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	count := sort.Search(len(s.events), func(i int) bool { return s.events[i].Head.Position >= size })
	for _, e := range s.earlier {
		if e.Decisions == int64(count) {
			return e, nil
		}
	}
	out := now.Before().With(s.events[:count]...)
	if s.earlier = append(s.earlier, out); len(s.earlier) > keptEarlier {
		s.earlier = append([]*recorded.Basis{}, s.earlier[1:]...)
	}
	return out, nil
}
