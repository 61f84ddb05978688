package reassess

import (
	"context"

	"endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/core/openpgp"
	"endeixis/internal/store"
)

// KeyUse tells what was verified here with signatures by a key.
func (s *Service) KeyUse(ctx context.Context, fp openpgp.Fingerprint) (store.KeyUse, error) {
	ring, err := s.keys.Snapshot(ctx)
	if err != nil {
		return store.KeyUse{}, err
	}
	return s.store.KeyUse(ctx, issuersOf(ring, fp))
}

// A Reach tells what rests on a key, and what would become of it.
type Reach struct {
	// Rests counts the artifacts on which a signature by the key bears,
	// Batches how many batches they are in.
	Rests   int
	Batches int
	// Changed counts the artifacts whose verdict would change, by what it is
	// and what it would be.
	Changed map[Turn]int
	// Items are those, at most maxReach.
	Items []Rejudgement
}

// A Turn is a change of verdict.
type Turn struct{ From, To judge.Verdict }

// maxReach bounds the items that a reach names.
const maxReach = 500

// Reach tells what a supposed keyring would change about everything that has a
// signature by a key. Nothing is kept.
func (s *Service) Reach(ctx context.Context, fp openpgp.Fingerprint, supposed *keyring.Keyring) (Reach, error) {
	policies, err := s.policy.InForce(ctx, 0)
	if err != nil {
		return Reach{}, err
	}
	out := Reach{Changed: map[Turn]int{}, Items: []Rejudgement{}}
	var last int64
	_, err = s.rejudge(ctx, Selection{Key: fp}, asOf{supposed, policies.Version, s.now()}, func(judged []Rejudgement) error {
		for _, j := range judged {
			if !j.Bears {
				continue
			}
			out.Rests++
			if j.Batch != last {
				out.Batches++
				last = j.Batch
			}
			if j.Before == j.Outcome.Verdict {
				continue
			}
			out.Changed[Turn{j.Before, j.Outcome.Verdict}]++
			if len(out.Items) < maxReach {
				out.Items = append(out.Items, j)
			}
		}
		return nil
	})
	return out, err
}
