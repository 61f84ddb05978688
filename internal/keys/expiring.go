package keys

import (
	"context"
	"time"

	"endeixis/core/keyring"
)

// Stages are the days ahead of an expiry at which it is noticed.
func Stages() []int { return []int{60, 30, 7} }

// An Expiring is an admitted key that expires soon.
type Expiring struct {
	View
	Expires time.Time
	// Stage is the least of [Stages] that has been reached.
	Stage int
}

// Expiring lists the admitted keys that expire within the first of [Stages] and
// have not yet.
func (s *Service) Expiring(ctx context.Context) ([]Expiring, error) {
	now := s.now()
	views, _, err := s.List(ctx, Filter{State: keyring.Admitted, ExpiresBefore: now.AddDate(0, 0, Stages()[0])})
	if err != nil {
		return nil, err
	}
	var out []Expiring
	for _, v := range views {
		expires, _ := v.Key.Certificate.Expires(v.Rules)
		if expires == nil || !now.Before(*expires) || v.Key.Certificate.Revocation() != nil {
			continue
		}
		e := Expiring{View: v, Expires: *expires}
		for _, days := range Stages() {
			if expires.Before(now.AddDate(0, 0, days)) {
				e.Stage = days
			}
		}
		out = append(out, e)
	}
	return out, nil
}
