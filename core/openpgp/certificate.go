package openpgp

import (
	"slices"
	"sync"
	"time"
)

// A Certificate is a primary key with everything that was certified about it
// (a Transferable Public Key, RFC 9580, section 10.1). It is safe for
// concurrent use; its methods do not change it.
type Certificate struct {
	Primary *PublicKey
	UserIDs []*UserID
	Subkeys []*Subkey

	direct      []*Signature
	revocations []*Signature
	components  []component
	// own are, for each component, the owner's signatures that hold, once they have
	// been checked.
	own       [][]*Signature
	checkOnce sync.Once
	vetting   Vetting
	verified  *memory
}

// A UserID is a name, as its owner wrote it, with the signatures about it.
type UserID struct {
	// ID is text from outside: make it harmless before showing it.
	ID          string
	self        []*Signature
	revocations []*Signature
	others      []foreign
}

// A Subkey is a key with the signatures that bind it to the primary key.
type Subkey struct {
	Key         *PublicKey
	bindings    []*Signature
	revocations []*Signature
}

// A component is a packet of a certificate with the bodies of the signature
// packets that follow it. A certificate is kept as components in canonical
// order, so that merging is a union and loses nothing, understood or not.
type component struct {
	tag  int
	body []byte
	sigs [][]byte
}

// ReadCertificates reads public keys, armored or binary, one or many. A key of
// a version that is not supported is left out and reported in skipped.
//
// It returns a [*SecretKeyError] when the input holds any secret key, an
// [*EmptyError] when it holds no key, and a [*FormatError] when it is damaged.
func ReadCertificates(data []byte) (certs []*Certificate, skipped []error, err error) {
	binaries := [][]byte{data}
	if isArmored(data) {
		blocks, err := readArmor(data)
		if err != nil {
			return nil, nil, err
		}
		binaries = nil
		for _, b := range blocks {
			switch b.kind {
			case "PGP PRIVATE KEY BLOCK":
				return nil, nil, &SecretKeyError{}
			case "PGP PUBLIC KEY BLOCK":
				binaries = append(binaries, b.data)
			default:
				return nil, nil, &EmptyError{Want: "public key", Found: "it is a block headed " + b.kind}
			}
		}
	}
	for _, b := range binaries {
		if what := describe(b); what != "" || b[0]&0x80 == 0 {
			return nil, nil, &EmptyError{Want: "public key", Found: what}
		}
		groups, err := readGroups(b)
		if err != nil {
			return nil, nil, err
		}
		for _, g := range groups {
			cert, err := newCertificate(g)
			if IsUnsupported(err) {
				skipped = append(skipped, err)
				continue
			}
			if err != nil {
				return nil, nil, err
			}
			certs = append(certs, cert)
		}
	}
	if len(certs) == 0 && len(skipped) == 0 {
		return nil, nil, &EmptyError{Want: "public key"}
	}
	return certs, skipped, nil
}

// readGroups splits packets into the components of one certificate each. How many
// there are is bounded by what is kept of a certificate, see [Certificate.Vet]: a flood
// of junk must not keep what is genuine from being read.
func readGroups(data []byte) ([][]component, error) {
	var groups [][]component
	var group []component
	r := packetReader{data: data}
	for {
		p, err := r.next()
		if err != nil {
			return nil, err
		}
		if p == nil {
			break
		}
		switch p.tag {
		case tagSecretKey, tagSecretSubkey:
			return nil, &SecretKeyError{}
		case tagPublicKey:
			if group != nil {
				groups = append(groups, group)
			}
			group = []component{{tag: p.tag, body: p.body}}
		case tagUserID, tagUserAttribute, tagPublicSubkey:
			if group == nil {
				return nil, &FormatError{Offset: p.offset, Packet: tagName(p.tag), Reason: "it stands before any public key"}
			}
			group = append(group, component{tag: p.tag, body: p.body})
		case tagSignature:
			if group == nil {
				return nil, &EmptyError{Want: "public key", Found: "it starts with a signature"}
			}
			last := &group[len(group)-1]
			last.sigs = append(last.sigs, p.body)
		case tagTrust, tagMarker, tagPadding:
			// Local remarks of whoever exported the key.
		default:
			if p.tag < 40 { // critical: RFC 9580, section 4.3
				return nil, &FormatError{Offset: p.offset, Packet: tagName(p.tag), Reason: "it has no place in a public key"}
			}
		}
	}
	if group != nil {
		groups = append(groups, group)
	}
	return groups, nil
}

// Bytes returns the certificate in canonical binary form.
func (c *Certificate) Bytes() []byte {
	const header = 6
	size := 0
	for _, part := range c.components {
		size += header + len(part.body)
		for _, s := range part.sigs {
			size += header + len(s)
		}
	}
	out := make([]byte, 0, size)
	for _, part := range c.components {
		out = appendPacket(out, part.tag, part.body)
		for _, s := range part.sigs {
			out = appendPacket(out, tagSignature, s)
		}
	}
	return out
}

// Keys returns the primary key and all subkeys.
func (c *Certificate) Keys() []*PublicKey {
	out := []*PublicKey{c.Primary}
	for _, s := range c.Subkeys {
		out = append(out, s.Key)
	}
	return out
}

// Issuers returns what signatures may name as their issuer when one of the
// certificate's keys made them: fingerprints, and key IDs of 16 digits.
func (c *Certificate) Issuers() []string {
	var out []string
	for _, k := range c.Keys() {
		out = append(out, string(k.Fingerprint), k.KeyID.String())
	}
	return out
}

// A Revocation tells that and why a key was revoked.
type Revocation struct {
	Time   time.Time
	Reason RevocationReason
	// Text is what the owner wrote, from outside.
	Text string
}

// Always reports whether the revocation makes every signature of the key
// worthless, whenever it was made: when the key is compromised, or when no
// reason is stated (RFC 9580, section 5.2.3.31).
func (r *Revocation) Always() bool { return r.Reason != Superseded && r.Reason != Retired }

// revocationOf returns the gravest of the revocations, or nil.
func revocationOf(sigs []*Signature) *Revocation {
	var worst *Revocation
	for _, s := range sigs {
		r := &Revocation{Time: s.Created, Reason: s.reason, Text: s.reasonText}
		if worst == nil || r.Always() && !worst.Always() || r.Always() == worst.Always() && r.Time.Before(worst.Time) {
			worst = r
		}
	}
	return worst
}

// Revocation returns how the primary key was revoked by its owner, or nil.
func (c *Certificate) Revocation() *Revocation {
	c.check()
	return revocationOf(c.revocations)
}

// Expires returns when the primary key expires by its newest self-signature
// that the rules accept, or nil when it does not. ok is false when there is no
// such self-signature at all.
func (c *Certificate) Expires(rules Rules) (expires *time.Time, ok bool) {
	own, ok := c.primaryRuling(rules)
	return own.expires, ok
}

func expiryOf(key *PublicKey, binding *Signature) *time.Time {
	if binding.keyLifetime == 0 {
		return nil
	}
	t := key.Created.Add(binding.keyLifetime)
	return &t
}

// Names returns the user IDs that have a valid self-certification and are not
// revoked, the primary one first.
func (c *Certificate) Names() []string {
	c.check()
	var first, rest []string
	for _, u := range c.UserIDs {
		if len(u.self) == 0 || u.revoked() {
			continue
		}
		if u.self[0].primaryUserID && first == nil {
			first = append(first, u.ID)
		} else {
			rest = append(rest, u.ID)
		}
	}
	return append(first, rest...)
}

// revoked reports whether a revocation is at least as new as the newest
// self-certification.
func (u *UserID) revoked() bool {
	return slices.ContainsFunc(u.revocations, func(r *Signature) bool {
		return len(u.self) == 0 || !r.Created.Before(u.self[0].Created)
	})
}

// Uses describes what a key of the certificate may do by its newest valid
// binding: "certify", "sign", "encrypt".
func (c *Certificate) Uses(key *PublicKey, rules Rules) []string {
	var own ruling
	if key == c.Primary {
		own, _ = c.primaryRuling(rules)
	} else if sub := c.subkey(key); sub != nil {
		c.check()
		own, _ = rules.ruling(sub.bindings, key)
	}
	var out []string
	for _, use := range []struct {
		bit  byte
		name string
	}{{flagCertify, "certify"}, {flagSign, "sign"}, {0x0c, "encrypt"}, {0x20, "authenticate"}} {
		if own.flags&use.bit != 0 {
			out = append(out, use.name)
		}
	}
	return out
}

// Revokers returns the keys that valid self-signatures name as those that may
// revoke this one. They are for people to see: a revocation by another key than
// its own is not followed.
func (c *Certificate) Revokers(rules Rules) []Revoker {
	var out []Revoker
	for _, s := range c.selfSignatures(rules) {
		for _, sub := range s.hashed {
			if r, ok := sub.revoker(); ok && !slices.Contains(out, r) {
				out = append(out, r)
			}
		}
	}
	return out
}

// Attributes counts the user attributes, such as pictures.
func (c *Certificate) Attributes() int {
	n := 0
	for _, part := range c.components {
		if part.tag == tagUserAttribute {
			n++
		}
	}
	return n
}

func (c *Certificate) subkey(key *PublicKey) *Subkey {
	for _, s := range c.Subkeys {
		if s.Key.Fingerprint == key.Fingerprint {
			return s
		}
	}
	return nil
}
