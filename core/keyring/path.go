package keyring

import (
	"fmt"
	"slices"

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
	// Note says in a sentence what is to be known of a path that holds, or nothing.
	Note string
}

// Paths returns a path for each anchor of the publisher, whatever its state,
// judged at the time of the rules. A key is no anchor of its own.
func (r *Keyring) Paths(k *Key, publisher string, rules openpgp.Rules) []Path {
	var out []Path
	for _, anchor := range r.keys {
		if anchor.Role != Anchor || anchor.Publisher != publisher || publisher == "" ||
			anchor.Certificate.Primary.Fingerprint == k.Certificate.Primary.Fingerprint {
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
		p.Reason = fmt.Sprintf(
			"The certification of %s does not count: %s.", p.Certification.Made.Format("2006-01-02"),
			p.Certification.Reason,
		)
	case state != Admitted:
		p.Reason = fmt.Sprintf("The certification holds, and the anchor is %s: it does not count itself.", state)
	case anchor.Conflict:
		p.Reason = "The certification holds, and a sighting contradicts the anchor's own fingerprint. Find out why first."
	case p.Certification.CertifierExpired != nil && !rules.ExpiredCounts:
		p.Reason = fmt.Sprintf(
			"The certification holds, and the anchor has expired since, on %s. Look for a newer copy of the anchor.",
			p.Certification.CertifierExpired.Format("2006-01-02"),
		)
	default:
		p.Holds = true
		if e := p.Certification.CertifierExpired; e != nil {
			p.Note = fmt.Sprintf(
				"The anchor has expired since, on %s; by the policy what it said before still counts.",
				e.Format("2006-01-02"),
			)
		}
	}
	return p
}

// Vouched reports whether what a key was admitted on still holds at the time of the
// rules: sightings do, and of the anchors that it was admitted on without them at least
// one has to. If none does, why says in a sentence what is wrong with the last.
func (r *Keyring) Vouched(k *Key, rules openpgp.Rules) (ok bool, why string) {
	on := k.LastAt(rules.Now).RestsOn
	if len(on) == 0 {
		return true, ""
	}
	why = "No anchor that certified it is left."
	for _, p := range r.Paths(k, k.Publisher, rules) {
		if !slices.Contains(on, p.Anchor.Certificate.Primary.Fingerprint) {
			continue
		}
		if p.Holds {
			return true, ""
		}
		why = p.Reason
	}
	return false, why
}

// RestingOn returns the keys that were admitted because an anchor certified them.
func (r *Keyring) RestingOn(anchor openpgp.Fingerprint) []*Key {
	var out []*Key
	for _, k := range r.keys {
		if n := len(k.History); n > 0 && slices.Contains(k.History[n-1].RestsOn, anchor) {
			out = append(out, k)
		}
	}
	return out
}

// IssuersWith lists what signatures may name that are by a key, or by one that was
// admitted because it certified that: all that stands or falls with it.
func (r *Keyring) IssuersWith(cert *openpgp.Certificate) []string {
	issuers := cert.Issuers()
	for _, k := range r.RestingOn(cert.Primary.Fingerprint) {
		issuers = append(issuers, k.Certificate.Issuers()...)
	}
	return issuers
}

// better prefers a certification that holds, and then the newer one.
func better(a, b openpgp.Certification) bool {
	if (a.Status == openpgp.CertificationHolds) != (b.Status == openpgp.CertificationHolds) {
		return a.Status == openpgp.CertificationHolds
	}
	return a.Made.After(b.Made)
}
