package reassess

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/core/openpgp"
	"endeixis/internal/store"
)

// KeyUse tells what was verified here with signatures by a key.
func (s *Service) KeyUse(ctx context.Context, fp openpgp.Fingerprint) (store.KeyUse, error) {
	ring, err := s.keys.ToJudge(ctx)
	if err != nil {
		return store.KeyUse{}, err
	}
	return s.store.KeyUse(ctx, issuersOf(ring, fp))
}

// A Reach tells what rests on a key, and what would become of it.
type Reach struct {
	// Rests counts the artifacts on which a signature by the key bears,
	// Batches how many batches they are in.
	Rests   int `json:"rests"`
	Batches int `json:"batches"`
	// Turns count the artifacts whose verdict would change, by what it is and
	// what it would be, and Items are those, at most maxReach.
	VerdictChanges []VerdictChange `json:"turns"`
	Items          []Change        `json:"items"`
}

// A VerdictChange counts changes of verdict.
type VerdictChange struct {
	From  judge.Verdict `json:"from"`
	To    judge.Verdict `json:"to"`
	Count int           `json:"count"`
}

// A Change is an artifact whose verdict would change.
type Change struct {
	Batch int64         `json:"batch"`
	N     int           `json:"n"`
	Path  string        `json:"path"`
	From  judge.Verdict `json:"from"`
	To    judge.Verdict `json:"to"`
	// Why is the ground that would decide, in words.
	Why string `json:"why"`
}

// A ReachQuestion is what an inquiry about a reach asks.
type ReachQuestion struct {
	Key openpgp.Fingerprint `json:"key"`
	// Newer is a copy of the certificate that would be imported; without one
	// the key would be withdrawn.
	Newer []byte `json:"newer,omitempty"`
}

// AnswerReach answers an inquiry; it is an [inquiries.Answerer].
func (s *Service) AnswerReach(ctx context.Context, question []byte, progress func(done, total int64)) (any, error) {
	var q ReachQuestion
	if err := json.Unmarshal(question, &q); err != nil {
		return nil, err
	}
	var newer *openpgp.Certificate
	if q.Newer != nil {
		certs, _, err := openpgp.ReadCertificates(q.Newer)
		if err != nil || len(certs) != 1 {
			return nil, fmt.Errorf("the copy of the certificate in the question cannot be read: %w", err)
		}
		newer = certs[0]
	}
	ring, fp, err := s.keys.WithChange(ctx, string(q.Key), newer)
	if err != nil {
		return nil, err
	}
	return s.Reach(ctx, fp, ring, progress)
}

// maxReach bounds the items that a reach names.
const maxReach = 500

// Reach tells what another keyring would change about everything that has a
// signature by a key. Nothing is kept.
func (s *Service) Reach(
	ctx context.Context, fp openpgp.Fingerprint, changed *keyring.Keyring, progress func(done, total int64),
) (Reach, error) {
	policies, err := s.policy.InForce(ctx, 0)
	if err != nil {
		return Reach{}, err
	}
	out := Reach{VerdictChanges: []VerdictChange{}, Items: []Change{}}
	counts := map[[2]judge.Verdict]int{}
	var last int64
	_, err = s.rejudge(
		ctx, Selection{Key: fp}, asOf{changed, policies.Version, s.now()},
		func(judged []Rejudgement, done, total int64) error {
			progress(done, total)
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
				counts[[2]judge.Verdict{j.Before, j.Outcome.Verdict}]++
				if len(out.Items) < maxReach {
					out.Items = append(out.Items, Change{
						Batch: j.Batch, N: j.N, Path: j.Item.Path, From: j.Before, To: j.Outcome.Verdict,
						Why: judge.Deciding(j.Outcome.Verdict, j.Outcome.Grounds),
					})
				}
			}
			return nil
		},
		func(int64) error { return nil },
	)
	for change, n := range counts {
		out.VerdictChanges = append(out.VerdictChanges, VerdictChange{change[0], change[1], n})
	}
	slices.SortFunc(
		out.VerdictChanges, func(x, y VerdictChange) int {
			return cmp.Or(cmp.Compare(x.From, y.From), cmp.Compare(x.To, y.To))
		},
	)
	return out, err
}
