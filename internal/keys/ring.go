package keys

import (
	"bytes"
	"cmp"
	"context"
	"encoding/hex"
	"fmt"
	"math"
	"runtime"
	"slices"
	"sync"

	"golang.org/x/sync/singleflight"

	"endeixis/core/keyring"
	"endeixis/core/openpgp"
	"endeixis/core/plain"
	"endeixis/internal/fault"
	"endeixis/internal/policy"
	"endeixis/internal/records"
	"endeixis/internal/store"
)

// A ring keeps the keyring in memory for as long as it is as stored. Reading a
// certificate and checking its self-signatures is the costly part; that is done
// again only for certificates that have changed.
//
// Its lock is never held while the database is asked: whoever waits for it may
// hold the connection that the holder would wait for.
type ring struct {
	mu      sync.Mutex
	version string
	current *keyring.Keyring
	certs   map[string]parsed
	// unreadable are the fingerprints of keys whose certificate, as it is stored
	// now, cannot be read: they count for nothing, and take nobody else down.
	unreadable []string
	// earlier holds a few keyrings as they were at sizes of the ledger, the
	// newest last. They never change.
	earlier []asOf
	// reading lets one at a time read the whole keyring for all who wait.
	reading singleflight.Group
}

// asOf is the keyring as it was when the ledger had a size.
type asOf struct {
	size    int64
	keyring *keyring.Keyring
}

// keptEarlier bounds the earlier keyrings in memory: batches that run at once
// each need one, and only while the keyring changes.
const keptEarlier = 8

func (r *ring) was(size int64) *keyring.Keyring {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, e := range r.earlier {
		if e.size == size {
			return e.keyring
		}
	}
	return nil
}

func (r *ring) keepWas(size int64, k *keyring.Keyring) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.earlier = append(r.earlier, asOf{size, k})
	if len(r.earlier) > keptEarlier {
		r.earlier = slices.Clone(r.earlier[1:])
	}
}

// parsed is a certificate with the bytes that it was read from, and the revision of
// its row, or 0 where that is not known.
type parsed struct {
	raw      []byte
	cert     *openpgp.Certificate
	revision int64
}

// lacking returns the fingerprints of those rows of which the certificate in memory is
// not that of their revision.
func (r *ring) lacking(rows []store.Key) [][]byte {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := [][]byte{}
	for _, row := range rows {
		if p, ok := r.certs[string(row.Fingerprint)]; !ok || p.revision != row.Revision {
			out = append(out, row.Fingerprint)
		}
	}
	return out
}

// certificate reads a stored certificate, or returns the one read before.
func (r *ring) certificate(row store.Key) (*openpgp.Certificate, error) {
	r.mu.Lock()
	p, ok := r.certs[string(row.Fingerprint)]
	r.mu.Unlock()
	if ok && (p.revision == row.Revision && len(row.Certificate) == 0 || bytes.Equal(p.raw, row.Certificate)) {
		if p.revision != row.Revision {
			r.keepParsed(row.Fingerprint, parsed{p.raw, p.cert, row.Revision})
		}
		return p.cert, nil
	}
	// What is stored was read before: nothing of it may be left out.
	certs, skipped, err := openpgp.ReadCertificates(row.Certificate)
	if err == nil && len(skipped) > 0 {
		err = skipped[0]
	}
	if err != nil || len(certs) != 1 {
		return nil, &unreadableError{openpgp.Fingerprint(hex.EncodeToString(row.Fingerprint)), err}
	}
	if ok {
		certs[0].Remember(p.cert)
	}
	r.keepParsed(row.Fingerprint, parsed{row.Certificate, certs[0], row.Revision})
	return certs[0], nil
}

func (r *ring) keepParsed(fingerprint []byte, p parsed) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.certs == nil {
		r.certs = map[string]parsed{}
	}
	r.certs[string(fingerprint)] = p
}

// keepCertificate keeps a certificate that was stored just now, with what has been
// verified of it. It is read again from what is stored: it must not hold on to the
// file that it came in.
func (r *ring) keepCertificate(cert *openpgp.Certificate) {
	raw := cert.Bytes()
	own, skipped, err := openpgp.ReadCertificates(raw)
	if err != nil || len(own) != 1 || len(skipped) > 0 {
		return // it is told when the keyring is read
	}
	own[0].Remember(cert)
	r.keepParsed(cert.Primary.Fingerprint.Bytes(), parsed{raw, own[0], 0})
}

// at returns the keyring of a version, if it is the one in memory.
func (r *ring) at(version string) *keyring.Keyring {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.version != version {
		return nil
	}
	return r.current
}

func (r *ring) keep(version string, k *keyring.Keyring) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.version, r.current = version, k
}

// Snapshot returns the keyring as stored, to be shown. Until it changes, all
// callers share one; nobody may change it. What judges asks [Service.ToJudge].
func (s *Service) Snapshot(ctx context.Context) (*keyring.Keyring, error) {
	k, _, err := s.snapshot(ctx)
	return k, err
}

// ToJudge returns the keyring when it is what the records say. It returns a fault
// “keyring-altered” when somebody has changed it where it is stored.
func (s *Service) ToJudge(ctx context.Context) (*keyring.Keyring, error) {
	k, altered, err := s.snapshot(ctx)
	return k, cmp.Or(err, altered)
}

// snapshot returns the keyring, and how it differs from what is recorded, if it
// does. One that differs is not kept in memory: what was never decided must not
// be there when the traces in the database are gone.
func (s *Service) snapshot(ctx context.Context) (k *keyring.Keyring, altered, err error) {
	// The version is asked first: what changes meanwhile is seen next time.
	version, err := s.store.KeyringVersion(ctx)
	if err != nil {
		return nil, nil, err
	}
	if k := s.ring.at(version); k != nil {
		return k, nil, nil
	}
	type asRead struct {
		keyring *keyring.Keyring
		altered error
	}
	read, err, _ := s.ring.reading.Do(version, func() (any, error) {
		var r asRead
		// It is read for all who wait, also when the first of them has gone.
		err := s.store.Look(context.WithoutCancel(ctx), func(ctx context.Context, reads store.Reads) error {
			var err error
			r.keyring, r.altered, err = s.read(ctx, reads)
			return err
		})
		if err == nil && r.altered == nil {
			s.ring.keep(version, r.keyring)
		}
		return r, err
	})
	if err != nil {
		return nil, nil, err
	}
	r := read.(asRead)
	return r.keyring, r.altered, nil
}

// snapshotIn is [Service.ToJudge] as a transaction sees it that holds the lock on what is
// judged by. It is to be called before the transaction changes a key: what is read is
// kept for everybody.
func (s *Service) snapshotIn(ctx context.Context, tx *store.Tx) (*keyring.Keyring, error) {
	version, err := tx.KeyringVersion(ctx)
	if err != nil {
		return nil, err
	}
	if k := s.ring.at(version); k != nil {
		return k, nil
	}
	k, altered, err := s.read(ctx, tx.Reads)
	return k, cmp.Or(err, altered)
}

// AsOf returns the keyring as it was when the ledger had a size, to judge by:
// what is recorded at that position or behind it does not count. It returns a
// fault as [Service.ToJudge] does.
func (s *Service) AsOf(ctx context.Context, size int64) (*keyring.Keyring, error) {
	changed, err := s.store.KeyringChanged(ctx)
	if err != nil {
		return nil, err
	}
	if changed < size {
		return s.ToJudge(ctx)
	}
	if k := s.ring.was(size); k != nil {
		return k, nil
	}
	var k *keyring.Keyring
	err = s.store.Look(ctx, func(ctx context.Context, reads store.Reads) error {
		if altered, err := alteredIn(ctx, reads); err != nil || altered != nil {
			return cmp.Or(err, altered)
		}
		rows, err := reads.KeysAsOf(ctx, size)
		if err != nil {
			return err
		}
		if altered, err := alteredCertificate(ctx, reads, rows, size); err != nil || altered != nil {
			return cmp.Or(err, altered)
		}
		publishers, err := reads.PublishersAsOf(ctx, size)
		if err != nil {
			return err
		}
		changes, err := reads.KeyChanges(ctx, nil)
		if err != nil {
			return err
		}
		changes = slices.DeleteFunc(changes, func(c store.KeyChange) bool { return c.Position >= size })
		k, _ = s.assemble(rows, changes, publishers, nil)
		return nil
	})
	if err == nil {
		s.ring.keepWas(size, k)
	}
	return k, err
}

// alteredIn tells of a key, a step or a scope that was put in where it is stored,
// and never decided: it counts for nobody.
func alteredIn(ctx context.Context, from store.Reads) (altered, err error) {
	differences, err := from.UnrecordedKeyring(ctx)
	if err != nil || len(differences) == 0 {
		return nil, err
	}
	return otherwise(plain.Text(differences[0].What)), nil
}

func otherwise(what string) error {
	return fault.New(fault.Unavailable, "keyring-altered", "The keyring is stored otherwise than it was recorded (%s): nothing is judged by it.", what).
		Advise("Have the administrator audit the ledger, find out who changed the database, and restore it.")
}

// read puts the keyring together from what is stored, and tells how that differs
// from what is recorded.
func (s *Service) read(ctx context.Context, from store.Reads) (k *keyring.Keyring, altered, err error) {
	if altered, err = alteredIn(ctx, from); err != nil {
		return nil, nil, err
	}
	rows, changed, err := s.rows(ctx, from)
	if err != nil {
		return nil, nil, err
	}
	if altered == nil {
		if altered, err = alteredCertificate(ctx, from, changed, math.MaxInt64); err != nil {
			return nil, nil, err
		}
	}
	changes, err := from.KeyChanges(ctx, nil)
	if err != nil {
		return nil, nil, err
	}
	publishers, err := from.Publishers(ctx)
	if err != nil {
		return nil, nil, err
	}
	conflicts, err := from.Conflicts(ctx)
	if err != nil {
		return nil, nil, err
	}
	k, unreadable := s.assemble(rows, changes, publishers, conflicts)
	s.ring.note(unreadable)
	return k, altered, nil
}

// rows reads all keys, with the certificates of those that have changed since they
// were read last.
func (s *Service) rows(ctx context.Context, from store.Reads) (rows, changed []store.Key, err error) {
	if rows, err = from.KeyRows(ctx, nil); err != nil {
		return nil, nil, err
	}
	lacking := s.ring.lacking(rows)
	if len(lacking) == 0 {
		return rows, nil, nil
	}
	whole, err := from.Keys(ctx, lacking)
	if err != nil {
		return nil, nil, err
	}
	at := make(map[string]int, len(rows))
	for i, row := range rows {
		at[string(row.Fingerprint)] = i
	}
	for _, row := range whole {
		if i, ok := at[string(row.Fingerprint)]; ok {
			rows[i] = row
		}
	}
	return rows, whole, nil
}

// alteredCertificate tells of a key whose certificate is not the one that was recorded
// when the ledger had a size.
func alteredCertificate(ctx context.Context, from store.Reads, rows []store.Key, size int64) (altered, err error) {
	if len(rows) == 0 {
		return nil, nil
	}
	recorded, err := from.StoredDigests(ctx, size)
	if err != nil {
		return nil, err
	}
	// A large keyring is gone through on all cores.
	found := make([]string, runtime.GOMAXPROCS(0))
	var wg sync.WaitGroup
	for n := range found {
		wg.Go(func() {
			for i := n; i < len(rows); i += len(found) {
				fp := hex.EncodeToString(rows[i].Fingerprint)
				if digest, ok := recorded[fp]; ok && digest != records.DigestOf(rows[i].Certificate) {
					found[n] = fp
					return
				}
			}
		})
	}
	wg.Wait()
	if fp := cmp.Or(found...); fp != "" {
		return otherwise("the certificate of " + plain.Grouped(fp)), nil
	}
	return nil, nil
}

// assemble makes a keyring of rows, and names the keys that cannot be read.
func (s *Service) assemble(rows []store.Key, changes []store.KeyChange, publishers []store.Publisher, conflicts [][]byte) (k *keyring.Keyring, unreadable []string) {
	conflicting := map[string]bool{}
	for _, fp := range conflicts {
		conflicting[string(fp)] = true
	}
	changesOf := grouped(changes, func(c store.KeyChange) []byte { return c.Fingerprint })
	keys := make([]*keyring.Key, 0, len(rows))
	for _, row := range rows {
		cert, err := s.ring.certificate(row)
		if err != nil {
			unreadable = append(unreadable, plain.Grouped(hex.EncodeToString(row.Fingerprint)))
			continue
		}
		keys = append(keys, &keyring.Key{
			Certificate: cert, Publisher: row.Publisher, Role: keyring.Role(row.Role),
			Conflict: conflicting[string(row.Fingerprint)], History: historyOf(changesOf[string(row.Fingerprint)]),
		})
	}
	var known []keyring.Publisher
	for _, p := range publishers {
		known = append(known, keyring.Publisher{Slug: p.Slug, Name: p.Name, Scope: p.Scope})
	}
	return keyring.New(keys, known), unreadable
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
	return fault.New(fault.Conflict, "key-unreadable", "What is stored of the key %s cannot be read, so that it counts for nothing.", plain.Grouped(string(e.fingerprint))).
		Advise("Have the administrator restore it from a backup; the other keys are not touched.")
}

func (r *ring) note(unreadable []string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.unreadable = unreadable
}

// Unreadable names the keys whose stored certificate cannot be read.
func (s *Service) Unreadable(ctx context.Context) ([]string, error) {
	if _, err := s.Snapshot(ctx); err != nil {
		return nil, err
	}
	s.ring.mu.Lock()
	defer s.ring.mu.Unlock()
	return slices.Clone(s.ring.unreadable), nil
}

// historyOf returns the stored steps of one key as the keyring has them.
func historyOf(changes []store.KeyChange) []keyring.Change {
	var out []keyring.Change
	for _, c := range changes {
		one := keyring.Change{At: c.At, To: keyring.State(c.To), By: c.By, Reason: c.Reason, Until: c.Until}
		for _, anchor := range c.RestsOn {
			one.RestsOn = append(one.RestsOn, openpgp.Fingerprint(anchor))
		}
		out = append(out, one)
	}
	return out
}

// present returns the keyring and the policies in force now.
func (s *Service) present(ctx context.Context) (*keyring.Keyring, policy.InForce, error) {
	ring, err := s.Snapshot(ctx)
	if err != nil {
		return nil, policy.InForce{}, err
	}
	policies, err := s.policies.InForce(ctx, 0)
	return ring, policies, err
}

// grouped collects rows by the fingerprint that they are about.
func grouped[T any](rows []T, fingerprint func(T) []byte) map[string][]T {
	out := map[string][]T{}
	for _, row := range rows {
		out[string(fingerprint(row))] = append(out[string(fingerprint(row))], row)
	}
	return out
}
