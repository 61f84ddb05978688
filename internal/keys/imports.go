package keys

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"

	"endeixis/core/keyring"
	"endeixis/core/ledger"
	"endeixis/core/openpgp"
	"endeixis/core/plain"
	"endeixis/internal/fault"
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
	// Reassessment is the number of the one that a revocation has entailed,
	// or 0.
	Reassessment int64
	// Changes say what is new about a key that was known, safe to show.
	Changes []string
}

// maxImport bounds the text of an import.
const maxImport = 16 << 20

// read turns the text of an import into certificates, each key once, and notes
// about those that cannot be used.
func read(data []byte) (certs []*openpgp.Certificate, notes []string, err error) {
	if len(data) > maxImport {
		return nil, nil, fault.New(fault.Invalid, "key-too-large", "The key file is longer than %d MiB.", maxImport>>20).At("data")
	}
	all, skipped, err := openpgp.ReadCertificates(data)
	if err != nil {
		return nil, nil, importFault(err)
	}
	for _, problem := range skipped {
		notes = append(notes, "One key was left out: "+problem.Error()+".")
	}
	if len(all) == 0 {
		return nil, nil, fault.New(fault.Invalid, "key-unsupported", "No key in it can be used: %v.", skipped[0]).At("data")
	}
	at := map[openpgp.Fingerprint]int{}
	for _, cert := range all {
		fp := cert.Primary.Fingerprint
		if i, ok := at[fp]; ok {
			merged, left := openpgp.Merge(certs[i], cert)
			if certs[i] = merged; left > 0 {
				notes = append(notes, fmt.Sprintf("The key %s is in it more than once; %s.", plain.Grouped(string(fp)), tooMuch(left)))
			}
			continue
		}
		at[fp] = len(certs)
		certs = append(certs, cert)
	}
	return certs, notes, nil
}

// readFor is [read], for keys that a revocation which comes alone is
// about too: those have to be in the keyring.
func (s *Service) readFor(ctx context.Context, data []byte) (certs []*openpgp.Certificate, notes []string, err error) {
	revocations := openpgp.LoneRevocations(data)
	if len(data) > maxImport || revocations == nil {
		return read(data)
	}
	ring, err := s.Snapshot(ctx)
	if err != nil {
		return nil, nil, err
	}
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
		return nil, nil, fault.New(fault.Invalid, "revocation-unknown", "It holds only a revocation, by the key %s, and it revokes no key of the keyring.", plain.Grouped(issuer)).
			Advise("Import the key first, or get the whole key with its revocation.").At("data")
	}
	return certs, notes, nil
}

// tooMuch says that parts of a key were left out.
func tooMuch(left int) string {
	return fmt.Sprintf("%d of its parts were left out, for one key can have a thousand parts, and each 20,000 signatures", left)
}

// compared tells what an import of cert does to what is known of its key. known
// is nil for a key that is not in the keyring.
func compared(cert, known *openpgp.Certificate, rules openpgp.Rules) Imported {
	out := Imported{Fingerprint: cert.Primary.Fingerprint, Result: keyring.NewlyArrived, Certificate: cert, State: keyring.Candidate}
	if known == nil {
		return out
	}
	merged, left := openpgp.Merge(known, cert)
	out.Result, out.Certificate = keyring.Unchanged, merged
	if left > 0 {
		out.Changes = []string{"What was known stays; of what is new, " + tooMuch(left) + "."}
	}
	if !bytes.Equal(out.Certificate.Bytes(), known.Bytes()) {
		out.Result = keyring.Updated
		out.Revokes = known.Revocation() == nil && out.Certificate.Revocation() != nil
		out.Changes = append(harmless(openpgp.Changes(known, out.Certificate, rules)), out.Changes...)
		if len(out.Changes) == 0 {
			out.Changes = []string{"Signatures are added that change nothing about what it may do or is called."}
		}
	}
	return out
}

// WithChange returns the keyring as it would be with one of its keys withdrawn
// now or, when a newer copy of it is given, with that merged.
func (s *Service) WithChange(ctx context.Context, fingerprint string, newer *openpgp.Certificate) (*keyring.Keyring, openpgp.Fingerprint, error) {
	fp, err := parse(fingerprint, "fingerprint")
	if err != nil {
		return nil, "", err
	}
	ring, err := s.Snapshot(ctx)
	if err != nil {
		return nil, "", err
	}
	k := ring.Lookup(fp)
	if k == nil {
		return nil, "", unknownKey(fp)
	}
	changed := *k
	if newer != nil {
		changed.Certificate, _ = openpgp.Merge(k.Certificate, newer)
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
		return compared(cert, nil, rules)
	}
	out := compared(cert, k.Certificate, rules)
	out.State, out.Publisher = k.StateAt(rules.Now), k.Publisher
	return out
}

// Preview tells what an import would do, and does nothing.
func (s *Service) Preview(ctx context.Context, data []byte) ([]Imported, []string, error) {
	certs, notes, err := s.readFor(ctx, data)
	if err != nil {
		return nil, nil, err
	}
	ring, policies, err := s.present(ctx)
	if err != nil {
		return nil, nil, err
	}
	var out []Imported
	for _, cert := range certs {
		out = append(out, arrival(ring, cert, policies.Rules(s.now())))
	}
	return out, notes, nil
}

// Import adds the keys of a text to the keyring as candidates, or what is new
// about those that are known already. Nothing is kept when any part of it is
// damaged or secret. What rests on a key that is revoked from then on is judged
// again, see [Consequences].
func (s *Service) Import(ctx context.Context, by, publisher, source string, data []byte) ([]Imported, []string, error) {
	if publisher != "" {
		if _, err := s.publishers.Publisher(ctx, publisher); err != nil {
			return nil, nil, err
		}
	}
	certs, notes, err := s.readFor(ctx, data)
	if err != nil {
		return nil, nil, err
	}
	policies, err := s.policies.InForce(ctx, 0)
	if err != nil {
		return nil, nil, err
	}
	rules := policies.Rules(s.now())
	var out []Imported
	err = s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		out = nil
		var entries []records.Entry
		var keep []func(position int64) error
		for _, cert := range certs {
			one, write, err := s.importOne(ctx, tx, cert, by, publisher, source, rules)
			if err != nil {
				return err
			}
			if one.Revokes {
				if one.Reassessment, err = s.follow.KeyFell(ctx, tx, by, rules.Now, one.Fingerprint, one.Certificate.Issuers(), "The key is revoked: "+one.Changes[0]); err != nil {
					return err
				}
			}
			out = append(out, one)
			if one.Result == keyring.Unchanged {
				continue
			}
			keep = append(keep, write)
			entries = append(entries, records.Entry{Kind: ledger.KeyImported, By: by, Subject: string(one.Fingerprint), Body: struct {
				Fingerprint openpgp.Fingerprint `json:"fingerprint"`
				Result      keyring.Arrival     `json:"result"`
				Changes     []string            `json:"changes,omitempty"`
				Publisher   string              `json:"publisher"`
				Source      string              `json:"source"`
				UserIDs     []string            `json:"user_ids"`
				Certificate []byte              `json:"certificate"`
				// Stored is a digest of the certificate as it is kept from then
				// on, with what was known of it before.
				Stored string `json:"stored"`
			}{one.Fingerprint, one.Result, one.Changes, publisher, source, harmless(cert.Names()), cert.Bytes(), records.DigestOf(one.Certificate.Bytes())}})
		}
		first, err := s.records.Append(ctx, tx, entries...)
		if err != nil {
			return err
		}
		for i, write := range keep {
			if err := write(first + int64(i)); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return nil, nil, err
	}
	return out, notes, nil
}

// importOne works out what an import brings about one key. write stores it, once
// its record has a position; it is nil when nothing changes.
func (s *Service) importOne(ctx context.Context, tx *store.Tx, cert *openpgp.Certificate, by, publisher, source string, rules openpgp.Rules) (one Imported, write func(position int64) error, err error) {
	fp := cert.Primary.Fingerprint
	row, err := tx.LockKey(ctx, fp.Bytes())
	if errors.Is(err, store.ErrNotFound) {
		return compared(cert, nil, rules), func(position int64) error {
			return tx.AddKey(ctx, store.Key{
				Fingerprint: fp.Bytes(), Certificate: cert.Bytes(), Publisher: publisher, Role: string(keyring.Release),
				ImportedAt: s.now(), ImportedBy: by, Source: source, Position: position,
			})
		}, nil
	}
	if err != nil {
		return Imported{}, nil, err
	}
	known, err := s.ring.certificate(row)
	if err != nil {
		return Imported{}, nil, err
	}
	one = compared(cert, known, rules)
	one.Publisher = row.Publisher
	merged := one.Result == keyring.Updated
	assigned := row.Publisher == "" && publisher != ""
	if assigned {
		one.Publisher, one.Result = publisher, keyring.Updated
		one.Changes = append(one.Changes, "It is said to belong to "+publisher+".")
	}
	if !merged && !assigned {
		return one, nil, nil
	}
	return one, func(position int64) error {
		if merged {
			if err := tx.SetCertificate(ctx, fp.Bytes(), one.Certificate.Bytes(), position); err != nil {
				return err
			}
		}
		if assigned {
			return tx.SetPublisher(ctx, fp.Bytes(), publisher, row.Role, position)
		}
		return nil
	}, nil
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
		return fault.New(fault.Invalid, "secret-key", "This is a secret key, not a public one. Nothing of it was kept.").
			Advise("Ask for the public key. Tell whoever gave you this that their secret key has been handed around: it can no longer be relied on.").At("data")
	case errors.As(err, &empty):
		what := empty.Found
		if what == "" {
			what = "nothing in it looks like one"
		}
		return fault.New(fault.Invalid, "not-a-key", "There is no OpenPGP public key in it: %s.", what).
			Advise("Give the publisher's key file, or the text from BEGIN PGP PUBLIC KEY BLOCK to END PGP PUBLIC KEY BLOCK.").At("data")
	}
	return fault.New(fault.Invalid, "key-damaged", "The key is damaged: %s.", err).Advise("Download it again.").At("data")
}
