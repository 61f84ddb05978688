package keyring

import (
	"slices"

	"endeixis/core/openpgp"
)

// A Statement is a certification of a key by another key of the keyring.
type Statement struct {
	By *Key
	openpgp.Certification
}

// maxCertifiers bounds the keys of which certifications are checked.
const maxCertifiers = 500

// Certifiers returns what other keys of the keyring say about k's user IDs, each
// certification judged at the time of the rules, and how many further keys claim
// to have certified it that are not in the keyring.
func (r *Keyring) Certifiers(k *Key, rules openpgp.Rules) (known []Statement, unknown int) {
	fingerprints, ids := k.Certificate.Certifiers()
	var by []*Key
	add := func(hits []found) {
		if len(hits) == 0 {
			unknown++
		}
		for _, hit := range hits {
			if !slices.Contains(by, hit.key) && len(by) < maxCertifiers {
				by = append(by, hit.key)
			}
		}
	}
	for _, fp := range fingerprints {
		add(r.byFingerprint[fp])
	}
	for _, id := range ids {
		add(r.byKeyID[id])
	}
	for _, certifier := range by {
		for _, c := range k.Certificate.CertifiedBy(certifier.Certificate, rules) {
			known = append(known, Statement{certifier, c})
		}
	}
	return known, unknown
}

// Namesakes returns the other keys of the keyring of which a part has the key ID
// of a part of k: what names a key by its ID alone may mean any of them.
func (r *Keyring) Namesakes(k *Key) []*Key {
	var out []*Key
	for _, part := range k.Certificate.Keys() {
		for _, hit := range r.byKeyID[part.KeyID] {
			if hit.key.Certificate.Primary.Fingerprint != k.Certificate.Primary.Fingerprint &&
				!slices.Contains(out, hit.key) {
				out = append(out, hit.key)
			}
		}
	}
	return out
}
