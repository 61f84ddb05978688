package keyring

import (
	"fmt"

	"endeixis/core/openpgp"
)

// A Path leads from a key to an anchor of its publisher: by a certification that
// holds, or not, and then the reason says where it breaks.
type Path struct {
	Anchor *Key
	// Certification is the best that the anchor made, or nil when it made
	// none.
	Certification *openpgp.Certification
	Holds         bool
	// Reason says in a sentence why the path does not hold.
	Reason string
}

// Paths returns a path for each anchor of the publisher, whatever its state,
// judged at the time of the rules. A key is no anchor of its own.
func (r *Keyring) Paths(k *Key, publisher string, rules openpgp.Rules) []Path {
	var out []Path
	for _, anchor := range r.keys {
		if anchor.Role != Anchor || anchor.Publisher != publisher || publisher == "" || anchor.Certificate.Primary.Fingerprint == k.Certificate.Primary.Fingerprint {
			continue
		}
		out = append(out, follow(k, anchor, rules))
	}
	return out
}

// follow follows the path to one anchor.
func follow(k, anchor *Key, rules openpgp.Rules) Path {
	p := Path{Anchor: anchor}
	for _, c := range k.Certificate.CertifiedBy(anchor.Certificate, rules) {
		if p.Certification == nil || better(c, *p.Certification) {
			p.Certification = &c
		}
	}
	switch state := anchor.StateAt(rules.Now); {
	case p.Certification == nil:
		p.Reason = "The anchor has not certified this key, or this copy of the key does not carry it. Ask the publisher for a copy with its certifications."
	case p.Certification.Status != openpgp.CertificationHolds:
		p.Reason = fmt.Sprintf("The certification of %s does not count: %s.", p.Certification.Made.Format("2006-01-02"), p.Certification.Reason)
	case state != Admitted:
		p.Reason = fmt.Sprintf("The certification holds, and the anchor is %s: it does not count itself.", state)
	case anchor.Conflict:
		p.Reason = "The certification holds, and a sighting contradicts the anchor's own fingerprint. Find out why first."
	default:
		p.Holds = true
	}
	return p
}

// better prefers a certification that holds, and then the newer one.
func better(a, b openpgp.Certification) bool {
	if (a.Status == openpgp.CertificationHolds) != (b.Status == openpgp.CertificationHolds) {
		return a.Status == openpgp.CertificationHolds
	}
	return a.Made.After(b.Made)
}
