package batches

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/core/measure"
	"endeixis/core/openpgp"
	"endeixis/core/survey"
	"endeixis/core/verify"
	"endeixis/internal/fault"
	"endeixis/internal/reassess"
	"endeixis/internal/records"
	"endeixis/internal/store"
)

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
// file is read. yield gets every artifact, in the order of batches and items.
func (s *Service) rejudge(ctx context.Context, sel reassess.Selection, with asOf, yield func([]Rejudgement) error) (items int, err error) {
	issuers := issuersOf(with.ring, sel.Key)
	stored := store.Selection{Batch: sel.Batch, Publisher: sel.Publisher, Issuers: issuers}
	if sel.From != nil {
		stored.From = *sel.From
	}
	if sel.To != nil {
		stored.To = *sel.To
	}
	ids, err := s.store.SelectedBatches(ctx, stored)
	if err != nil {
		return 0, err
	}
	for _, id := range ids {
		b, err := s.store.Batch(ctx, id)
		if err != nil {
			return items, err
		}
		b.JudgedAsOf, b.PolicyVersion = with.at, with.policy
		session, err := s.resume(ctx, b, with.ring)
		if err != nil {
			return items, err
		}
		for after := -1; ; {
			rows, err := s.store.StoredItems(ctx, id, after, chunk)
			if err != nil {
				return items, err
			}
			if len(rows) == 0 {
				break
			}
			after = rows[len(rows)-1].N
			items += len(rows)
			judged, err := judgeAgain(session, id, rows, issuers)
			if err != nil {
				return items, err
			}
			if err := yield(judged); err != nil {
				return items, err
			}
		}
	}
	return items, nil
}

// judgeAgain judges a chunk of stored items.
func judgeAgain(session *verify.Session, batch int64, rows []store.StoredItem, issuers []string) ([]Rejudgement, error) {
	judged, err := session.Again(len(rows), func(i int) (*survey.Item, *measure.Measurement, error) {
		item, m := &survey.Item{}, &measure.Measurement{}
		return item, m, errors.Join(json.Unmarshal(rows[i].Survey, item), json.Unmarshal(rows[i].Measurement, m))
	}, issuers)
	out := make([]Rejudgement, len(judged))
	for i, j := range judged {
		row := rows[j.N]
		j.N = row.N
		out[i] = Rejudgement{j, batch, judge.Verdict(row.Present)}
	}
	return out, err
}

// issuersOf lists what signatures may name when they are by a key. It is nil
// when no key is meant.
func issuersOf(ring *keyring.Keyring, fp openpgp.Fingerprint) []string {
	if fp == "" {
		return nil
	}
	if k := ring.Lookup(fp); k != nil {
		return k.Certificate.Issuers()
	}
	return []string{string(fp)}
}

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
	policies, err := s.keys.Policies(ctx, 0)
	if err != nil {
		return Reach{}, err
	}
	out := Reach{Changed: map[Turn]int{}, Items: []Rejudgement{}}
	var last int64
	_, err = s.rejudge(ctx, reassess.Selection{Key: fp}, asOf{supposed, policies.Version, s.now()}, func(judged []Rejudgement) error {
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

// Reassess asks that what is selected be judged again with the present keyring,
// policy and waivers. [Service.RunReassessment] does it.
func (s *Service) Reassess(ctx context.Context, by string, sel reassess.Selection, reason string) (store.Reassessment, error) {
	if sel.Empty() {
		return store.Reassessment{}, fault.New(fault.Invalid, "selection-missing", "Say what is to be judged again.").Advise("Give a batch, a publisher, a key, a period, or all.").At("batch")
	}
	if err := fault.Reason(reason, "A reassessment"); err != nil {
		return store.Reassessment{}, err
	}
	if sel.Batch != 0 {
		if _, err := s.store.Batch(ctx, sel.Batch); errors.Is(err, store.ErrNotFound) {
			return store.Reassessment{}, fault.New(fault.NotFound, "batch-unknown", "There is no batch %d.", sel.Batch).At("batch")
		} else if err != nil {
			return store.Reassessment{}, err
		}
	}
	if sel.Publisher != "" {
		if _, err := s.keys.Publisher(ctx, sel.Publisher); err != nil {
			return store.Reassessment{}, err
		}
	}
	var r store.Reassessment
	err := s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) (err error) {
		r, err = s.orders.Place(ctx, tx, by, s.now(), sel, reason)
		return err
	})
	return r, err
}

// rejudgedRecord is what the ledger keeps of an artifact whose verdict changed.
type rejudgedRecord struct {
	Reassessment int64             `json:"reassessment"`
	Batch        int64             `json:"batch"`
	Item         string            `json:"item"`
	Before       judge.Verdict     `json:"before"`
	Verdict      judge.Verdict     `json:"verdict"`
	Grounds      []judge.Ground    `json:"grounds"`
	Paths        []judge.ProofPath `json:"paths"`
	Policy       int64             `json:"policy"`
	JudgedAsOf   time.Time         `json:"judged_as_of"`
	Reason       string            `json:"reason"`
}

// RunReassessment judges again what a reassessment selects, and records what
// changed. It may be repeated at any point.
func (s *Service) RunReassessment(ctx context.Context, id int64) error {
	r, err := s.store.Reassessment(ctx, id)
	if err != nil || r.State != "waiting" {
		return err
	}
	var sel reassess.Selection
	if err := json.Unmarshal(r.Selection, &sel); err != nil {
		return err
	}
	ring, err := s.keys.Snapshot(ctx)
	if err != nil {
		return err
	}
	items, err := s.rejudge(ctx, sel, asOf{ring, r.PolicyVersion, r.CreatedAt}, func(judged []Rejudgement) error {
		return s.keepRejudged(ctx, r, judged)
	})
	if err != nil {
		return err
	}
	return s.closeReassessment(ctx, id, "done", "", items)
}

// AbandonReassessment closes a reassessment that cannot be carried out. What it
// has changed so far stands.
func (s *Service) AbandonReassessment(ctx context.Context, id int64, cause error) error {
	return s.closeReassessment(ctx, id, "failed", abandoned(cause), 0)
}

// reassessedRecord is what the ledger keeps of a reassessment.
type reassessedRecord struct {
	Reassessment int64              `json:"reassessment"`
	Selection    reassess.Selection `json:"selection"`
	Reason       string             `json:"reason"`
	Items        int                `json:"items"`
	Changed      int                `json:"changed"`
	Policy       int64              `json:"policy"`
	JudgedAsOf   time.Time          `json:"judged_as_of"`
	// State and Note are there when it failed.
	State string `json:"state,omitempty"`
	Note  string `json:"note,omitempty"`
}

func (s *Service) closeReassessment(ctx context.Context, id int64, state, note string, items int) error {
	return s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		r, err := tx.LockReassessment(ctx, id)
		if err != nil || r.State != "waiting" {
			return err
		}
		changed, err := tx.RejudgedCount(ctx, id)
		if err != nil {
			return err
		}
		body := reassessedRecord{Reassessment: id, Reason: r.Reason, Items: items, Changed: changed, Policy: r.PolicyVersion, JudgedAsOf: r.CreatedAt, Note: note}
		if err := json.Unmarshal(r.Selection, &body.Selection); err != nil {
			return err
		}
		if state != "done" {
			body.State = state
		}
		position, err := s.records.Append(ctx, tx, records.Entry{Kind: records.Reassessed, By: r.AskedBy, Subject: body.Selection.String(), Batch: body.Selection.Batch, Body: body})
		if err != nil {
			return err
		}
		return tx.FinishReassessment(ctx, id, state, note, s.now(), items, changed, position)
	})
}

// keepRejudged stores those whose verdict changed, once.
func (s *Service) keepRejudged(ctx context.Context, r store.Reassessment, judged []Rejudgement) error {
	changed := slices.DeleteFunc(slices.Clone(judged), func(j Rejudgement) bool { return j.Before == j.Outcome.Verdict || j.Before == "" })
	if len(changed) == 0 {
		return nil
	}
	return s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		if _, err := tx.LockReassessment(ctx, r.ID); err != nil {
			return err
		}
		// A run that was interrupted has stored some of them.
		done, err := tx.RejudgedNumbers(ctx, r.ID, changed[0].Batch)
		if err != nil {
			return err
		}
		var entries []records.Entry
		var rows []store.Rejudged
		for _, j := range changed {
			if slices.Contains(done, j.N) {
				continue
			}
			grounds, err1 := json.Marshal(j.Outcome.Grounds)
			paths, err2 := json.Marshal(j.Outcome.Paths)
			if err := errors.Join(err1, err2); err != nil {
				return err
			}
			entries = append(entries, records.Entry{
				Kind: records.ItemRejudged, By: r.AskedBy, Subject: j.Item.Path, Verdict: string(j.Outcome.Verdict), Batch: j.Batch,
				Body: rejudgedRecord{r.ID, j.Batch, j.Item.Path, j.Before, j.Outcome.Verdict, j.Outcome.Grounds, j.Outcome.Paths, r.PolicyVersion, r.CreatedAt, r.Reason},
			})
			rows = append(rows, store.Rejudged{Reassessment: r.ID, Batch: j.Batch, N: j.N, Before: string(j.Before), After: string(j.Outcome.Verdict), Grounds: grounds, Paths: paths})
		}
		first, err := s.records.Append(ctx, tx, entries...)
		if err != nil {
			return err
		}
		for i := range rows {
			rows[i].Position = first + int64(i)
		}
		return tx.AddRejudged(ctx, rows)
	})
}
