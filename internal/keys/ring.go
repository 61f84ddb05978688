package keys

import (
	"bytes"
	"context"
	"fmt"
	"sync"

	"endeixis/core/keyring"
	"endeixis/core/openpgp"
	"endeixis/internal/store"
)

// A ring keeps the keyring in memory for as long as it is as stored. Reading a
// certificate and checking its self-signatures is the costly part; that is done
// again only for certificates that have changed.
type ring struct {
	mu      sync.Mutex
	version string
	current *keyring.Keyring
	certs   map[string]parsed
}

// parsed is a certificate with the bytes that it was read from.
type parsed struct {
	raw  []byte
	cert *openpgp.Certificate
}

// certificate reads a stored certificate, or returns the one read before.
func (r *ring) certificate(row store.Key) (*openpgp.Certificate, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.read(row)
}

func (r *ring) read(row store.Key) (*openpgp.Certificate, error) {
	if p, ok := r.certs[string(row.Fingerprint)]; ok && bytes.Equal(p.raw, row.Certificate) {
		return p.cert, nil
	}
	certs, _, err := openpgp.ReadCertificates(row.Certificate)
	if err != nil || len(certs) != 1 {
		return nil, fmt.Errorf("the stored key %x cannot be read: %w", row.Fingerprint, err)
	}
	if r.certs == nil {
		r.certs = map[string]parsed{}
	}
	r.certs[string(row.Fingerprint)] = parsed{row.Certificate, certs[0]}
	return certs[0], nil
}

// Snapshot returns the keyring as stored. Until it changes, all callers share
// one; nobody may change it.
func (s *Service) Snapshot(ctx context.Context) (*keyring.Keyring, error) {
	// The version is asked first: what changes meanwhile is seen next time.
	version, err := s.store.KeyringVersion(ctx)
	if err != nil {
		return nil, err
	}
	r := &s.ring
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.current != nil && r.version == version {
		return r.current, nil
	}
	rows, err := s.store.Keys(ctx, nil)
	if err != nil {
		return nil, err
	}
	changes, err := s.store.KeyChanges(ctx, nil)
	if err != nil {
		return nil, err
	}
	publishers, err := s.store.Publishers(ctx)
	if err != nil {
		return nil, err
	}
	conflicts, err := s.store.Conflicts(ctx)
	if err != nil {
		return nil, err
	}
	conflicting := map[string]bool{}
	for _, fp := range conflicts {
		conflicting[string(fp)] = true
	}
	changesOf := grouped(changes, func(c store.KeyChange) []byte { return c.Fingerprint })
	keys := make([]*keyring.Key, 0, len(rows))
	for _, row := range rows {
		cert, err := r.read(row)
		if err != nil {
			return nil, err
		}
		keys = append(keys, &keyring.Key{Certificate: cert, Publisher: row.Publisher, Role: keyring.Role(row.Role), Conflict: conflicting[string(row.Fingerprint)], History: historyOf(changesOf[string(row.Fingerprint)])})
	}
	var known []keyring.Publisher
	for _, p := range publishers {
		known = append(known, keyring.Publisher{Slug: p.Slug, Name: p.Name, Scope: p.Scope})
	}
	r.current, r.version = keyring.New(keys, known), version
	return r.current, nil
}

// historyOf returns the stored steps of one key as the keyring has them.
func historyOf(changes []store.KeyChange) []keyring.Change {
	var out []keyring.Change
	for _, c := range changes {
		out = append(out, keyring.Change{At: c.At, To: keyring.State(c.To), By: c.By, Reason: c.Reason})
	}
	return out
}

// present returns the keyring and the policies in force now.
func (s *Service) present(ctx context.Context) (*keyring.Keyring, Policies, error) {
	ring, err := s.Snapshot(ctx)
	if err != nil {
		return nil, Policies{}, err
	}
	policies, err := s.Policies(ctx, 0)
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
