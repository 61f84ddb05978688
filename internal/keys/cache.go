package keys

import (
	"bytes"
	"cmp"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"sync"

	"golang.org/x/sync/singleflight"

	"endeixis/core/keyring"
	"endeixis/core/openpgp"
	"endeixis/core/plain"
	"endeixis/internal/fault"
	"endeixis/internal/policy"
	"endeixis/internal/recorded"
	"endeixis/internal/records"
	"endeixis/internal/store"
)

// A cache keeps the keyring in memory for as long as nothing is decided. Reading a certificate and
// checking its self-signatures is the costly part; that is done again only for certificates that
// have changed.
//
// Its lock is never held while the database is asked: a caller that waits for it may hold the
// connection that the holder would wait for.
type cache struct {
	mu    sync.Mutex
	certs map[string]parsed
	// made holds a few keyrings, by how many decisions they come from, the newest last. They
	// never change.
	made []builtKeyring
	// making lets one at a time put a keyring together for all who wait.
	making singleflight.Group
}

// builtKeyring is the keyring that some decisions make.
type builtKeyring struct {
	decisions int64
	keyring   *keyring.Keyring
	// unreadable are the fingerprints of keys whose certificate cannot be read: they count for
	// nothing.
	unreadable []string
	// altered is a fault where a certificate is not where it was stored: nothing is to be judged
	// then, for what a key that is missing has signed might count by something else.
	altered error
}

// keptMade bounds the keyrings in memory: batches that run at once each need one, and only while
// the keyring changes.
const keptMade = 9

func (r *cache) of(decisions int64) (builtKeyring, bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, m := range r.made {
		if m.decisions == decisions {
			return m, true
		}
	}
	return builtKeyring{}, false
}

func (r *cache) keep(m builtKeyring) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.made = append(r.made, m)
	if len(r.made) > keptMade {
		r.made = slices.Clone(r.made[1:])
	}
}

// parsed is a certificate with the digest of the bytes that it was read from, in hexadecimal.
type parsed struct {
	digest string
	cert   *openpgp.Certificate
}

// parsedAs returns the certificate of a key in memory, and whether it is the one with a digest.
func (r *cache) parsedAs(fingerprint []byte, digest string) (p parsed, same bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	p, ok := r.certs[string(fingerprint)]
	return p, ok && p.digest == digest
}

func (r *cache) keepParsed(fingerprint []byte, p parsed) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.certs == nil {
		r.certs = map[string]parsed{}
	}
	r.certs[string(fingerprint)] = p
}

// parse reads the bytes of a certificate that was kept.
func (r *cache) parse(k recorded.Key, kept []byte) (*openpgp.Certificate, error) {
	// It was read before it was kept: nothing of it may be left out.
	certs, skipped, err := openpgp.ReadCertificates(kept)
	if err == nil && len(skipped) > 0 {
		err = skipped[0]
	}
	if err == nil && len(certs) == 1 && !bytes.Equal(certs[0].Primary.Fingerprint.Bytes(), k.Row.Fingerprint) {
		err = errors.New("it is another key's")
	}
	if err != nil || len(certs) != 1 {
		return nil, &unreadableError{openpgp.Fingerprint(hex.EncodeToString(k.Row.Fingerprint)), err}
	}
	if before, _ := r.parsedAs(k.Row.Fingerprint, k.Digest); before.cert != nil {
		certs[0].Remember(before.cert)
	}
	r.keepParsed(k.Row.Fingerprint, parsed{k.Digest, certs[0]})
	return certs[0], nil
}

// keepCertificate keeps a certificate that was stored just now, with what has been
// verified of it. It is read again from what is stored: it must not hold on to the
// file that it came in.
func (r *cache) keepCertificate(cert *openpgp.Certificate) {
	raw := cert.Bytes()
	own, skipped, err := openpgp.ReadCertificates(raw)
	if err != nil || len(own) != 1 || len(skipped) > 0 {
		return // it is told when the keyring is read
	}
	own[0].Remember(cert)
	r.keepParsed(cert.Primary.Fingerprint.Bytes(), parsed{records.DigestOf(raw), own[0]})
}

// ToJudge returns the keyring that the records make, as they are now. Until something is decided,
// all callers share one; nobody may change it. It returns a fault “keyring-altered” where a
// certificate is not where it was stored.
func (s *Service) ToJudge(ctx context.Context) (*keyring.Keyring, error) {
	b, err := s.basis.Now(ctx)
	if err != nil {
		return nil, err
	}
	return s.whole(ctx, b)
}

// AsOf returns the keyring as it was when the ledger had a size: what is recorded at that
// position or behind it does not count. It returns a fault as [Service.ToJudge] does.
func (s *Service) AsOf(ctx context.Context, size int64) (*keyring.Keyring, error) {
	b, err := s.basis.AsOf(ctx, size)
	if err != nil {
		return nil, err
	}
	return s.whole(ctx, b)
}

func (s *Service) whole(ctx context.Context, b *recorded.Basis) (*keyring.Keyring, error) {
	m, err := s.made(ctx, b)
	if err != nil {
		return nil, err
	}
	return m.keyring, m.altered
}

// DecidedSince reports whether a record at a position or behind it decides what is judged by, as a
// transaction sees it.
func (s *Service) DecidedSince(ctx context.Context, tx *store.Tx, position int64) (bool, error) {
	b, err := s.basis.In(ctx, tx)
	return err == nil && b.Next > position, err
}

// shown returns the keyring to be shown, without the keys of which the certificate is not where
// it was stored.
func (s *Service) shown(ctx context.Context) (*keyring.Keyring, *recorded.Basis, error) {
	b, err := s.basis.Now(ctx)
	if err != nil {
		return nil, nil, err
	}
	m, err := s.made(ctx, b)
	return m.keyring, b, err
}

// in returns the keyring, and what it comes from, as a transaction sees them.
func (s *Service) in(ctx context.Context, tx *store.Tx) (*keyring.Keyring, *recorded.Basis, error) {
	b, err := s.basis.In(ctx, tx)
	if err != nil {
		return nil, nil, err
	}
	if m, ok := s.ring.of(b.Decisions); ok {
		return m.keyring, b, m.altered
	}
	// What the transaction has decided may be taken back: it is kept for nobody.
	m, err := s.put(ctx, b, tx.Reads)
	return m.keyring, b, cmp.Or(err, m.altered)
}

// made returns the keyring of a basis that is stored for good.
func (s *Service) made(ctx context.Context, b *recorded.Basis) (builtKeyring, error) {
	if m, ok := s.ring.of(b.Decisions); ok {
		return m, nil
	}
	shared, err, _ := s.ring.making.Do(strconv.FormatInt(b.Decisions, 10), func() (any, error) {
		// It is put together for all who wait, also when the first of them has gone.
		m, err := s.put(context.WithoutCancel(ctx), b, s.store.Reads)
		if err == nil && m.altered == nil {
			s.ring.keep(m)
		}
		return m, err
	})
	m, _ := shared.(builtKeyring)
	return m, err
}

// certificatesAtOnce bounds how many are fetched at a time: one can have megabytes.
const certificatesAtOnce = 500

// put makes a keyring of a basis. The certificates come from where they are stored, each by the
// digest that its record says.
func (s *Service) put(ctx context.Context, b *recorded.Basis, from store.Reads) (builtKeyring, error) {
	out := builtKeyring{decisions: b.Decisions}
	rows := b.InOrder()
	certs := make([]*openpgp.Certificate, len(rows))
	var lacking []int
	for i, row := range rows {
		if p, same := s.ring.parsedAs(row.Row.Fingerprint, row.Digest); same {
			certs[i] = p.cert
		} else {
			lacking = append(lacking, i)
		}
	}
	for part := range slices.Chunk(lacking, certificatesAtOnce) {
		kept, err := kept(ctx, from, rows, part)
		if err != nil {
			return out, err
		}
		for n, i := range part {
			if kept[n] != nil {
				certs[i], err = s.ring.parse(rows[i], kept[n])
			} else if out.altered == nil {
				out.altered = otherwise(rows[i])
			}
			if err != nil || kept[n] == nil {
				out.unreadable = append(out.unreadable, plain.Grouped(hex.EncodeToString(rows[i].Row.Fingerprint)))
			}
		}
	}
	conflicting := map[string]bool{}
	for _, fp := range b.Conflicts() {
		conflicting[string(fp)] = true
	}
	stepsOf := grouped(b.Steps, func(c store.KeyChange) []byte { return c.Fingerprint })
	keys := make([]*keyring.Key, 0, len(rows))
	for i, row := range rows {
		if certs[i] == nil {
			continue
		}
		keys = append(keys, &keyring.Key{
			Certificate: certs[i],
			Publisher:   row.Row.Publisher,
			Role:        keyring.Role(row.Row.Role),
			Conflict:    conflicting[string(row.Row.Fingerprint)],
			History:     historyOf(stepsOf[string(row.Row.Fingerprint)]),
		})
	}
	var known []keyring.Publisher
	for _, slug := range slices.Sorted(maps.Keys(b.Publishers)) {
		p := b.Publishers[slug]
		known = append(known, keyring.Publisher{Slug: p.Slug, Name: p.Name, Scope: p.Scope})
	}
	out.keyring = keyring.New(keys, known)
	return out, nil
}

// kept fetches the certificates of some keys, and holds each against its digest. It is nil of
// those that are not there.
func kept(ctx context.Context, from store.Reads, rows []recorded.Key, part []int) ([][]byte, error) {
	fingerprints, digests := make([][]byte, len(part)), make([][]byte, len(part))
	for n, i := range part {
		fingerprints[n] = rows[i].Row.Fingerprint
		digests[n], _ = hex.DecodeString(rows[i].Digest) // of one that is none nothing is found
	}
	kept, err := from.CertificatesBy(ctx, fingerprints, digests)
	if err != nil {
		return nil, err
	}
	for n, i := range part {
		if records.DigestOf(kept[n]) != rows[i].Digest {
			kept[n] = nil
		}
	}
	return kept, nil
}

func otherwise(k recorded.Key) error {
	return fault.New(
		fault.Altered,
		fault.KeyringAltered,
		"The certificate of the key %s, as it was recorded, is not where it was stored: nothing is judged by the keyring.",
		plain.Grouped(hex.EncodeToString(k.Row.Fingerprint)),
	).
		Advise("Have the administrator audit the ledger, find out who changed the database, and restore it.")
}

// An unreadableError reports a stored certificate that cannot be read.
type unreadableError struct {
	fingerprint openpgp.Fingerprint
	cause       error
}

// Error is for the log.
func (e *unreadableError) Error() string {
	return fmt.Sprintf("the stored key %s cannot be read: %v", e.fingerprint, e.cause)
}

// Unwrap gives what people see.
func (e *unreadableError) Unwrap() error {
	return fault.New(
		fault.Conflict, fault.KeyUnreadable, "What is stored of the key %s cannot be read, so that it counts for nothing.",
		plain.Grouped(string(e.fingerprint)),
	).
		Advise("Have the administrator restore it from a backup; the other keys are not touched.")
}

// Unreadable names the keys whose stored certificate cannot be read, or is not there.
func (s *Service) Unreadable(ctx context.Context) ([]string, error) {
	b, err := s.basis.Now(ctx)
	if err != nil {
		return nil, err
	}
	m, err := s.made(ctx, b)
	return m.unreadable, err
}

// historyOf returns the stored steps of one key as the keyring has them.
func historyOf(changes []store.KeyChange) []keyring.Change {
	var out []keyring.Change
	for _, c := range changes {
		change := keyring.Change{At: c.At, To: keyring.State(c.To), By: c.By, Reason: c.Reason, Until: c.Until}
		for _, anchor := range c.RestsOn {
			change.RestsOn = append(change.RestsOn, openpgp.Fingerprint(anchor))
		}
		out = append(out, change)
	}
	return out
}

// present returns the keyring to be shown, what it comes from, and the policies in force now.
func (s *Service) present(ctx context.Context) (*keyring.Keyring, *recorded.Basis, policy.InForce, error) {
	ring, b, err := s.shown(ctx)
	if err != nil {
		return nil, nil, policy.InForce{}, err
	}
	policies, err := s.policies.InForce(ctx, 0)
	return ring, b, policies, err
}

// grouped collects rows by the fingerprint that they are about.
func grouped[T any](rows []T, fingerprint func(T) []byte) map[string][]T {
	out := map[string][]T{}
	for _, row := range rows {
		out[string(fingerprint(row))] = append(out[string(fingerprint(row))], row)
	}
	return out
}
