package keys

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"endeixis/core/keyring"
	"endeixis/core/openpgp"
	"endeixis/core/plain"
	"endeixis/internal/fault"
	"endeixis/internal/recorded"
	"endeixis/internal/records"
	"endeixis/internal/store"
)

// An Imported tells what became of one key of an import, or would.
type Imported struct {
	Fingerprint openpgp.Fingerprint
	Result      keyring.Arrival
	// Certificate is the key as it is after the import, and State where it
	// stands.
	Certificate *openpgp.Certificate
	State       keyring.State
	Publisher   string
	// Revokes: the key was known, and is revoked from now on.
	Revokes bool
	// Less says what of a key that was known counts no longer, such as a subkey that
	// is revoked, or an expiry that is earlier; safe to show.
	Less []string
	// Reassessment is the number of the one that this has entailed, or 0.
	Reassessment int64
	// Changes say what is new about a key that was known, safe to show.
	Changes []string
}

// maxImport bounds the text of an import.
const maxImport = 128 << 20

// An import may spend so much on verifying signatures, all its keys together: for each MiB of
// it, and at most.
const (
	effortPerMiB = 2 * time.Second
	maxEffort    = 20 * time.Second
)

// effortFor returns what an import of so many bytes may spend.
func effortFor(ctx context.Context, n int) *openpgp.Effort {
	return openpgp.EffortUntil(ctx, min(maxEffort, effortPerMiB*time.Duration(1+n>>20)))
}

// read turns the text of an import into certificates, each key once, of which
// everything was dropped that claims to be by its owner and is not, and notes about
// those that cannot be used, with what became of all of it. A revocation that comes alone becomes a certificate with
// nothing else, if it is about a key of the ring. A nil progress is told nothing.
func read(
	ctx context.Context, data []byte, ring *keyring.Keyring, progress Progress,
) (certs []*openpgp.Certificate, report ImportReport, err error) {
	if len(data) > maxImport {
		return nil, report, fault.New(
			fault.Invalid, fault.KeyTooLarge, "The key file is longer than %d MiB.", maxImport>>20,
		).
			At("data")
	}
	if revocations := openpgp.LoneRevocations(data); revocations != nil {
		certs, err = revoked(revocations, ring)
		for _, c := range certs {
			report.add(c.Primary.Fingerprint, openpgp.Vetting{Counted: 1})
		}
		return certs, report, err
	}
	all, skipped, err := openpgp.ReadCertificates(data)
	if err != nil {
		return nil, report, importFault(err)
	}
	if len(all) == 0 {
		return nil, report, fault.New(fault.Invalid, fault.KeyUnsupported, "No key in it can be used: %v.", skipped[0]).
			At("data")
	}
	report.Notes = leftOut(skipped)
	effort := effortFor(ctx, len(data))
	at := map[openpgp.Fingerprint]int{}
	for n, cert := range all {
		if ctx.Err() != nil {
			return nil, report, context.Cause(ctx)
		}
		progress.tell(n, len(all))
		share, giveBack := effort.Share(len(all) - n)
		vetted, vetting := cert.Vet(share, decided(ring))
		giveBack()
		fp := cert.Primary.Fingerprint
		if i, ok := at[fp]; ok { // what its first copy has is there twice
			merged, left := openpgp.Merge(certs[i], vetted, decided(ring))
			again := certs[i].Packets() + vetted.Packets() - merged.Packets() - left
			again = max(0, min(again, vetting.Counted-left))
			vetting.Counted -= again + left
			vetting.Repeated, vetting.Surplus = vetting.Repeated+again, vetting.Surplus+left
			certs[i] = merged
			report.add(fp, vetting)
			continue
		}
		report.add(fp, vetting)
		at[fp] = len(certs)
		certs = append(certs, vetted)
	}
	return certs, report.ordered(), nil
}

// decided finds, among the keys that a person has decided about, those that may have
// made a certification.
func decided(ring *keyring.Keyring) openpgp.Certifiers {
	return func(s *openpgp.Signature) []openpgp.Candidate {
		return slices.DeleteFunc(ring.Issuers(s), func(c openpgp.Candidate) bool {
			key := ring.Lookup(c.Certificate.Primary.Fingerprint)
			return c.Key != c.Certificate.Primary || key == nil || len(key.History) == 0
		})
	}
}

// leftOut tells of keys that cannot be used, the first few by their reasons.
func leftOut(skipped []error) []string {
	const named = 5
	var notes []string
	for i, problem := range skipped {
		if i == named {
			return append(notes, "Left out for such reasons: "+plain.Count(len(skipped)-named, "more key or part")+".")
		}
		what := "One key"
		if part := (*openpgp.PartError)(nil); errors.As(problem, &part) {
			what = "One part of a key"
		}
		notes = append(notes, what+" was left out: "+problem.Error()+".")
	}
	return notes
}

// An ImportReport tells what became of what an import was read from.
type ImportReport struct {
	// Notes say what could not be read as a key, and what to do about what was dropped.
	Notes []string
	// Packets are all that were read, by what became of them.
	Packets []Packets
}

// Packets are some of an import's packets, of which the same became for the same reason, and
// the keys that they are of.
type Packets struct {
	openpgp.Fate
	Keys []openpgp.Fingerprint
}

// add adds what became of the packets of one key.
func (a *ImportReport) add(fp openpgp.Fingerprint, vetting openpgp.Vetting) {
	for _, f := range vetting.Fates() {
		i := slices.IndexFunc(a.Packets, func(p Packets) bool { return p.Became == f.Became && p.Why == f.Why })
		if i < 0 {
			i = len(a.Packets)
			a.Packets = append(a.Packets, Packets{Fate: openpgp.Fate{Became: f.Became, Why: f.Why}})
		}
		p := &a.Packets[i]
		p.Packets += f.Packets
		if !slices.Contains(p.Keys, fp) {
			p.Keys = append(p.Keys, fp)
		}
	}
	if vetting.Unchecked > 0 {
		a.Notes = append(
			a.Notes,
			fmt.Sprintf(
				"On the key %s, %s could not be checked, for there are too many of a kind that takes long; they were left out, and there may be a revocation among them. Import that key by itself, from another source.",
				plain.Grouped(string(fp)), plain.Count(vetting.Unchecked, "signature"),
			),
		)
	}
}

// ordered puts what counts first, then what is kept, and then what was dropped.
func (a *ImportReport) ordered() ImportReport {
	order := openpgp.Standings()
	slices.SortStableFunc(
		a.Packets, func(x, y Packets) int { return slices.Index(order, x.Became) - slices.Index(order, y.Became) },
	)
	return *a
}

// A Progress is told how many of the keys of an import have been gone through.
type Progress func(done, total int)

func (p Progress) tell(done, total int) {
	if p != nil {
		p(done, total)
	}
}

// revoked returns the keys that revocations are about which come alone: those have to
// be in the keyring.
func revoked(revocations []*openpgp.Signature, ring *keyring.Keyring) ([]*openpgp.Certificate, error) {
	var certs []*openpgp.Certificate
	for _, r := range revocations {
		found := false
		for _, candidate := range ring.Issuers(r) {
			if candidate.Key != candidate.Certificate.Primary {
				continue
			}
			if cert, ok := candidate.Certificate.RevokedBy(r); ok {
				certs, found = append(certs, cert), true
			}
		}
		if found {
			continue
		}
		issuer := string(r.IssuerFingerprint)
		if issuer == "" {
			issuer = r.IssuerKeyID.String()
		}
		return nil, fault.New(
			fault.Invalid, fault.RevocationUnknown,
			"It holds only a revocation, by the key %s, and it revokes no key of the keyring.", plain.Grouped(issuer),
		).
			Advise("Import the key first, or get the whole key with its revocation.").
			At("data")
	}
	return certs, nil
}

// tooMuch says that parts of a key were left out.
func tooMuch(left int) string {
	return plain.Count(left, "part") + " more than one key may have here were left out"
}

// compared tells what an import of cert does to what is known of its key. known
// is nil for a key that is not in the keyring.
func compared(cert, known *openpgp.Certificate, certifiers openpgp.Certifiers, rules openpgp.Rules) Imported {
	out := Imported{
		Fingerprint: cert.Primary.Fingerprint, Result: keyring.NewlyArrived, Certificate: cert,
		State: keyring.Candidate,
	}
	if known == nil {
		return out
	}
	merged, left := openpgp.Merge(known, cert, certifiers)
	out.Result, out.Certificate = keyring.Unchanged, merged
	if left > 0 {
		out.Changes = []string{"What was known stays; of what is new, " + tooMuch(left) + "."}
	}
	if !bytes.Equal(out.Certificate.Bytes(), known.Bytes()) {
		out.Result = keyring.Updated
		out.Revokes = known.Revocation() == nil && out.Certificate.Revocation() != nil
		out.Less = harmless(openpgp.Less(known, out.Certificate, certifiers, rules))
		out.Changes = append(harmless(openpgp.Changes(known, out.Certificate, rules)), out.Changes...)
		if len(out.Changes) == 0 {
			out.Changes = []string{"Signatures are added that change nothing about what it may do or is called."}
		}
	}
	return out
}

// WithChange returns the keyring as it would be with one of its keys withdrawn
// now or, when a newer copy of it is given, with that merged.
func (s *Service) WithChange(
	ctx context.Context, fingerprint string, newer *openpgp.Certificate,
) (*keyring.Keyring, openpgp.Fingerprint, error) {
	fp, err := parse(fingerprint, "fingerprint")
	if err != nil {
		return nil, "", err
	}
	ring, err := s.ToJudge(ctx)
	if err != nil {
		return nil, "", err
	}
	k := ring.Lookup(fp)
	if k == nil {
		return nil, "", unknownKey(fp)
	}
	changed := *k
	if newer != nil {
		changed.Certificate, _ = openpgp.Merge(k.Certificate, newer, decided(ring))
	} else {
		changed.History = append(slices.Clone(k.History), keyring.Change{At: s.now(), To: keyring.Withdrawn})
	}
	return ring.With(&changed), fp, nil
}

// arrival is [compared] for what the keyring knows of the key, with where that
// stands.
func arrival(ring *keyring.Keyring, cert *openpgp.Certificate, rules openpgp.Rules) Imported {
	k := ring.Lookup(cert.Primary.Fingerprint)
	if k == nil {
		return compared(cert, nil, nil, rules)
	}
	out := compared(cert, k.Certificate, decided(ring), rules)
	out.State, out.Publisher = k.StateAt(rules.Now), k.Publisher
	return out
}

// Preview tells what an import would do, and does nothing.
func (s *Service) Preview(ctx context.Context, data []byte, progress Progress) ([]Imported, ImportReport, error) {
	ring, _, policies, err := s.present(ctx)
	if err != nil {
		return nil, ImportReport{}, err
	}
	certs, report, err := read(ctx, data, ring, progress)
	if err != nil {
		return nil, ImportReport{}, err
	}
	var out []Imported
	for _, cert := range certs {
		out = append(out, arrival(ring, cert, policies.Rules(s.now())))
	}
	return out, report, nil
}

// Import adds the keys of a text to the keyring as candidates, or what is new
// about those that are known already. Nothing is kept when any part of it is
// damaged or secret. What has a signature by one of them is judged again, see
// [Consequences].
func (s *Service) Import(
	ctx context.Context, by, publisher, source string, data []byte, progress Progress,
) ([]Imported, ImportReport, error) {
	if publisher != "" {
		if _, err := s.publishers.Publisher(ctx, publisher); err != nil {
			return nil, ImportReport{}, err
		}
	}
	ring, err := s.ToJudge(ctx)
	if err != nil {
		return nil, ImportReport{}, err
	}
	policies, err := s.policies.InForce(ctx, 0)
	if err != nil {
		return nil, ImportReport{}, err
	}
	certs, report, err := read(ctx, data, ring, progress)
	if err != nil {
		return nil, ImportReport{}, err
	}
	rules := policies.Rules(s.now())
	var out []Imported
	err = s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		out = nil
		// A second import of the same keys waits, and finds them.
		if err := tx.LockBasis(ctx); err != nil {
			return err
		}
		now, b, err := s.in(ctx, tx)
		if err != nil {
			return err
		}
		named, err := namedIn(ctx, tx, certs)
		if err != nil {
			return err
		}
		var entries []records.Entry
		for _, cert := range certs {
			imported, err := importOne(now, b, cert, decided(ring), publisher, rules)
			if err != nil {
				return err
			}
			if imported.Result != keyring.NewlyArrived || slices.ContainsFunc(cert.Issuers(), named) {
				imported.Reassessment, err = s.importChanged(ctx, tx, by, rules.Now, imported, ring)
			}
			if err != nil {
				return err
			}
			out = append(out, imported)
			if imported.Result == keyring.Unchanged {
				continue
			}
			kept := imported.Certificate.Bytes()
			entries = append(
				entries,
				records.Entry{By: by, Subject: string(imported.Fingerprint), Body: recorded.KeyImported{
					Fingerprint: imported.Fingerprint, Result: imported.Result, Changes: imported.Changes,
					Publisher: publisher, Source: source, UserIDs: harmless(cert.Names()), Certificate: cert.Bytes(),
					Stored: records.DigestOf(kept), Kept: kept,
				}},
			)
		}
		_, err = s.records.Append(ctx, tx, entries...)
		return err
	})
	if err != nil {
		return nil, ImportReport{}, err
	}
	for _, imported := range out {
		if imported.Result != keyring.Unchanged {
			s.ring.keepCertificate(imported.Certificate)
		}
	}
	return out, report, nil
}

// namedIn tells what signatures name of what they may name for some keys: most keys of a large text have
// signed nothing that was verified here, and are not asked about one by one.
func namedIn(ctx context.Context, tx *store.Tx, certs []*openpgp.Certificate) (func(issuer string) bool, error) {
	var all []string
	for _, cert := range certs {
		all = append(all, cert.Issuers()...)
	}
	named, err := tx.NamedIssuers(ctx, all)
	return func(issuer string) bool { _, found := slices.BinarySearch(named, issuer); return found }, err
}

// importChanged orders what follows from an import: what has a signature by the key is judged by what
// it says from now on, be that more or less.
func (s *Service) importChanged(
	ctx context.Context, tx *store.Tx, by string, at time.Time, i Imported, ring *keyring.Keyring,
) (int64, error) {
	var why string
	switch {
	case i.Result == keyring.Unchanged:
		return 0, nil
	case i.Revokes && len(i.Less) > 0:
		why = "The key is revoked: " + i.Less[0]
	case len(i.Less) > 0:
		why = "The key says less than before: " + i.Less[0]
	case len(i.Changes) > 0:
		why = "The key says more than before: " + i.Changes[0]
	default:
		why = "The key was imported."
	}
	return s.changed(ctx, tx, by, at, i.Certificate, ring, why)
}

// changed orders that what rests on a key be judged again: what it signed, and what was
// signed by keys that were admitted because it certified them.
func (s *Service) changed(
	ctx context.Context, tx *store.Tx, by string, at time.Time, cert *openpgp.Certificate, ring *keyring.Keyring,
	reason string,
) (int64, error) {
	return s.follow.KeyChanged(ctx, tx, by, at, cert.Primary.Fingerprint, ring.IssuersWith(cert), reason)
}

// importOne works out what an import brings about one key of a keyring.
func importOne(
	ring *keyring.Keyring, b *recorded.Basis, cert *openpgp.Certificate, certifiers openpgp.Certifiers,
	publisher string, rules openpgp.Rules,
) (Imported, error) {
	known := ring.Lookup(cert.Primary.Fingerprint)
	if _, kept := b.Keys[string(cert.Primary.Fingerprint)]; kept && known == nil {
		return Imported{}, &unreadableError{fingerprint: cert.Primary.Fingerprint}
	}
	if known == nil {
		return compared(cert, nil, nil, rules), nil
	}
	imported := compared(cert, known.Certificate, certifiers, rules)
	imported.State, imported.Publisher = known.StateAt(rules.Now), known.Publisher
	if known.Publisher == "" && publisher != "" {
		imported.Publisher, imported.Result = publisher, keyring.Updated
		imported.Changes = append(imported.Changes, "It is said to belong to "+publisher+".")
	}
	return imported, nil
}

func harmless(names []string) []string {
	out := []string{}
	for _, n := range names {
		out = append(out, plain.Text(n))
	}
	return out
}

func importFault(err error) error {
	var secret *openpgp.SecretKeyError
	var empty *openpgp.EmptyError
	switch {
	case errors.As(err, &secret):
		return fault.New(
			fault.Invalid, fault.SecretKey, "This is a secret key, not a public one. Nothing of it was kept.",
		).
			Advise(
				"Ask for the public key. Tell whoever gave you this that their secret key has been handed around: it can no longer be relied on.",
			).
			At("data")
	case errors.As(err, &empty):
		what := empty.Found
		if what == "" {
			what = "nothing in it looks like one"
		}
		return fault.New(fault.Invalid, fault.NotAKey, "There is no OpenPGP public key in it: %s.", what).
			Advise(
				"Give the publisher's key file, or the text from BEGIN PGP PUBLIC KEY BLOCK to END PGP PUBLIC KEY BLOCK.",
			).At("data")
	}
	return fault.New(fault.Invalid, fault.KeyDamaged, "The key is damaged: %s.", err).
		Advise("Download it again.").
		At("data")
}
