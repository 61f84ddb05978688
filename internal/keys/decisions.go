package keys

import (
	"context"
	"slices"
	"strings"
	"time"

	"endeixis/core/keyring"
	"endeixis/core/openpgp"
	"endeixis/core/plain"
	"endeixis/internal/fault"
	"endeixis/internal/recorded"
	"endeixis/internal/store"
)

// An Admission is what a curator asks for.
type Admission struct {
	Fingerprint string
	// Typed is the fingerprint as the curator read and typed it.
	Typed     string
	Publisher string
	// Role is that of a release key when it is empty.
	Role   keyring.Role
	Reason string
	// Until admits a key for the past, one that has expired or was retired: for what
	// it signed before then. It is nil for a key that goes on signing.
	Until *time.Time
}

// Admit makes a candidate count for a publisher, if the evidence suffices. Where
// the policy asks for two curators, the first only proposes it: then the view
// that is returned has the proposal and is still of a candidate.
func (s *Service) Admit(ctx context.Context, by string, a Admission) (View, error) {
	fp, err := parse(a.Fingerprint, "fingerprint")
	if err != nil {
		return View{}, err
	}
	if err := a.check(fp, s.now()); err != nil {
		return View{}, err
	}
	if _, err := s.publishers.Publisher(ctx, a.Publisher); err != nil {
		return View{}, err
	}
	policies, _, err := s.policies.ToJudge(ctx, 0, s.now())
	if err != nil {
		return View{}, err
	}
	policy := policies.Of(a.Publisher)
	var asked int64
	admitted, err := s.decide(
		ctx, fp,
		func(ctx context.Context, tx *store.Tx, ring *keyring.Keyring, row store.Key, e evidence) error {
			row.Publisher, row.Role = a.Publisher, string(a.Role)
			v, err := s.view(ring, row, e, policy, a.Until)
			if err != nil {
				return err
			}
			if err := s.mayBeAdmitted(v); err != nil {
				return err
			}
			body := recorded.KeyStep{
				Fingerprint: fp, From: keyring.Candidate, To: keyring.Admitted, Publisher: a.Publisher, Role: a.Role,
				Reason: a.Reason, Sightings: []int64{}, Anchors: []openpgp.Fingerprint{}, Policy: policies.Version,
				Until: a.Until,
			}
			for _, sighting := range e.sightings {
				body.Sightings = append(body.Sightings, sighting.Position)
			}
			for _, p := range v.Paths {
				if p.Holds {
					body.Anchors = append(body.Anchors, p.Anchor.Certificate.Primary.Fingerprint)
				}
			}
			if v.Sighted < policy.SightingChannels {
				body.RestsOn = body.Anchors
			}
			if policy.TwoCurators {
				if v.Proposal == nil || v.Proposal.By == by {
					return s.propose(ctx, tx, by, fp, a)
				}
				if err := proposed(v.Proposal, a); err != nil {
					return err
				}
				body.ProposedBy = v.Proposal.By
			}
			step, err := s.records.Decide(ctx, tx, by, string(fp), body)
			if err != nil {
				return err
			}
			// What waited for it is judged as of the moment from which it counts.
			asked, err = s.changed(
				ctx, tx, by, step.At, ring.Lookup(fp).Certificate, ring, "The key was admitted: "+a.Reason,
			)
			return err
		},
	)
	admitted.Reassessment = asked
	return admitted, err
}

// check refuses an admission that was not read or makes no sense, and fills in what was left out.
func (a *Admission) check(fp openpgp.Fingerprint, now time.Time) error {
	read, err := parse(a.Typed, "typed")
	if err != nil {
		return err
	}
	if err := sameLength(read, fp, "typed"); err != nil {
		return err
	}
	if read != fp {
		return fault.New(
			fault.Invalid, fault.FingerprintDiffers, "What you typed differs from the key's fingerprint in %d places.",
			len(keyring.Differences(read, fp)),
		).
			Advise("Read it again from your source. If it stays so, this is not the publisher's key.").
			At("typed")
	}
	if err := fault.Reason(a.Reason, "An admission"); err != nil {
		return err
	}
	if a.Role == "" {
		a.Role = keyring.Release
	}
	if a.Role != keyring.Release && a.Role != keyring.Anchor {
		return fault.New(
			fault.Invalid, fault.BadRole, "A key is for releases or an anchor, not %s.", plain.Quoted(string(a.Role)),
		).
			At("role")
	}
	if a.Until != nil {
		// As a signature tells its time.
		whole := a.Until.UTC().Truncate(time.Second)
		if a.Until = &whole; whole.After(now) {
			return fault.New(fault.Invalid, fault.BadUntil, "An admission for the past ends in the past.").
				Advise("Leave the date out for a key that goes on signing.").
				At("until")
		}
	}
	return nil
}

// mayBeAdmitted refuses a key whose state or evidence does not allow it.
func (s *Service) mayBeAdmitted(v View) error {
	if err := mayBecome(v.Key.StateAt(s.now()), keyring.Admitted); err != nil {
		return err
	}
	if len(v.Obstacles) == 0 {
		return nil
	}
	f := fault.New(fault.Conflict, fault.EvidenceMissing, "The evidence does not suffice to admit this key.")
	for _, o := range v.Obstacles {
		f.Facts = append(f.Facts, o.Sentence)
	}
	return f.Advise("%s", strings.Join(f.Facts, " "))
}

// proposed refuses an admission that asks for something else than was proposed.
func proposed(p *Proposal, a Admission) error {
	if p.Publisher == a.Publisher && p.Role == a.Role && sameTime(p.Until, a.Until) {
		return nil
	}
	return fault.New(
		fault.Conflict, fault.OtherProposal, "%s proposed this key for %s, as a key for %s%s; you ask for something else.",
		p.By, p.Publisher, roleWord(p.Role), untilWord(p.Until),
	).
		Advise("Admit it as proposed, or decline the proposal with a reason and propose your own.")
}

func sameTime(a, b *time.Time) bool {
	return a == nil && b == nil || a != nil && b != nil && a.Equal(*b)
}

func untilWord(until *time.Time) string {
	if until == nil {
		return ""
	}
	return ", for what it signed before " + until.Format(time.DateOnly)
}

func roleWord(role keyring.Role) string {
	if role == keyring.Anchor {
		return "certifying others"
	}
	return "releases"
}

// propose keeps what the first of two curators wants.
func (s *Service) propose(ctx context.Context, tx *store.Tx, by string, fp openpgp.Fingerprint, a Admission) error {
	_, err := s.records.Decide(
		ctx, tx, by, string(fp),
		recorded.AdmissionProposed{
			Fingerprint: fp, Publisher: a.Publisher, Role: a.Role, Reason: a.Reason, Until: a.Until,
		},
	)
	return err
}

// Decline turns a proposal down, or takes it back.
func (s *Service) Decline(ctx context.Context, by, fingerprint, reason string) (View, error) {
	fp, err := parse(fingerprint, "fingerprint")
	if err != nil {
		return View{}, err
	}
	if err := fault.Reason(reason, "Declining a proposal"); err != nil {
		return View{}, err
	}
	return s.decide(
		ctx, fp,
		func(ctx context.Context, tx *store.Tx, _ *keyring.Keyring, _ store.Key, e evidence) error {
			if len(e.proposals) == 0 {
				return fault.New(fault.Conflict, fault.NoProposal, "No proposal waits for this key.")
			}
			p := e.proposals[0]
			_, err := s.records.Decide(
				ctx, tx, by, string(fp),
				recorded.ProposalDeclined{Fingerprint: fp, Proposal: p.Position, ProposedBy: p.By, Reason: reason},
			)
			return err
		},
	)
}

// Withdraw ends that an admitted key counts. Records that rest on it stand as
// they were; what rests on it is judged again, see [Consequences].
func (s *Service) Withdraw(ctx context.Context, by, fingerprint, reason string) (View, error) {
	var asked int64
	v, err := s.move(
		ctx, by, fingerprint, keyring.Withdrawn, reason, "A withdrawal",
		func(ctx context.Context, tx *store.Tx, at time.Time, ring *keyring.Keyring, k *keyring.Key) error {
			var err error
			asked, err = s.changed(ctx, tx, by, at, k.Certificate, ring, "The key was withdrawn: "+reason)
			return err
		},
	)
	v.Reassessment = asked
	return v, err
}

// Reconsider makes a withdrawn key a candidate again. It can then be admitted
// as any other, on evidence.
func (s *Service) Reconsider(ctx context.Context, by, fingerprint, reason string) (View, error) {
	return s.move(
		ctx, by, fingerprint, keyring.Candidate, reason, "Reconsidering a key",
		func(context.Context, *store.Tx, time.Time, *keyring.Keyring, *keyring.Key) error { return nil },
	)
}

// move takes a key one step on, with what follows from that.
func (s *Service) move(
	ctx context.Context, by, fingerprint string, to keyring.State, reason, what string,
	follow func(ctx context.Context, tx *store.Tx, at time.Time, ring *keyring.Keyring, k *keyring.Key) error,
) (View, error) {
	fp, err := parse(fingerprint, "fingerprint")
	if err != nil {
		return View{}, err
	}
	if err := fault.Reason(reason, what); err != nil {
		return View{}, err
	}
	return s.decide(
		ctx, fp,
		func(ctx context.Context, tx *store.Tx, ring *keyring.Keyring, row store.Key, _ evidence) error {
			k := ring.Lookup(fp)
			if k == nil {
				return &unreadableError{fingerprint: fp}
			}
			state := k.StateAt(s.now())
			if err := mayBecome(state, to); err != nil {
				return err
			}
			step, err := s.records.Decide(
				ctx, tx, by, string(fp),
				recorded.KeyStep{Fingerprint: fp, From: state, To: to, Publisher: row.Publisher, Reason: reason},
			)
			if err != nil {
				return err
			}
			// As of the moment from which it counts.
			return follow(ctx, tx, step.At, ring, k)
		},
	)
}

// Resolve explains a sighting that contradicts its key, named by its record. It
// blocks nothing from then on.
func (s *Service) Resolve(ctx context.Context, by string, record int64, reason string) (View, error) {
	if err := fault.Reason(reason, "Resolving a conflict"); err != nil {
		return View{}, err
	}
	var fp openpgp.Fingerprint
	var asked int64
	err := s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		if err := tx.LockBasis(ctx); err != nil {
			return err
		}
		b, err := s.basis.In(ctx, tx)
		if err != nil {
			return err
		}
		i := slices.IndexFunc(b.Sightings, func(s store.Sighting) bool { return s.Position == record })
		if i < 0 {
			return fault.New(fault.NotFound, fault.SightingUnknown, "Record %d is not a sighting.", record).
				Advise("“endeixis keyring show” names the records of a key's sightings.").
				At("record")
		}
		sighting := b.Sightings[i]
		fp = openpgp.NewFingerprint(sighting.Fingerprint)
		read := openpgp.NewFingerprint(sighting.Read)
		switch {
		case read == fp:
			return fault.New(
				fault.Conflict, fault.NoConflict, "This sighting agrees with the key; there is nothing to resolve.",
			)
		case sighting.Resolved != "":
			return fault.New(
				fault.Conflict, fault.ResolvedBefore, "%s resolved this conflict before: %s", sighting.ResolvedBy,
				plain.Text(sighting.Resolved),
			)
		}
		if _, err := s.records.Decide(
			ctx, tx, by, string(fp),
			recorded.ConflictResolved{Fingerprint: fp, Sighting: record, Read: read, Reason: reason},
		); err != nil {
			return err
		}
		asked, err = s.standingChanged(
			ctx, tx, by, fp, "A sighting that contradicted the fingerprint of a key was explained: "+reason,
		)
		return err
	})
	if err != nil {
		return View{}, err
	}
	v, err := s.Show(ctx, string(fp))
	v.Reassessment = asked
	return v, err
}

// mayBecome refuses a step that the states do not allow.
func mayBecome(state, to keyring.State) error {
	if state.May(to) {
		return nil
	}
	only := map[keyring.State]string{
		keyring.Admitted:  "only a candidate can be admitted",
		keyring.Withdrawn: "only an admitted key can be withdrawn",
		keyring.Candidate: "only a withdrawn key can be made a candidate again",
	}
	return fault.New(fault.Conflict, fault.WrongState, "The key is %s; %s.", state, only[to])
}

// decide runs a decision about a key that nobody else decides about meanwhile,
// and returns the key as it stands then.
func (s *Service) decide(
	ctx context.Context, fp openpgp.Fingerprint,
	decision func(ctx context.Context, tx *store.Tx, ring *keyring.Keyring, row store.Key, e evidence) error,
) (View, error) {
	err := s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		if err := tx.LockBasis(ctx); err != nil {
			return err
		}
		// Behind the lock: what two curators do at once is seen here.
		ring, b, err := s.in(ctx, tx)
		if err != nil {
			return err
		}
		k, ok := b.Keys[string(fp)]
		if !ok {
			return unknownKey(fp)
		}
		return decision(ctx, tx, ring, k.Row, evidenceOf(b, fp.Bytes()))
	})
	if err != nil {
		return View{}, err
	}
	return s.Show(ctx, string(fp))
}
