package openpgp

import (
	"errors"
	"fmt"
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
	// covers is what signatures about the primary key are over.
	covers *covered
	// own are, for each component, the owner's signatures that hold, once they have
	// been checked, and ownIDs tells them by their identity.
	own    [][]*Signature
	ownIDs map[string]bool
	// strays are signatures by other keys that are about a user ID and may not stand behind
	// it: certifications elsewhere, and all that take certifications back.
	strays    []foreign
	checkOnce sync.Once
	vetting   Vetting
	verified  *memo
}

// A UserID is a name, as its owner wrote it, with the signatures about it.
type UserID struct {
	// ID is text from outside: make it harmless before showing it.
	ID string
	// framed and bare are what certifications of it are over, those of version 3 the latter.
	framed, bare *covered
	self         []*Signature
	revocations  []*Signature
	others       []foreign
}

// A Subkey is a key with the signatures that bind it to the primary key.
type Subkey struct {
	Key *PublicKey
	// over is what its bindings are over, in both directions.
	over        *covered
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
// a version that is not supported, and one that is damaged, is left out and reported in
// skipped, with where it stands.
//
// It returns a [*SecretKeyError] when the input holds any secret key, an
// [*EmptyError] when it holds no key, and a [*FormatError] when all keys are damaged.
func ReadCertificates(data []byte) (certs []*Certificate, skipped []error, err error) {
	in := &keyReader{}
	if isArmored(data) {
		for _, b := range armorBlocks(data) {
			switch {
			case b.kind == "PGP PRIVATE KEY BLOCK":
				return nil, nil, &SecretKeyError{}
			case b.kind != "PGP PUBLIC KEY BLOCK":
				return nil, nil, &EmptyError{Want: "public key", Found: "it is a block headed " + b.kind}
			case b.damage != nil:
				in.damaged = append(in.damaged, b.damage)
			default:
				err := in.read(b.data)
				if empty := (*EmptyError)(nil); errors.As(err, &empty) {
					in.damaged = append(in.damaged, err) // a block without a key
				} else if err != nil {
					return nil, nil, err
				}
			}
		}
	} else if err := in.read(data); err != nil {
		return nil, nil, err
	}
	switch {
	case len(in.certs) == 0 && len(in.unsupported) == 0 && len(in.damaged) > 0:
		return nil, nil, in.damaged[0]
	case len(in.certs) == 0 && len(in.unsupported) == 0:
		return nil, nil, &EmptyError{Want: "public key"}
	}
	return in.certs, append(in.unsupported, in.damaged...), nil
}

// A keyReader collects certificates, and says what is wrong with others.
type keyReader struct {
	certs                []*Certificate
	unsupported, damaged []error
}

// read reads the certificates of one block. It fails where it holds a secret key, or no key
// at all.
func (in *keyReader) read(data []byte) error {
	if what := describe(data); what != "" || data[0]&0x80 == 0 {
		return &EmptyError{Want: "public key", Found: what}
	}
	groups, damaged, err := readGroups(data)
	if err != nil {
		return err
	}
	in.damaged = append(in.damaged, damaged...)
	for _, g := range groups {
		cert, err := newCertificate(g.parts)
		switch {
		case err == nil:
			cert.vetting = Vetting{Packets: countPackets(g.parts) + g.passed, PassedOver: g.passed}
			in.certs = append(in.certs, cert)
		case IsUnsupported(err):
			in.unsupported = append(in.unsupported, err)
		default:
			in.damaged = append(
				in.damaged, &FormatError{Offset: g.offset, Packet: tagName(tagPublicKey), Reason: reasonOf(err)},
			)
		}
	}
	return nil
}

// reasonOf returns what is wrong, without the place.
func reasonOf(err error) string {
	var format *FormatError
	if errors.As(err, &format) {
		return format.Reason
	}
	return err.Error()
}

// A group are the components of one certificate, and where it begins.
type group struct {
	offset int
	parts  []component
	// passed counts the packets that were passed over.
	passed int
}

// readGroups splits packets into the components of one certificate each. How many
// there are is bounded by what is kept of a certificate, see [Certificate.Vet]: a flood
// of junk must not keep what is genuine from being read. A certificate with a packet that
// has no place in one is left out, and damaged says why; where a packet's end cannot be told
// reading ends.
func readGroups(data []byte) (groups []group, damaged []error, err error) {
	g := grouping{}
	r := packetReader{data: data}
	for {
		p, err := r.next()
		if err != nil {
			g.open = nil // nobody knows what of it is missing
			g.damaged = append(g.damaged, err)
			break
		}
		if p == nil {
			break
		}
		if err := g.take(p); err != nil {
			return nil, nil, err
		}
		// A key that is too long takes nothing from what was read before it.
		if (g.open != nil || p.tag != tagPublicKey) && len(g.damaged) > maxDamaged {
			return nil, nil, g.damaged[0]
		}
	}
	g.end()
	return g.groups, g.damaged, nil
}

// A grouping puts packets into groups.
type grouping struct {
	groups  []group
	damaged []error
	// open is the certificate that is being read, or nil.
	open *group
	// spoiled is set up to the next key, cut up to the next part, and strange once something
	// stood before the first key.
	spoiled, cut, strange bool
}

func (g *grouping) end() {
	if g.open != nil {
		g.groups = append(g.groups, *g.open)
	}
	g.open = nil
}

// take puts a packet where it belongs. It fails where what is read is no certificate at all.
func (g *grouping) take(p *packet) error {
	switch p.tag {
	case tagSecretKey, tagSecretSubkey:
		return &SecretKeyError{}
	case tagPublicKey:
		g.key(p)
	case tagTrust, tagMarker, tagPadding:
		// Local remarks of the exporting program.
		g.passOver()
	case tagUserID, tagUserAttribute, tagPublicSubkey, tagSignature:
		return g.part(p)
	default:
		if p.tag >= leastUncritical || g.spoiled {
			g.passOver()
			break
		}
		g.misplaced(p, "it has no place in a public key")
		g.open, g.spoiled = nil, true
	}
	return nil
}

func (g *grouping) passOver() {
	if g.open != nil {
		g.open.passed++
	}
}

func (g *grouping) misplaced(p *packet, why string) {
	g.damaged = append(g.damaged, &FormatError{Offset: p.offset, Packet: tagName(p.tag), Reason: why})
}

// key begins another certificate.
func (g *grouping) key(p *packet) {
	g.end()
	g.cut = false
	if len(p.body) > maxBody(p.tag) {
		long := tooLong(p)
		g.damaged = append(g.damaged, &long)
		g.spoiled = true
		return
	}
	g.open, g.spoiled = &group{offset: p.offset, parts: []component{{tag: p.tag, body: p.body}}}, false
}

// part takes a part of a certificate, or a signature over the part before.
func (g *grouping) part(p *packet) error {
	long := len(p.body) > maxBody(p.tag)
	if long {
		g.damaged = append(g.damaged, &PartError{tooLong(p)})
	}
	switch {
	case g.spoiled:
	case long && p.tag != tagSignature && g.open != nil:
		g.cut = true
	case long, g.cut && p.tag == tagSignature:
	case g.open == nil && p.tag == tagSignature && !g.strange:
		return &EmptyError{Want: "public key", Found: "it starts with a signature"}
	case g.open == nil:
		g.strange = true
		g.misplaced(p, "it stands before any public key")
	case p.tag == tagSignature:
		last := &g.open.parts[len(g.open.parts)-1]
		last.sigs = append(last.sigs, p.body)
	default:
		g.cut = false
		g.open.parts = append(g.open.parts, component{tag: p.tag, body: p.body})
	}
	return nil
}

// maxBody returns how long a packet of a certificate may be: longer ones cost those who
// verify what is over them, and say nothing more.
func maxBody(tag int) int {
	switch tag {
	case tagUserID:
		return 8 << 10
	case tagUserAttribute, tagSignature:
		return 1 << 20
	}
	return 64 << 10 // of keys
}

// tooLong is the error about a packet with more bytes than [maxBody] allows.
func tooLong(p *packet) FormatError {
	return FormatError{
		Offset: p.offset, Packet: tagName(p.tag),
		Reason: fmt.Sprintf("it has %d bytes, and more than %d are not read", len(p.body), maxBody(p.tag)),
	}
}

// maxDamaged bounds the damage of one input that is told apart.
const maxDamaged = 1000

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

// revocationOf returns the gravest revocation that concerns a key: of the primary key, and of
// the subkey where it is one. The hardest decides, and of equally hard ones the earliest.
func (c *Certificate) revocationOf(key *PublicKey) *Revocation {
	c.check()
	all := slices.Clone(c.revocations)
	if sub := c.subkey(key); sub != nil && key != c.Primary {
		all = append(all, sub.revocations...)
	}
	return revocationOf(all)
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
	} else if sub := c.subkey(key); sub != nil && key.Version == c.Primary.Version {
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
