package keys

import (
	"context"
	"errors"
	"strings"
	"time"

	"endeixis/core/keyring"
	"endeixis/core/ledger"
	"endeixis/core/openpgp"
	"endeixis/core/plain"
	"endeixis/internal/fault"
	"endeixis/internal/records"
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
	read, err := parse(a.Typed, "typed")
	if err != nil {
		return View{}, err
	}
	if err := sameLength(read, fp, "typed"); err != nil {
		return View{}, err
	}
	if read != fp {
		return View{}, fault.New(fault.Invalid, "fingerprint-differs", "What you typed differs from the key's fingerprint in %d places.", len(keyring.Differences(read, fp))).
			Advise("Read it again from your source. If it stays so, this is not the publisher's key.").At("typed")
	}
	if err := fault.Reason(a.Reason, "An admission"); err != nil {
		return View{}, err
	}
	if a.Role == "" {
		a.Role = keyring.Release
	}
	if a.Role != keyring.Release && a.Role != keyring.Anchor {
		return View{}, fault.New(fault.Invalid, "bad-role", "A key is for releases or an anchor, not %s.", plain.Quoted(string(a.Role))).At("role")
	}
	if a.Until != nil {
		// As a signature tells its time.
		whole := a.Until.UTC().Truncate(time.Second)
		if a.Until = &whole; whole.After(s.now()) {
			return View{}, fault.New(fault.Invalid, "bad-until", "An admission for the past ends in the past.").Advise("Leave the date out for a key that goes on signing.").At("until")
		}
	}
	if _, err := s.publishers.Publisher(ctx, a.Publisher); err != nil {
		return View{}, err
	}
	policies, _, err := s.policies.ToJudge(ctx, 0, s.now())
	if err != nil {
		return View{}, err
	}
	policy := policies.Of(a.Publisher)
	return s.decide(ctx, fp, func(ctx context.Context, tx *store.Tx, row store.Key, e evidence) error {
		ring, err := s.snapshotIn(ctx, tx)
		if err != nil {
			return err
		}
		row.Publisher, row.Role = a.Publisher, string(a.Role)
		v, err := s.view(ring, row, e, policy, a.Until)
		if err != nil {
			return err
		}
		if err := mayBecome(v.Key.StateAt(s.now()), keyring.Admitted); err != nil {
			return err
		}
		if len(v.Obstacles) > 0 {
			f := fault.New(fault.Conflict, "evidence-missing", "The evidence does not suffice to admit this key.")
			for _, o := range v.Obstacles {
				f.Facts = append(f.Facts, o.Sentence)
			}
			return f.Advise("%s", strings.Join(f.Facts, " "))
		}
		body := struct {
			Fingerprint openpgp.Fingerprint   `json:"fingerprint"`
			From        keyring.State         `json:"from"`
			To          keyring.State         `json:"to"`
			Publisher   string                `json:"publisher"`
			Role        keyring.Role          `json:"role"`
			Reason      string                `json:"reason"`
			Sightings   []int64               `json:"sightings"`
			Anchors     []openpgp.Fingerprint `json:"anchors"`
			Policy      int64                 `json:"policy"`
			ProposedBy  string                `json:"proposed_by,omitempty"`
			Until       *time.Time            `json:"until,omitempty"`
			// RestsOn are those of the anchors without which it could not have
			// been admitted.
			RestsOn []openpgp.Fingerprint `json:"rests_on,omitempty"`
		}{fp, keyring.Candidate, keyring.Admitted, a.Publisher, a.Role, a.Reason, []int64{}, []openpgp.Fingerprint{}, policies.Version, "", a.Until, nil}
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
			if v.Proposal.Publisher != a.Publisher || v.Proposal.Role != string(a.Role) || !sameTime(v.Proposal.Until, a.Until) {
				return fault.New(fault.Conflict, "other-proposal", "%s proposed this key for %s, as a key for %s%s; you ask for something else.", v.Proposal.By, v.Proposal.Publisher, roleWord(v.Proposal.Role), untilWord(v.Proposal.Until)).
					Advise("Admit it as proposed, or decline the proposal with a reason and propose your own.")
			}
			body.ProposedBy = v.Proposal.By
		}
		if err := tx.DecideProposal(ctx, fp.Bytes(), "admitted"); err != nil {
			return err
		}
		change := store.KeyChange{Fingerprint: fp.Bytes(), At: s.now(), To: string(keyring.Admitted), By: by, Reason: a.Reason, Until: a.Until}
		for _, anchor := range body.RestsOn {
			change.RestsOn = append(change.RestsOn, string(anchor))
		}
		position, err := s.step(ctx, tx, change, body)
		if err != nil {
			return err
		}
		return tx.SetPublisher(ctx, fp.Bytes(), a.Publisher, string(a.Role), position)
	})
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

func roleWord(role string) string {
	if role == string(keyring.Anchor) {
		return "certifying others"
	}
	return "releases"
}

// propose keeps what the first of two curators wants.
func (s *Service) propose(ctx context.Context, tx *store.Tx, by string, fp openpgp.Fingerprint, a Admission) error {
	position, err := s.records.Append(ctx, tx, records.Entry{Kind: ledger.AdmissionProposed, By: by, Subject: string(fp), Body: struct {
		Fingerprint openpgp.Fingerprint `json:"fingerprint"`
		Publisher   string              `json:"publisher"`
		Role        keyring.Role        `json:"role"`
		Reason      string              `json:"reason"`
		Until       *time.Time          `json:"until,omitempty"`
	}{fp, a.Publisher, a.Role, a.Reason, a.Until}})
	if err != nil {
		return err
	}
	return tx.AddProposal(ctx, store.Proposal{Fingerprint: fp.Bytes(), Publisher: a.Publisher, Role: string(a.Role), Reason: a.Reason, By: by, At: s.now(), Position: position, Until: a.Until})
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
	return s.decide(ctx, fp, func(ctx context.Context, tx *store.Tx, _ store.Key, e evidence) error {
		if len(e.proposals) == 0 {
			return fault.New(fault.Conflict, "no-proposal", "No proposal waits for this key.")
		}
		p := e.proposals[0]
		_, err := s.records.Append(ctx, tx, records.Entry{Kind: ledger.ProposalDeclined, By: by, Subject: string(fp), Body: struct {
			Fingerprint openpgp.Fingerprint `json:"fingerprint"`
			Proposal    int64               `json:"proposal"`
			ProposedBy  string              `json:"proposed_by"`
			Reason      string              `json:"reason"`
		}{fp, p.Position, p.By, reason}})
		if err != nil {
			return err
		}
		return tx.DecideProposal(ctx, fp.Bytes(), "declined")
	})
}

// Withdraw ends that an admitted key counts. Records that rest on it stand as
// they were; what rests on it is judged again, see [Consequences].
func (s *Service) Withdraw(ctx context.Context, by, fingerprint, reason string) (View, error) {
	var asked int64
	v, err := s.move(ctx, by, fingerprint, keyring.Withdrawn, reason, "A withdrawal", func(ctx context.Context, tx *store.Tx, at time.Time, row store.Key) error {
		cert, err := s.ring.certificate(row)
		if err != nil {
			return err
		}
		ring, err := s.snapshotIn(ctx, tx)
		if err != nil {
			return err
		}
		asked, err = s.fell(ctx, tx, by, at, cert, ring, "The key was withdrawn: "+reason)
		return err
	})
	v.Reassessment = asked
	return v, err
}

// Reconsider makes a withdrawn key a candidate again. It can then be admitted
// as any other, on evidence.
func (s *Service) Reconsider(ctx context.Context, by, fingerprint, reason string) (View, error) {
	return s.move(ctx, by, fingerprint, keyring.Candidate, reason, "Reconsidering a key", func(context.Context, *store.Tx, time.Time, store.Key) error { return nil })
}

// move takes a key one step on, with what follows from that.
func (s *Service) move(ctx context.Context, by, fingerprint string, to keyring.State, reason, what string, follow func(ctx context.Context, tx *store.Tx, at time.Time, row store.Key) error) (View, error) {
	fp, err := parse(fingerprint, "fingerprint")
	if err != nil {
		return View{}, err
	}
	if err := fault.Reason(reason, what); err != nil {
		return View{}, err
	}
	return s.decide(ctx, fp, func(ctx context.Context, tx *store.Tx, row store.Key, e evidence) error {
		now := s.now()
		state := (&keyring.Key{History: historyOf(e.changes)}).StateAt(now)
		if err := mayBecome(state, to); err != nil {
			return err
		}
		if err := follow(ctx, tx, now, row); err != nil {
			return err
		}
		_, err := s.step(ctx, tx, store.KeyChange{Fingerprint: fp.Bytes(), At: now, To: string(to), By: by, Reason: reason}, struct {
			Fingerprint openpgp.Fingerprint `json:"fingerprint"`
			From        keyring.State       `json:"from"`
			To          keyring.State       `json:"to"`
			Publisher   string              `json:"publisher"`
			Reason      string              `json:"reason"`
		}{fp, state, to, row.Publisher, reason})
		return err
	})
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
		sighting, err := tx.Sighting(ctx, record)
		if errors.Is(err, store.ErrNotFound) {
			return fault.New(fault.NotFound, "sighting-unknown", "Record %d is not a sighting.", record).Advise("“endeixis keyring show” names the records of a key's sightings.").At("record")
		}
		if err != nil {
			return err
		}
		fp = openpgp.NewFingerprint(sighting.Fingerprint)
		read := openpgp.NewFingerprint(sighting.Read)
		switch {
		case read == fp:
			return fault.New(fault.Conflict, "no-conflict", "This sighting agrees with the key; there is nothing to resolve.")
		case sighting.Resolved != "":
			return fault.New(fault.Conflict, "resolved-before", "%s resolved this conflict before: %s", sighting.ResolvedBy, plain.Text(sighting.Resolved))
		}
		if _, err := s.records.Append(ctx, tx, records.Entry{Kind: ledger.ConflictResolved, By: by, Subject: string(fp), Body: struct {
			Fingerprint openpgp.Fingerprint `json:"fingerprint"`
			Sighting    int64               `json:"sighting"`
			Read        openpgp.Fingerprint `json:"read"`
			Reason      string              `json:"reason"`
		}{fp, record, read, reason}}); err != nil {
			return err
		}
		at := s.now()
		if err := tx.ResolveSighting(ctx, record, reason, by, at); err != nil {
			return err
		}
		row, err := tx.LockKey(ctx, fp.Bytes())
		if err != nil {
			return err
		}
		asked, err = s.standingChanged(ctx, tx, by, at, row, "A sighting that contradicted the fingerprint of a key was explained: "+reason)
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
	return fault.New(fault.Conflict, "wrong-state", "The key is %s; %s.", state, only[to])
}

// decide runs a decision about a key that nobody else decides about meanwhile,
// and returns the key as it stands then.
func (s *Service) decide(ctx context.Context, fp openpgp.Fingerprint, decision func(ctx context.Context, tx *store.Tx, row store.Key, e evidence) error) (View, error) {
	err := s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		if err := tx.LockBasis(ctx); err != nil {
			return err
		}
		row, err := tx.LockKey(ctx, fp.Bytes())
		if err != nil {
			return err
		}
		// Behind the lock: what two curators do at once is seen here.
		e, err := evidenceOf(ctx, tx.Reads, fp)
		if err != nil {
			return err
		}
		return decision(ctx, tx, row, e)
	})
	if errors.Is(err, store.ErrNotFound) {
		return View{}, unknownKey(fp)
	}
	if err != nil {
		return View{}, err
	}
	return s.Show(ctx, string(fp))
}

// step records a change of state, which counts from then on, and returns the
// record's position.
func (s *Service) step(ctx context.Context, tx *store.Tx, change store.KeyChange, body any) (int64, error) {
	var err error
	change.Position, err = s.records.Append(ctx, tx, records.Entry{Kind: ledger.KeyStep, By: change.By, Subject: string(openpgp.NewFingerprint(change.Fingerprint)), Body: body})
	if err != nil {
		return 0, err
	}
	return change.Position, tx.AddKeyChange(ctx, change)
}
