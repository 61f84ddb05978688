package openpgp

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"fmt"
	"hash"
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
	checkOnce   sync.Once
}

// A UserID is a name, as its owner wrote it, with the signatures about it.
type UserID struct {
	// ID is text from outside: make it harmless before showing it.
	ID          string
	self        []*Signature
	revocations []*Signature
	// Others counts certifications by other keys, and their revocations.
	Others int
	others []*Signature
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

const (
	// maxComponents and maxComponentSignatures bound one certificate.
	maxComponents          = 1000
	maxComponentSignatures = 20_000
	// maxSelfChecks bounds the public-key operations spent on the
	// self-signatures of one certificate.
	maxSelfChecks = 2000
)

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

// readGroups splits packets into the components of one certificate each.
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
			if len(group) == maxComponents {
				return nil, &FormatError{Offset: p.offset, Packet: tagName(p.tag), Reason: fmt.Sprintf("more than %d parts in one key", maxComponents)}
			}
			group = append(group, component{tag: p.tag, body: p.body})
		case tagSignature:
			if group == nil {
				return nil, &EmptyError{Want: "public key", Found: "it starts with a signature"}
			}
			last := &group[len(group)-1]
			if len(last.sigs) == maxComponentSignatures {
				return nil, &FormatError{Offset: p.offset, Packet: tagName(p.tag), Reason: fmt.Sprintf("more than %d signatures on one part of a key", maxComponentSignatures)}
			}
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

// newCertificate understands components that start with a primary key.
func newCertificate(parts []component) (*Certificate, error) {
	parts = canonical(parts)
	for _, part := range parts {
		// Repeated parts are one part, with the signatures of all.
		if len(part.sigs) > maxComponentSignatures {
			return nil, &FormatError{Packet: tagName(part.tag), Reason: fmt.Sprintf("more than %d signatures on one part of a key", maxComponentSignatures)}
		}
	}
	c := &Certificate{components: parts}
	for _, part := range parts {
		p := &packet{tag: part.tag, body: part.body, end: len(part.body)}
		var sigs []*Signature
		for _, raw := range part.sigs {
			// A damaged or unsupported signature on a key is kept, and
			// proves nothing.
			if s, err := parseSignature(raw, 0); err == nil && s.unsupported == nil {
				sigs = append(sigs, s)
			}
		}
		switch part.tag {
		case tagPublicKey:
			key, err := readPublicKey(p)
			if err != nil {
				return nil, err
			}
			c.Primary = key
			for _, s := range sigs {
				switch s.Type {
				case DirectKey:
					c.direct = append(c.direct, s)
				case KeyRevocation:
					c.revocations = append(c.revocations, s)
				default: // it says nothing about the key as a whole
				}
			}
		case tagUserID:
			u := &UserID{ID: string(part.body)}
			for _, s := range sigs {
				switch {
				case !c.mayBeOwn(s):
					u.Others++
					u.others = append(u.others, s)
				case s.Type.isCertification():
					u.self = append(u.self, s)
				case s.Type == CertRevocation:
					u.revocations = append(u.revocations, s)
				}
			}
			c.UserIDs = append(c.UserIDs, u)
		case tagPublicSubkey:
			key, err := readPublicKey(p)
			if err != nil {
				continue // kept in components, not used
			}
			sub := &Subkey{Key: key}
			for _, s := range sigs {
				switch s.Type {
				case SubkeyBinding:
					sub.bindings = append(sub.bindings, s)
				case SubkeyRevocation:
					sub.revocations = append(sub.revocations, s)
				default: // it says nothing about a subkey
				}
			}
			c.Subkeys = append(c.Subkeys, sub)
		}
	}
	return c, nil
}

// mayBeOwn reports whether the issuer hints allow s to be by the primary key.
func (c *Certificate) mayBeOwn(s *Signature) bool {
	if s.IssuerFingerprint != "" {
		return s.IssuerFingerprint == c.Primary.Fingerprint
	}
	return s.IssuerKeyID == 0 || s.IssuerKeyID == c.Primary.KeyID
}

// canonical sorts components and signatures by content and drops repeats, the
// primary key first, then user IDs, attributes and subkeys.
func canonical(parts []component) []component {
	rank := map[int]int{tagPublicKey: 0, tagUserID: 1, tagUserAttribute: 2, tagPublicSubkey: 3}
	compare := func(a, b component) int {
		if d := rank[a.tag] - rank[b.tag]; d != 0 {
			return d
		}
		return bytes.Compare(a.body, b.body)
	}
	sorted := slices.Clone(parts)
	slices.SortStableFunc(sorted, compare)
	out := sorted[:0]
	for _, part := range sorted {
		if n := len(out); n > 0 && compare(out[n-1], part) == 0 {
			out[n-1].sigs = append(slices.Clip(out[n-1].sigs), part.sigs...)
			continue
		}
		out = append(out, part)
	}
	for i := range out {
		sigs := slices.Clone(out[i].sigs)
		slices.SortFunc(sigs, bytes.Compare)
		out[i].sigs = slices.CompactFunc(sigs, bytes.Equal)
	}
	return out
}

// Merge returns a certificate with what either holds about the same primary key.
// Nothing that a holds is lost. What b adds is left out where a would pass the
// bounds of one certificate, and left counts that: revocations are added first,
// then what is newest. Merge panics when the primary keys differ, which the caller
// has to prevent.
func Merge(a, b *Certificate) (c *Certificate, left int) {
	if a.Primary.Fingerprint != b.Primary.Fingerprint {
		panic("openpgp: Merge of different keys")
	}
	parts := slices.Clone(a.components)
	at := map[string]int{}
	for i, part := range parts {
		at[fmt.Sprintf("%d %s", part.tag, part.body)] = i
	}
	for _, part := range b.components {
		i, ok := at[fmt.Sprintf("%d %s", part.tag, part.body)]
		switch {
		case !ok && len(parts) >= maxComponents:
			left += 1 + len(part.sigs)
			continue
		case !ok:
			i = len(parts)
			parts = append(parts, component{tag: part.tag, body: part.body})
		}
		var skipped int
		parts[i].sigs, skipped = added(parts[i].sigs, part.sigs)
		left += skipped
	}
	c, err := newCertificate(parts)
	if err != nil {
		panic("openpgp: Merge of certificates that were read before: " + err.Error())
	}
	return c, left
}

// added returns signatures with those of more that are not among them, as many as
// there may be on one part of a key.
func added(sigs, more [][]byte) (all [][]byte, left int) {
	known := make(map[string]bool, len(sigs))
	for _, s := range sigs {
		known[string(s)] = true
	}
	var fresh [][]byte
	for _, s := range more {
		if !known[string(s)] {
			known[string(s)] = true
			fresh = append(fresh, s)
		}
	}
	room := max(0, maxComponentSignatures-len(sigs))
	if len(fresh) > room {
		slices.SortStableFunc(fresh, weightier)
		left = len(fresh) - room
		fresh = fresh[:room]
	}
	return append(slices.Clip(sigs), fresh...), left
}

// weightier puts revocations before other signatures, and the newer before the
// older; what cannot be read comes last.
func weightier(x, y []byte) int {
	a, errA := parseSignature(x, 0)
	b, errB := parseSignature(y, 0)
	if errA != nil || errB != nil {
		return cmp.Compare(rank(errA != nil), rank(errB != nil))
	}
	return cmp.Or(cmp.Compare(rank(!a.Type.isRevocation()), rank(!b.Type.isRevocation())), b.Created.Compare(a.Created))
}

func rank(later bool) int {
	if later {
		return 1
	}
	return 0
}

// Bytes returns the certificate in canonical binary form.
func (c *Certificate) Bytes() []byte {
	var out []byte
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

// check verifies every self-signature once, and drops those that do not hold.
func (c *Certificate) check() {
	c.checkOnce.Do(func() {
		budget := maxSelfChecks
		keep := func(sigs []*Signature, write func(hash.Hash)) []*Signature {
			// Newest first, so that a budget spent leaves out the oldest.
			slices.SortStableFunc(sigs, func(a, b *Signature) int { return b.Created.Compare(a.Created) })
			return slices.DeleteFunc(sigs, func(s *Signature) bool {
				if budget--; budget < 0 {
					return true
				}
				return !holdsOver(s, c.Primary, write)
			})
		}
		primary := func(h hash.Hash) { c.Primary.hashInto(h) }
		c.revocations = keep(c.revocations, primary)
		c.direct = keep(c.direct, primary)
		for _, u := range c.UserIDs {
			withID := c.hashesID(u)
			u.revocations = keep(u.revocations, withID)
			u.self = keep(u.self, withID)
		}
		for _, sub := range c.Subkeys {
			both := func(h hash.Hash) {
				c.Primary.hashInto(h)
				sub.Key.hashInto(h)
			}
			sub.revocations = keep(sub.revocations, both)
			sub.bindings = keep(sub.bindings, both)
		}
	})
}

// hashesID returns what writes the key and one of its user IDs into a hash, as
// certifications do (RFC 9580, section 5.2.4).
func (c *Certificate) hashesID(u *UserID) func(hash.Hash) {
	return func(h hash.Hash) {
		c.Primary.hashInto(h)
		h.Write(binary.BigEndian.AppendUint32([]byte{0xb4}, uint32(len(u.ID))))
		h.Write([]byte(u.ID))
	}
}

// holdsOver reports whether s by key holds over what write hashes.
func holdsOver(s *Signature, key *PublicKey, write func(hash.Hash)) bool {
	h, err := s.NewHash()
	if err != nil {
		return false
	}
	write(h)
	return key.verify(s, s.Finish(h)) == nil
}

// selfSignatures returns the self-signatures that rule the primary key, newest
// first: direct-key signatures, and those on user IDs that are not revoked.
func (c *Certificate) selfSignatures(rules Rules) []*Signature {
	c.check()
	all := slices.Clone(c.direct)
	for _, u := range c.UserIDs {
		if !u.revoked() {
			all = append(all, u.self...)
		}
	}
	return rules.usable(all, c.Primary)
}

// revoked reports whether a revocation is at least as new as the newest
// self-certification.
func (u *UserID) revoked() bool {
	for _, r := range u.revocations {
		if len(u.self) == 0 || !r.Created.Before(u.self[0].Created) {
			return true
		}
	}
	return false
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
	self := c.selfSignatures(rules)
	if len(self) == 0 {
		return nil, false
	}
	return expiryOf(c.Primary, self[0]), true
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

// Uses describes what a key of the certificate may do by its newest valid
// binding: "certify", "sign", "encrypt".
func (c *Certificate) Uses(key *PublicKey, rules Rules) []string {
	var binding *Signature
	if key == c.Primary {
		if self := c.selfSignatures(rules); len(self) > 0 {
			binding = withFlags(self)
		}
	} else if sub := c.subkey(key); sub != nil {
		c.check()
		if usable := rules.usable(sub.bindings, key); len(usable) > 0 {
			binding = usable[0]
		}
	}
	if binding == nil {
		return nil
	}
	var out []string
	for _, use := range []struct {
		bit  byte
		name string
	}{{flagCertify, "certify"}, {flagSign, "sign"}, {0x0c, "encrypt"}, {0x20, "authenticate"}} {
		if binding.keyFlags&use.bit != 0 {
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

// withFlags returns the newest signature that states key flags, or the newest.
func withFlags(sigs []*Signature) *Signature {
	for _, s := range sigs {
		if s.hasKeyFlags {
			return s
		}
	}
	return sigs[0]
}

func (c *Certificate) subkey(key *PublicKey) *Subkey {
	for _, s := range c.Subkeys {
		if s.Key.Fingerprint == key.Fingerprint {
			return s
		}
	}
	return nil
}
