// Package keys is the service around the keyring: import, sightings, admission,
// withdrawal. What counts as evidence is decided in core/keyring.
package keys

import (
	"context"
	"encoding/hex"
	"slices"
	"strings"
	"time"

	"endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/core/openpgp"
	"endeixis/core/plain"
	"endeixis/internal/basis"
	"endeixis/internal/fault"
	"endeixis/internal/policy"
	"endeixis/internal/publishers"
	"endeixis/internal/recorded"
	"endeixis/internal/records"
	"endeixis/internal/store"
)

// Service keeps the keyring.
type Service struct {
	store      *store.Store
	records    *records.Service
	basis      *basis.Service
	now        func() time.Time
	publishers Publishers
	policies   Policies
	asker      Asker
	follow     Consequences
	ring       cache
}

// Consequences are what must follow when a key counts, counts no longer, or says something else than
// before. They are asked for in the transaction of the decision, so that neither is there without the
// other.
type Consequences interface {
	// KeyChanged orders that everything be judged again, with the keyring as of
	// a time, on which a signature by one of the issuers bears. It returns the
	// number of the reassessment, or 0 when there is nothing.
	KeyChanged(
		ctx context.Context, tx *store.Tx, by string, at time.Time, key openpgp.Fingerprint, issuers []string,
		reason string,
	) (int64, error)
}

// Publishers tell who there is; [publishers.Service] does.
type Publishers interface {
	Publisher(ctx context.Context, slug string) (publishers.Publisher, error)
}

// Policies tell what is in force; [policy.Service] does.
type Policies interface {
	InForce(ctx context.Context, version int64) (policy.InForce, error)
	ToJudge(ctx context.Context, version int64, at time.Time) (policy.InForce, []judge.Waiver, error)
}

// New returns a Service. asker may be nil: then nothing can be looked up.
func New(
	s *store.Store, r *records.Service, b *basis.Service, p Publishers, in Policies, asker Asker, follow Consequences,
	now func() time.Time,
) *Service {
	return &Service{store: s, records: r, basis: b, publishers: p, policies: in, asker: asker, follow: follow, now: now}
}

// A Filter says which keys are listed; the zero value lists all.
type Filter struct {
	State     keyring.State
	Publisher string
	// Text is a part of a user ID or of the fingerprint, ignoring case and
	// spacing.
	Text string
	// Waiting lists what waits for a curator: candidates, and keys that an
	// unresolved sighting contradicts.
	Waiting bool
	// ExpiresBefore lists keys that expire before then; zero lists all.
	ExpiresBefore time.Time
	// Unsettled leaves out those that somebody has settled as they are.
	Unsettled bool
	// After is the fingerprint behind which the page begins, and Limit how
	// many keys it has; 0 means all.
	After openpgp.Fingerprint
	Limit int
}

// matches reports whether a key is listed.
func (f Filter) matches(k *keyring.Key, now time.Time, rules openpgp.Rules) bool {
	state := k.StateAt(now)
	// What asks least of the certificates is asked first: to know of its expiry, its
	// signatures have to be read.
	if f.State != "" && state != f.State || f.Publisher != "" && k.Publisher != f.Publisher ||
		f.Waiting && state != keyring.Candidate && !k.Conflict || f.Text != "" && !f.found(k) {
		return false
	}
	if f.ExpiresBefore.IsZero() {
		return true
	}
	expires, _ := k.Certificate.Expires(rules)
	return expires != nil && expires.Before(f.ExpiresBefore)
}

func (f Filter) found(k *keyring.Key) bool {
	text := strings.ToLower(strings.TrimSpace(f.Text))
	bare := strings.ReplaceAll(text, " ", "")
	for _, part := range k.Certificate.Keys() {
		if strings.Contains(string(part.Fingerprint), bare) {
			return true
		}
	}
	return slices.ContainsFunc(
		k.Certificate.UserIDs, func(u *openpgp.UserID) bool { return strings.Contains(strings.ToLower(u.ID), text) },
	)
}

// List returns the keys that a filter lists, in the order of their import, and
// whether more follow.
func (s *Service) List(ctx context.Context, f Filter) ([]View, bool, error) {
	ring, b, policies, err := s.present(ctx)
	if err != nil {
		return nil, false, err
	}
	now := s.now()
	// For many keys what is recorded about all is gone through once.
	changesOf := grouped(b.Steps, func(c store.KeyChange) []byte { return c.Fingerprint })
	sightingsOf := grouped(b.Sightings, func(v store.Sighting) []byte { return v.Fingerprint })
	proposalsOf := grouped(b.Waiting(), func(p store.Proposal) []byte { return p.Fingerprint })
	about := func(fp []byte) evidence {
		return evidence{changesOf[string(fp)], sightingsOf[string(fp)], proposalsOf[string(fp)]}
	}
	settled := settlements{}
	if f.Unsettled {
		if settled, err = s.settlements(ctx); err != nil {
			return nil, false, err
		}
	}
	fingerprints, skipping, more := [][]byte{}, f.After != "", false
	for _, k := range ring.Keys() {
		fp := k.Certificate.Primary.Fingerprint
		if skipping {
			skipping = fp != f.After
			continue
		}
		if !f.matches(k, now, policies.Rules(now)) {
			continue
		}
		if len(settled) > 0 && !k.Conflict {
			expires, _ := k.Certificate.Expires(policies.Rules(now))
			if settled.hold(b.Keys[string(fp)].Row, about(fp.Bytes()), expires, now) {
				continue
			}
		}
		if more = f.Limit > 0 && len(fingerprints) == f.Limit; more {
			break
		}
		fingerprints = append(fingerprints, fp.Bytes())
	}
	out := make([]View, 0, len(fingerprints))
	for _, fp := range fingerprints {
		row := b.Keys[hex.EncodeToString(fp)].Row
		v, err := s.view(
			ring, row, about(fp), policies.Of(row.Publisher), nil,
		)
		if err != nil {
			return nil, false, err
		}
		out = append(out, v)
	}
	return out, more, nil
}

// Show returns one key by its full fingerprint, in any spacing and case.
func (s *Service) Show(ctx context.Context, fingerprint string) (View, error) {
	fp, err := parse(fingerprint, "fingerprint")
	if err != nil {
		return View{}, err
	}
	ring, b, policies, err := s.present(ctx)
	if err != nil {
		return View{}, err
	}
	known, ok := b.Keys[string(fp)]
	if !ok {
		return View{}, unknownKey(fp)
	}
	v, err := s.view(ring, known.Row, evidenceOf(b, fp.Bytes()), policies.Of(known.Row.Publisher), nil)
	if err == nil {
		v.Certifiers, v.UnknownCertifiers = ring.Certifiers(v.Key, v.Rules)
		v.Namesakes = ring.Namesakes(v.Key)
	}
	return v, err
}

// evidence is what is recorded about one key beside itself.
type evidence struct {
	changes   []store.KeyChange
	sightings []store.Sighting
	proposals []store.Proposal
}

// evidenceOf reads it from what is recorded.
func evidenceOf(b *recorded.Basis, fingerprint []byte) (e evidence) {
	e.changes, e.sightings, e.proposals = b.About(fingerprint)
	return e
}

func unknownKey(fp openpgp.Fingerprint) error {
	return fault.New(fault.NotFound, fault.KeyUnknown, "There is no key %s in the keyring.", plain.Grouped(string(fp))).
		Advise("Import it first.").
		At("fingerprint")
}

func parse(value, field string) (openpgp.Fingerprint, error) {
	fp, err := keyring.ParseFingerprint(value)
	if err != nil {
		return "", fault.New(fault.Invalid, fault.BadFingerprint, "That is not a full fingerprint: %s.", err).At(field)
	}
	return fp, nil
}

// sameLength refuses a value that cannot be this key's fingerprint for its
// length alone: it was cut short, or belongs to a key of another version.
func sameLength(read, fp openpgp.Fingerprint, field string) error {
	if len(read) == len(fp) {
		return nil
	}
	return fault.New(
		fault.Invalid, fault.BadFingerprint, "That has %d digits, and the fingerprint of this key has %d.", len(read),
		len(fp),
	).
		Advise("Give all of it.").
		At(field)
}

// view puts together what is known about one key. Its role and publisher are
// those it has or, in the row, those it is proposed for; until is set when that is for
// the past.
func (s *Service) view(
	ring *keyring.Keyring, row store.Key, e evidence, policy judge.Policy, until *time.Time,
) (View, error) {
	fp := openpgp.NewFingerprint(row.Fingerprint)
	known := ring.Lookup(fp)
	if known == nil {
		return View{}, &unreadableError{fingerprint: fp}
	}
	cert := known.Certificate
	now := s.now()
	v := View{
		Imported: Import{At: row.ImportedAt, By: row.ImportedBy, Source: row.Source},
		Policy:   policy,
		Rules:    policy.Rules(now),
		Key: &keyring.Key{
			Certificate: cert, Publisher: row.Publisher, Role: keyring.Role(row.Role), History: historyOf(e.changes),
		},
	}
	for _, c := range e.changes {
		v.Steps = append(v.Steps, stepOf(c))
	}
	if len(e.proposals) > 0 {
		v.Proposal = proposalOf(e.proposals[0])
	}
	found := keyring.Evidence{Paths: ring.Paths(v.Key, row.Publisher, v.Rules)}
	v.Paths = found.Paths
	for _, row := range e.sightings {
		sighting := sightingOf(row)
		v.Sightings = append(v.Sightings, sighting)
		found.Sightings = append(
			found.Sightings,
			keyring.Sighting{Channel: sighting.Channel, Read: sighting.Read, Resolved: sighting.Resolved != ""},
		)
		if sighting.Read != cert.Primary.Fingerprint && sighting.Resolved == "" {
			v.Key.Conflict = true
		}
	}
	v.Sighted = found.Sighted(v.Key)
	if v.Key.StateAt(now) == keyring.Candidate {
		v.Obstacles = keyring.Obstacles(
			v.Key, found,
			keyring.Demand{Channels: policy.SightingChannels, AnchorAdmits: policy.AnchorAdmits, Until: until}, v.Rules,
		)
	}
	return v, nil
}

// A NewSighting is a fingerprint read somewhere.
type NewSighting struct {
	Read    string
	Channel keyring.Channel
	Place   string
	Note    string
}

// Sight notes that a fingerprint was read. It reports whether it agrees with
// the key's, and keeps it either way.
func (s *Service) Sight(ctx context.Context, by, fingerprint string, n NewSighting) (View, bool, error) {
	fp, err := parse(fingerprint, "fingerprint")
	if err != nil {
		return View{}, false, err
	}
	read, err := parse(n.Read, "read")
	if err != nil {
		return View{}, false, err
	}
	if !slices.Contains(keyring.Channels(), n.Channel) {
		return View{}, false, fault.New(
			fault.Invalid, fault.BadChannel, "There is no channel %s.", plain.Quoted(string(n.Channel)),
		).
			Advise("Channels: %s.", channelList()).
			At("channel")
	}
	if strings.TrimSpace(n.Place) == "" || len(n.Place)+len(n.Note) > 4000 || strings.ContainsRune(n.Place+n.Note, 0) {
		return View{}, false, fault.New(
			fault.Invalid, fault.PlaceMissing,
			"A sighting says where exactly the fingerprint was read, in at most 4000 characters.",
		).
			Advise("For example the page's address, or who was on the phone.").
			At("place")
	}
	if err := sameLength(read, fp, "read"); err != nil {
		return View{}, false, err
	}
	agrees := read == fp
	var asked int64
	err = s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		if err := tx.LockBasis(ctx); err != nil {
			return err
		}
		b, err := s.basis.In(ctx, tx)
		if err != nil {
			return err
		}
		if _, known := b.Keys[string(fp)]; !known {
			return unknownKey(fp)
		}
		if _, err = s.records.Decide(
			ctx, tx, by, string(fp),
			recorded.Sighting{
				Fingerprint: fp, Read: read, Agrees: agrees, Channel: n.Channel, Place: n.Place, Note: n.Note,
			},
		); err != nil || agrees {
			return err
		}
		asked, err = s.standingChanged(ctx, tx, by, fp, "A sighting contradicts the fingerprint of a key.")
		return err
	})
	if err != nil {
		return View{}, false, err
	}
	v, err := s.Show(ctx, string(fp))
	v.Reassessment = asked
	return v, agrees, err
}

// standingChanged has judged again what rests on an admitted key when something is seen
// about it that is no step of its own. It returns the number of the reassessment, or 0.
func (s *Service) standingChanged(
	ctx context.Context, tx *store.Tx, by string, fp openpgp.Fingerprint, reason string,
) (int64, error) {
	ring, _, err := s.in(ctx, tx)
	if err != nil {
		return 0, err
	}
	at := s.now()
	k := ring.Lookup(fp)
	if k == nil {
		return 0, &unreadableError{fingerprint: fp}
	}
	if k.StateAt(at) != keyring.Admitted {
		return 0, nil
	}
	return s.changed(ctx, tx, by, at, k.Certificate, ring, reason)
}

func channelList() string {
	var names []string
	for _, c := range keyring.Channels() {
		names = append(names, string(c))
	}
	return strings.Join(names, ", ")
}
