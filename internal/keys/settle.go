package keys

import (
	"context"
	"time"

	"endeixis/core/keyring"
	"endeixis/internal/fault"
	"endeixis/internal/recorded"
	"endeixis/internal/store"
)

// Settle records that a key needs no attention as it is, and why: a candidate that nobody will admit, or an expiry that
// is known. It changes nothing about the key, which needs attention again when something is decided or seen of it, or
// when it has expired since. It returns a [*fault.Fault] for one that a sighting contradicts: that is explained with
// [Service.Resolve].
func (s *Service) Settle(ctx context.Context, by, fingerprint, reason string) (View, error) {
	fp, err := parse(fingerprint, "fingerprint")
	if err != nil {
		return View{}, err
	}
	if err := fault.Reason(reason, "Settling a key"); err != nil {
		return View{}, err
	}
	return s.decide(
		ctx, fp,
		func(ctx context.Context, tx *store.Tx, ring *keyring.Keyring, _ store.Key, _ evidence) error {
			k := ring.Lookup(fp)
			if k == nil {
				return &unreadableError{fingerprint: fp}
			}
			if k.Conflict {
				return fault.New(
					fault.Conflict, fault.NothingToSettle, "A sighting contradicts this key, which has to be explained.",
				).Advise("“endeixis keyring resolve” records why it differs.")
			}
			_, err := s.records.Decide(ctx, tx, by, string(fp), recorded.Settlement{Key: fp, Reason: reason})
			return err
		},
	)
}

// settlements are the newest of each key, by the bytes of its fingerprint.
type settlements map[string]store.Settlement

func (s *Service) settlements(ctx context.Context) (settlements, error) {
	rows, err := s.store.KeySettlements(ctx)
	out := settlements{}
	for _, row := range rows {
		out[string(row.Fingerprint)] = row
	}
	return out, err
}

// hold reports whether a key is settled: nothing was decided or seen of it since, and it has not expired since.
func (m settlements) hold(row store.Key, e evidence, expires *time.Time, now time.Time) bool {
	settled, ok := m[string(row.Fingerprint)]
	if !ok || row.Position > settled.Position {
		return false
	}
	for _, c := range e.changes {
		if c.Position > settled.Position {
			return false
		}
	}
	for _, v := range e.sightings {
		if v.Position > settled.Position {
			return false
		}
	}
	for _, p := range e.proposals {
		if p.Position > settled.Position {
			return false
		}
	}
	return expires == nil || now.Before(*expires) || !settled.At.Before(*expires)
}
