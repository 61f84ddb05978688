package openpgp

import (
	"fmt"
	"slices"
	"time"
)

// A CertificationStatus tells whether one key's statement about another's user
// ID counts.
type CertificationStatus string

// The outcomes of [Certificate.CertifiedBy].
const (
	// CertificationHolds: made by a key that might, and not taken back.
	CertificationHolds CertificationStatus = "holds"
	// CertificationInvalid: the cryptography does not hold.
	CertificationInvalid CertificationStatus = "invalid"
	// CertificationRevoked: the certifier took it back.
	CertificationRevoked CertificationStatus = "revoked"
	// CertificationNotVouching: it says of itself that nothing was verified
	// (RFC 9580, section 5.2.1.5).
	CertificationNotVouching CertificationStatus = "not-vouching"
	// CertificationExpired: by its own date.
	CertificationExpired CertificationStatus = "expired"
	// CertifierUnfit: the certifier was revoked or expired, or may not
	// certify.
	CertifierUnfit CertificationStatus = "certifier-unfit"
	// CertificationDisowned: the user ID is not, or no longer, one that the key's
	// own owner vouches for.
	CertificationDisowned CertificationStatus = "user-id-disowned"
	// CertificationWeak: by a hash below what the rules accept.
	CertificationWeak CertificationStatus = "weak"
	// CertificationMissing: there is none. [Certificate.CertifiedBy] leaves
	// such out; others say so of a key they looked for.
	CertificationMissing CertificationStatus = "missing"
)

// CertificationStatuses lists every status.
func CertificationStatuses() []CertificationStatus {
	return []CertificationStatus{
		CertificationHolds,
		CertificationInvalid,
		CertificationRevoked,
		CertificationExpired,
		CertifierUnfit,
		CertificationDisowned,
		CertificationWeak,
		CertificationNotVouching,
		CertificationMissing,
	}
}

// A Certification is a statement by one key that a user ID belongs to another
// (RFC 9580, section 5.2.1.4 to 5.2.1.7).
type Certification struct {
	// UserID is text from outside: make it harmless before showing it.
	UserID string
	Type   SignatureType
	Made   time.Time
	Status CertificationStatus
	// Reason says in a clause why the status is not that it holds.
	Reason string
	// CertifierExpired is when the certifier expired, if it has since, or nil. The
	// caller's policy decides what that means.
	CertifierExpired *time.Time
}

// Certifiers lists, for each user ID that has any, by which keys its
// certifications say they were made: fingerprints, and key IDs of others. Nothing about them is checked.
func (c *Certificate) Certifiers() (fingerprints []Fingerprint, ids []KeyID) {
	c.check()
	known, knownID := map[Fingerprint]bool{}, map[KeyID]bool{}
	take := func(s foreign) {
		for _, h := range s.hints {
			switch {
			case h.fingerprint != "" && !known[h.fingerprint]:
				known[h.fingerprint] = true
				fingerprints = append(fingerprints, h.fingerprint)
			case h.fingerprint == "" && h.id != 0 && !knownID[h.id]:
				knownID[h.id] = true
				ids = append(ids, h.id)
			}
		}
	}
	for _, u := range c.UserIDs {
		for _, s := range u.others {
			if s.kind.isCertification() {
				take(s)
			}
		}
	}
	for _, s := range c.strays {
		if s.kind.isCertification() {
			take(s)
		}
	}
	// A key that is named by its fingerprint is not named again by its ID.
	ids = slices.DeleteFunc(ids, func(id KeyID) bool {
		return slices.ContainsFunc(fingerprints, func(fp Fingerprint) bool { return fp.keyID() == id })
	})
	return fingerprints, ids
}

// CertifiedBy returns the certifications of c's user IDs by another certificate,
// each judged at the rules' time. Those by keys of which the certificate is not
// at hand are not among them.
func (c *Certificate) CertifiedBy(certifier *Certificate, rules Rules) []Certification {
	c.check()
	var out []Certification
	e := NewEffort(strayEffort)
	for _, u := range c.UserIDs {
		for _, certification := range u.others {
			if s := certification.by(certifier); s != nil && certification.kind.isCertification() {
				out = append(out, c.said(u, s, certifier, rules))
			}
		}
	}
	for _, certification := range c.strays {
		s := certification.by(certifier)
		if s == nil || !certification.kind.isCertification() {
			continue
		}
		for _, u := range c.UserIDs {
			if held, _ := c.verified.holds(s, certifier.Primary, u.over(s), e); held {
				out = append(out, c.said(u, s, certifier, rules))
				break
			}
		}
	}
	return out
}

// strayEffort bounds what is spent on finding the user IDs of signatures that do not stand
// behind them.
const strayEffort = 2 * time.Second

// said tells what a certification of a user ID says and whether it counts.
func (c *Certificate) said(u *UserID, s *Signature, certifier *Certificate, rules Rules) Certification {
	said := Certification{UserID: u.ID, Type: s.Type, Made: s.Created}
	said.Status, said.Reason = c.weigh(u, s, certifier, rules)
	if expires, _ := certifier.Expires(rules); expires != nil && !rules.Now.Before(*expires) &&
		said.Status == CertificationHolds {
		said.CertifierExpired = expires
	}
	return said
}

// takenBack returns when the maker of a certification took it back, if that is so. It does
// not matter where the revocation stands, nor how much junk there is: all of it is gone
// through, within what one certificate may hold, and remembered.
func (c *Certificate) takenBack(u *UserID, s *Signature, certifier *Certificate) (at time.Time, ok bool) {
	for _, certification := range c.strays {
		if certification.kind != CertRevocation {
			continue
		}
		r := certification.by(certifier)
		if r == nil || r.Created.Before(s.Created) {
			continue
		}
		if held, _ := c.verified.holds(r, certifier.Primary, u.over(r), nil); held {
			return r.Created, true
		}
	}
	return time.Time{}, false
}

// weigh decides about one certification by the certifier.
func (c *Certificate) weigh(
	u *UserID, s *Signature, certifier *Certificate, rules Rules,
) (CertificationStatus, string) {
	day := func(t time.Time) string { return t.Format(time.DateOnly) }
	if held, _ := c.verified.holds(s, certifier.Primary, u.over(s), nil); !held {
		return CertificationInvalid, "its cryptography does not hold"
	}
	switch {
	case s.Created.IsZero():
		return CertificationInvalid, "it does not say when it was made"
	case s.Type == PersonaCertification:
		return CertificationNotVouching, "it is of the kind that says nothing was verified"
	case s.criticalUnknown != "":
		return CertificationInvalid, fmt.Sprintf(
			"it carries %s marked critical, which is not understood", s.criticalUnknown,
		)
	case s.Created.After(rules.Now.Add(rules.Skew)):
		return CertificationInvalid, "it is dated " + day(s.Created) + ", which has not come yet"
	case !rules.strongEnough(s):
		return CertificationWeak, fmt.Sprintf("%s is too weak for its date", s.Hash)
	case certifier.Primary.tooShort(s):
		return CertificationWeak, fmt.Sprintf(
			"%s is shorter than the standard asks for with %s", s.Hash, certifier.Primary.Describe(),
		)
	case s.expired(rules.Now):
		return CertificationExpired, "it was valid until " + day(s.Created.Add(s.Lifetime)) + " only"
	}
	if at, ok := c.takenBack(u, s, certifier); ok {
		return CertificationRevoked, "its maker took it back on " + day(at)
	}
	switch {
	case c.disowned(u, rules):
		return CertificationDisowned, "the key's owner has revoked that user ID"
	case !c.owns(u, rules):
		return CertificationDisowned, "the key's owner has not signed that user ID in a way that counts"
	}
	own, ok := certifier.primaryRuling(rules)
	if !ok {
		return CertifierUnfit, "the certifying key has no self-signature that holds"
	}
	if own.stated && own.flags&flagCertify == 0 {
		return CertifierUnfit, "its owner did not mark the certifying key for that"
	}
	if rev := certifier.Revocation(); rev != nil && (rev.Always() || !s.Created.Before(rev.Time)) {
		return CertifierUnfit, fmt.Sprintf("the certifying key was revoked on %s (%s)", day(rev.Time), rev.Reason)
	}
	if e := own.expires; e != nil && !s.Created.Before(*e) {
		return CertifierUnfit, "the certifying key had expired on " + day(*e)
	}
	if s.Created.Before(certifier.Primary.Created) {
		return CertifierUnfit, "it claims to be older than the certifying key"
	}
	return CertificationHolds, ""
}
