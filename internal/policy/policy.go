// Package policy keeps what is asked of evidence: the limits in force, what
// publishers have otherwise, and the waivers that lift a ground for a while.
// What the limits mean is decided in core/judge.
package policy

import (
	"bytes"
	"context"
	"encoding/json"
	"slices"
	"strconv"
	"strings"
	"time"

	"endeixis/core/judge"
	"endeixis/internal/basis"
	"endeixis/internal/fault"
	"endeixis/internal/publishers"
	"endeixis/internal/recorded"
	"endeixis/internal/records"
	"endeixis/internal/store"
)

// InForce is the policy in force at a version, and what publishers have
// otherwise.
type InForce struct {
	judge.Policy
	// Version is that of the newest change among them.
	Version int64
	// Own holds the whole policy of each publisher that has fields of its
	// own, by slug.
	Own map[string]judge.Policy
}

// Of returns the policy for a publisher, which may be empty.
func (p InForce) Of(publisher string) judge.Policy {
	if own, ok := p.Own[publisher]; ok {
		return own
	}
	return p.Policy
}

// A Version is one change of the policy, or of what one publisher has
// otherwise.
type Version struct {
	store.Policy
	// Publisher is the slug, or empty for the policy itself.
	Publisher string
	// Document is the whole policy that the change made, and Own are the
	// names of the fields that the publisher has otherwise.
	Document judge.Policy
	Own      []string
	// Reassessment is the number of the one that the change has entailed, or 0; it is set where the
	// change was made.
	Reassessment int64
}

// Publishers tell who there is; [publishers.Service] does.
type Publishers interface {
	Publisher(ctx context.Context, slug string) (publishers.Publisher, error)
}

// Consequences are what must follow when something else is asked of evidence. They are asked for
// in the transaction of the decision, so that neither is there without the other. Each returns the
// number of the reassessment, or 0 when there is nothing to judge again.
type Consequences interface {
	// RulesChanged orders that everything be judged again.
	RulesChanged(ctx context.Context, tx *store.Tx, by string, at time.Time, reason string) (int64, error)
	// RulesLoosened orders that what is not cleared be judged again.
	RulesLoosened(ctx context.Context, tx *store.Tx, by string, at time.Time, reason string) (int64, error)
}

// Service keeps policy and waivers.
type Service struct {
	store      *store.Store
	records    *records.Service
	basis      *basis.Service
	publishers Publishers
	follow     Consequences
	now        func() time.Time
}

// New returns a Service.
func New(
	s *store.Store, r *records.Service, b *basis.Service, p Publishers, follow Consequences, now func() time.Time,
) *Service {
	return &Service{s, r, b, p, follow, now}
}

// InForce returns what was in force at a version, or what is in force now for 0.
func (s *Service) InForce(ctx context.Context, version int64) (InForce, error) {
	b, err := s.basis.Now(ctx)
	if err != nil {
		return InForce{}, err
	}
	return inForce(b, version)
}

// ToJudge returns the policies in force at a version, or now for 0, and the waivers that counted
// at a time.
func (s *Service) ToJudge(ctx context.Context, version int64, at time.Time) (InForce, []judge.Waiver, error) {
	b, err := s.basis.Now(ctx)
	if err != nil {
		return InForce{}, nil, err
	}
	policies, err := inForce(b, version)
	return policies, waiversAt(b, at), err
}

func inForce(b *recorded.Basis, version int64) (InForce, error) {
	rows := b.PoliciesAt(version)
	out := InForce{Own: map[string]judge.Policy{}}
	for _, row := range rows {
		out.Version = max(out.Version, row.Version)
		if row.Name == recorded.DefaultPolicy {
			if err := json.Unmarshal(row.Document, &out.Policy); err != nil {
				return InForce{}, err
			}
		}
	}
	if out.Version == 0 {
		return InForce{}, store.ErrNotFound
	}
	for _, row := range rows {
		slug, ok := strings.CutPrefix(row.Name, recorded.OfPublisher)
		if !ok || bytes.Equal(row.Document, []byte("{}")) {
			continue
		}
		var err error
		if out.Own[slug], err = out.With(row.Document); err != nil {
			return InForce{}, err
		}
	}
	return out, nil
}

// History lists the changes, the newest first.
func (s *Service) History(ctx context.Context) ([]Version, error) {
	rows, err := s.store.Policies(ctx, 1000)
	if err != nil {
		return nil, err
	}
	out := make([]Version, len(rows))
	var current judge.Policy
	for i, row := range slices.Backward(rows) {
		out[i] = Version{Policy: row, Own: []string{}}
		if row.Name == recorded.DefaultPolicy {
			current = judge.Policy{}
			if err := json.Unmarshal(row.Document, &current); err != nil {
				return nil, err
			}
			out[i].Document = current
			continue
		}
		out[i].Publisher = strings.TrimPrefix(row.Name, recorded.OfPublisher)
		if out[i].Document, err = current.With(row.Document); err != nil {
			return nil, err
		}
		out[i].Own = fieldsOf(row.Document)
	}
	return out, nil
}

// fieldsOf returns the names of a document's fields, sorted.
func fieldsOf(document []byte) []string {
	var fields map[string]json.RawMessage
	out := []string{}
	if json.Unmarshal(document, &fields) == nil {
		for name := range fields {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}

// Init stores the default policy when there is none.
func (s *Service) Init(ctx context.Context, by string) error {
	b, err := s.basis.Now(ctx)
	if err != nil || len(b.Policies) > 0 {
		return err
	}
	_, err = s.put(ctx, by, "", Version{Document: judge.DefaultPolicy()}, "")
	return err
}

// Set puts a new version of the policy in force. seen is the version that was in
// force when it was looked at, or empty. What was verified is judged
// again by it, see [Consequences]. It returns a [*fault.Fault] for a policy that makes no sense,
// and for one that changes nothing.
func (s *Service) Set(ctx context.Context, by, seen string, p judge.Policy, reason string) (Version, error) {
	if err := p.Validate(); err != nil {
		return Version{}, badPolicy(err, "document")
	}
	now, _, err := s.ToJudge(ctx, 0, s.now())
	if err != nil {
		return Version{}, err
	}
	if now.Equal(p) {
		return Version{}, unchanged(now.Version)
	}
	return s.put(ctx, by, seen, Version{Document: p}, reason)
}

// SetOwn gives a publisher fields of its own, in JSON, in place of those
// it had; an empty object leaves it none. It returns a [*fault.Fault] as
// [Service.Set] does.
func (s *Service) SetOwn(ctx context.Context, by, publisher, seen string, own []byte, reason string) (Version, error) {
	if _, err := s.publishers.Publisher(ctx, publisher); err != nil {
		return Version{}, err
	}
	now, _, err := s.ToJudge(ctx, 0, s.now())
	if err != nil {
		return Version{}, err
	}
	p := Version{Publisher: publisher, Own: fieldsOf(own)}
	for _, name := range p.Own {
		if !slices.ContainsFunc(judge.PolicyFields(), func(f judge.PolicyField) bool { return f.Name == name }) {
			return Version{}, fault.New(fault.Invalid, fault.BadPolicy, "The policy has no field %q.", name).
				Advise("“endeixis policy show” lists the fields.").
				At("fields")
		}
	}
	if p.Document, err = now.With(own); err != nil {
		return Version{}, badPolicy(err, "fields")
	}
	if _, had := now.Own[publisher]; now.Of(publisher).Equal(p.Document) && had == (len(p.Own) > 0) {
		return Version{}, unchanged(now.Version)
	}
	return s.put(ctx, by, seen, p, reason)
}

func badPolicy(err error, field string) error {
	return fault.New(fault.Invalid, fault.BadPolicy, "The policy was not changed: %s.", err).
		Advise("“endeixis policy show” prints the one in force.").
		At(field)
}

func unchanged(version int64) error {
	return fault.New(fault.Conflict, fault.PolicyUnchanged, "This is the policy that is in force, version %d.", version)
}

func (s *Service) put(ctx context.Context, by, seen string, p Version, reason string) (Version, error) {
	row := &p.Policy
	row.Name = recorded.DefaultPolicy
	if p.Publisher != "" {
		row.Name = recorded.OfPublisher + p.Publisher
	}
	if p.Own == nil {
		p.Own = []string{}
	}
	row.Reason, row.CreatedAt, row.CreatedBy = reason, s.now(), by
	whole, err := json.Marshal(p.Document)
	if err != nil {
		return Version{}, err
	}
	err = s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		if err := tx.LockBasis(ctx); err != nil {
			return err
		}
		if row.Version, err = tx.NextPolicyVersion(ctx); err != nil {
			return err
		}
		before, err := tx.PolicyBefore(ctx, row.Version)
		if err != nil {
			return err
		}
		if err := fault.Changed(seen, strconv.FormatInt(before, 10), "the policy"); err != nil {
			return err
		}
		set, err := s.records.Decide(
			ctx, tx, by, row.Name,
			recorded.PolicySet{Name: row.Name, Version: row.Version, Policy: whole, Own: p.Own, Reason: reason},
		)
		if err != nil {
			return err
		}
		what := "The policy was changed"
		if p.Publisher != "" {
			what = "The policy for " + p.Publisher + " was changed"
		}
		p.Reassessment, err = s.follow.RulesChanged(ctx, tx, by, set.At, what+": "+reason)
		return err
	})
	return p, err
}
