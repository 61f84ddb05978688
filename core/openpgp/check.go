package openpgp

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"slices"
	"sync"
	"time"
)

// An Effort is how much may be spent on hashing and on public-key operations. It is
// counted by what each kind of operation usually costs, before it happens and not by the
// clock, so that the same input is always worked on as far. It is not safe for concurrent
// use.
type Effort struct {
	left time.Duration
	ctx  context.Context
}

// NewEffort returns an effort of about that much computing time.
func NewEffort(d time.Duration) *Effort { return &Effort{left: d} }

// EffortUntil returns an effort that is spent, too, when nobody waits for the result any
// longer.
func EffortUntil(ctx context.Context, d time.Duration) *Effort { return &Effort{left: d, ctx: ctx} }

// Share splits off one part in n of what is left, for the first of n that share it.
// What of it is not spent is given back by the function that comes with it.
func (e *Effort) Share(n int) (part *Effort, giveBack func()) {
	part = &Effort{left: e.left / time.Duration(max(1, n)), ctx: e.ctx}
	e.left -= part.left
	return part, func() { e.left += part.left; part.left = 0 }
}

// spend takes a cost off, or reports that it is too much.
// A nil effort has no end.
func (e *Effort) spend(cost time.Duration) bool {
	if e == nil {
		return true
	}
	if cost > e.left || e.ctx != nil && e.ctx.Err() != nil {
		return false
	}
	e.left -= cost
	return true
}

// ownEffort bounds what is spent on the signatures of one certificate where nobody
// says otherwise.
const ownEffort = 20 * time.Second

// cost is about what verifying one signature by the key takes; see BenchmarkCost.
func (k *PublicKey) cost() time.Duration {
	size := time.Duration(k.Bits) / 1024
	switch {
	case k.unusable != "":
		return 0
	case k.rsa != nil:
		return (30 + 30*size*size) * time.Microsecond
	case k.dsa != nil:
		return (500 + 500*size*size) * time.Microsecond
	case k.ec != nil && k.ec.standard == nil:
		return time.Duration(k.Bits) * 40 * time.Microsecond
	case k.ec != nil && k.Bits > 256:
		return time.Duration(k.Bits-200) * 12 * time.Microsecond
	case k.ed448 != nil:
		return 500 * time.Microsecond
	}
	return 150 * time.Microsecond
}

// A memo keeps which signatures were verified, and with what outcome, so that
// none is verified twice. It is safe for concurrent use; certificates that were made
// of one another share one.
type memo struct {
	mu   sync.Mutex
	held map[[sha256.Size]byte]bool
}

// maxRemembered bounds the outcomes that one memo keeps.
const maxRemembered = 200_000

// holds reports whether s by key holds over something, and remembers. spent is false where
// the effort did not suffice to tell; a nil effort always does.
func (m *memo) holds(s *Signature, key *PublicKey, over *covered, e *Effort) (holds, spent bool) {
	if key.unusable != "" {
		return false, true
	}
	digest, err := over.digest(s, e)
	if err != nil {
		return false, true
	}
	if digest == nil {
		return false, false
	}
	id := outcomeOf(s, key, digest)
	m.mu.Lock()
	held, known := m.held[id]
	m.mu.Unlock()
	if known {
		return held, true
	}
	if !e.spend(key.cost()) {
		return false, false
	}
	held = key.verify(s, digest) == nil
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.held == nil || len(m.held) >= maxRemembered {
		m.held = map[[sha256.Size]byte]bool{}
	}
	m.held[id] = held
	return held, true
}

// outcomeOf names what a verification depends on: the key, the digest, and the
// signature's values.
func outcomeOf(s *Signature, key *PublicKey, digest []byte) (id [sha256.Size]byte) {
	h := sha256.New()
	part := func(b []byte) {
		h.Write(binary.BigEndian.AppendUint32(nil, uint32(len(b))))
		h.Write(b)
	}
	h.Write([]byte{byte(key.Version), byte(s.Version), byte(s.KeyAlgorithm), byte(s.Hash)})
	part(key.body)
	part(digest)
	for _, v := range s.values {
		part(v)
	}
	h.Sum(id[:0])
	return id
}

// A claim is a signature that may be by the owner of a certificate, in all the copies
// that there are of it.
type claim struct {
	sig    *Signature
	copies []*Signature
	// places are what it may be over. That at which it stands is the first, where natural is
	// set; the others are tried when it does not hold there.
	places  []place
	natural bool
	// unsure is set for one that says to be by another key in a part that anybody can change.
	unsure bool
	// unread is set for one that stands behind a subkey that cannot be read, and may be about
	// that.
	unread bool
	held   bool
}

// A place is what a signature of the owner may be over, and where it belongs then.
type place struct {
	part int
	to   *[]*Signature
	over *covered
	sub  *Subkey
}

// identity is what makes two signature packets copies of one signature: all but the
// unhashed area, which anybody can change.
func (s *Signature) identity() string {
	out := append([]byte{byte(s.Version), byte(s.Type), byte(s.KeyAlgorithm), byte(s.Hash)}, s.hashedArea...)
	for _, v := range append([][]byte{s.salt}, s.values...) {
		out = binary.BigEndian.AppendUint32(out, uint32(len(v)))
		out = append(out, v...)
	}
	return string(out)
}

// A statement is what the copies of one signature on a part of a certificate have in
// common.
type statement struct {
	part int
	id   string
}

// check verifies every signature that claims to be by the owner, once, and keeps
// those that hold.
func (c *Certificate) check() { c.checkWithin(NewEffort(ownEffort)) }

// checkWithin is check with an effort, unless that has been done.
//
// No number of forgeries can hide what is genuine as long as the effort suffices:
// nothing is counted before it is verified, revocations are taken first, whatever
// they are about and wherever they stand, and then what is newest. Where a signature
// stands says what it is tried over first, and decides nothing.
func (c *Certificate) checkWithin(e *Effort) {
	c.checkOnce.Do(func() {
		c.own = make([][]*Signature, len(c.components))
		c.ownIDs = map[string]bool{}
		claims := c.claims()
		slices.SortStableFunc(claims, func(a, b *claim) int { return weightier(a.sig, b.sig) })
		ordinary := slices.IndexFunc(claims, func(assertion *claim) bool { return !assertion.sig.Type.isRevocation() })
		if ordinary < 0 {
			ordinary = len(claims)
		}
		short := map[*claim]bool{}
		for _, batch := range [][]*claim{claims[:ordinary], claims[ordinary:]} {
			c.tryAt(batch, func(assertion *claim) []place {
				if !assertion.natural {
					return nil
				}
				return assertion.places[:1]
			}, short, e)
			c.tryAt(batch, func(assertion *claim) []place {
				if !assertion.natural {
					return assertion.places
				}
				return assertion.places[1:]
			}, short, e)
		}
		for _, assertion := range claims {
			switch {
			case assertion.held, assertion.unsure, assertion.unread:
			case short[assertion]:
				c.vetting.Unchecked++
			default:
				c.vetting.Forged++
			}
		}
	})
}

// tryAt tries those of some claims that do not hold yet over places of theirs. It notes
// those for which the effort did not suffice.
func (c *Certificate) tryAt(claims []*claim, places func(*claim) []place, short map[*claim]bool, e *Effort) {
	for _, tried := range claims {
		if tried.held {
			continue
		}
		for _, at := range places(tried) {
			held, spent := c.verified.holds(tried.sig, c.Primary, at.over, e)
			if !spent {
				short[tried] = true
			}
			if held {
				tried.held = true
				c.ownIDs[tried.sig.identity()] = true
				c.accept(tried, at, e)
				break
			}
		}
	}
}

// claims collects the signatures that may be by the owner, and shares out those that are
// by others.
func (c *Certificate) claims() []*claim {
	spots := c.spots()
	var out []*claim
	known := map[string]*claim{}
	for i, part := range c.components {
		for _, raw := range part.sigs {
			s, err := parseSignature(raw, 0)
			if err != nil || s.unsupported != nil {
				continue // it is kept, and proves nothing
			}
			named := c.mayBeOwn(s)
			if !named && !s.hintsLie() {
				c.noteForeign(spots[i].user, foreign{raw, s.Type, s.hints})
				continue
			}
			places, natural := c.placesFor(spots, i, s)
			unread := spots[i].aboutUnread(part, s)
			if len(places) == 0 && !unread {
				if named {
					c.vetting.Misplaced++
				}
				continue
			}
			id := s.identity()
			if first := known[id]; first != nil {
				first.copies = append(first.copies, s)
				first.unsure = first.unsure && !named
				if natural && !first.natural {
					first.places, first.natural = places, true
				}
				continue
			}
			made := &claim{
				sig: s, copies: []*Signature{s}, places: places, natural: natural, unsure: !named, unread: unread,
			}
			known[id] = made
			out = append(out, made)
		}
	}
	return out
}

// A spot is a part of a certificate with what was understood of it.
type spot struct {
	user *UserID
	sub  *Subkey
	// over is what certifications of a user attribute are over.
	over *covered
}

// aboutUnread reports whether a signature stands behind a subkey that cannot be read, and is
// of a kind that is about subkeys.
func (s spot) aboutUnread(part component, sig *Signature) bool {
	return part.tag == tagPublicSubkey && s.sub == nil && (sig.Type == SubkeyBinding || sig.Type == SubkeyRevocation)
}

// spots returns what the components are, in their order.
func (c *Certificate) spots() []spot {
	out := make([]spot, len(c.components))
	names, subkeys := c.UserIDs, c.Subkeys
	for i, part := range c.components {
		switch {
		case part.tag == tagUserID:
			out[i].user, names = names[0], names[1:]
		case part.tag == tagUserAttribute:
			out[i].over = &covered{pieces: slices.Concat(c.Primary.framed(), framedAs(0xd1, part.body))}
		case part.tag == tagPublicSubkey && len(subkeys) > 0 && string(subkeys[0].Key.body) == string(part.body):
			out[i].sub, subkeys = subkeys[0], subkeys[1:]
		}
	}
	return out
}

// placesFor returns all that a signature by the owner may be over by its type, that at
// which it stands first; natural tells whether it may be over that.
func (c *Certificate) placesFor(spots []spot, at int, s *Signature) (places []place, natural bool) {
	if p, ok := c.place(spots, at, s); ok {
		places, natural = append(places, p), true
	}
	if natural && (s.Type == KeyRevocation || s.Type == DirectKey) {
		return places, natural
	}
	for i := range c.components {
		if i == at {
			continue
		}
		if p, ok := c.place(spots, i, s); ok {
			places = append(places, p)
		}
	}
	return places, natural
}

// place tells where a signature by the owner belongs that is over a part, and what it
// hashes of it. What says nothing about such a part has no place there; that of a user
// attribute is checked, and not used.
func (c *Certificate) place(spots []spot, at int, s *Signature) (p place, ok bool) {
	part, user, sub := c.components[at], spots[at].user, spots[at].sub
	p = place{part: at, sub: sub}
	switch t := s.Type; {
	case part.tag == tagPublicKey && t == KeyRevocation:
		p.to, p.over = &c.revocations, c.covers
	case part.tag == tagPublicKey && t == DirectKey:
		p.to, p.over = &c.direct, c.covers
	case user != nil && t.isCertification():
		p.to, p.over = &user.self, user.over(s)
	case user != nil && t == CertRevocation:
		p.to, p.over = &user.revocations, user.over(s)
	case part.tag == tagUserAttribute && (t.isCertification() || t == CertRevocation):
		p.to, p.over = new([]*Signature), spots[at].over
	case sub != nil && t == SubkeyBinding:
		p.to, p.over = &sub.bindings, sub.over
	case sub != nil && t == SubkeyRevocation:
		p.to, p.over = &sub.revocations, sub.over
	default:
		return place{}, false
	}
	return p, true
}

// noteForeign keeps in mind a signature by another key that stands behind a user ID, or
// behind something else.
func (c *Certificate) noteForeign(user *UserID, certification foreign) {
	if !certification.kind.isCertification() && certification.kind != CertRevocation {
		return
	}
	if user != nil {
		user.others = append(user.others, certification)
	}
	if user == nil || certification.kind == CertRevocation {
		c.strays = append(c.strays, certification)
	}
}

// accept takes a claim that holds. Of its copies the best is kept: for a binding,
// one with every signature back that holds, so that a copy without takes nothing away.
func (c *Certificate) accept(accepted *claim, at place, e *Effort) {
	best := accepted.copies[0]
	for _, s := range accepted.copies[1:] {
		best = preferred(best, s)
	}
	if accepted.sig.Type == SubkeyBinding {
		best = c.withBacks(accepted, at, best, e)
	}
	best.short = c.Primary.tooShort(best)
	*at.to = append(*at.to, best)
	c.own[at.part] = append(c.own[at.part], best)
}

// hintless reports whether it does not say by whom it is.
func (s *Signature) hintless() bool { return s.IssuerFingerprint == "" && s.IssuerKeyID == 0 }

// withBacks returns a binding with those signatures back by the subkey that hold, of
// all its copies.
func (c *Certificate) withBacks(bound *claim, at place, best *Signature, e *Effort) *Signature {
	var backs []*Signature
	for _, s := range bound.copies {
		for _, body := range s.embedded {
			back, err := parseSignature(body, 0)
			if err != nil || back.unsupported != nil || back.Type != PrimaryBinding ||
				slices.ContainsFunc(backs, func(b *Signature) bool { return bytes.Equal(b.Raw, back.Raw) }) {
				continue
			}
			if held, _ := c.verified.holds(back, at.sub.Key, at.over, e); held {
				back.short = at.sub.Key.tooShort(back)
				backs = append(backs, back)
			}
		}
	}
	slices.SortFunc(backs, func(a, b *Signature) int { return slices.Compare(a.Raw, b.Raw) })
	carries := func(s *Signature) bool {
		return !slices.ContainsFunc(backs, func(b *Signature) bool { return !s.embeds(b) })
	}
	for _, s := range bound.copies {
		if carries(s) && (!carries(best) || preferred(s, best) == s) {
			best = s
		}
	}
	if !carries(best) {
		best = best.withEmbedded(backs)
	}
	best.backs = backs
	return best
}

// embeds reports whether a signature has another one in it.
func (s *Signature) embeds(other *Signature) bool {
	return slices.ContainsFunc(s.embedded, func(body []byte) bool { return bytes.Equal(body, other.Raw) })
}

// withEmbedded returns a copy of a signature whose unhashed area has embedded
// signatures too, as far as there is room for them.
func (s *Signature) withEmbedded(more []*Signature) *Signature {
	out := s
	for _, m := range more {
		if out.embeds(m) {
			continue
		}
		if raw := out.appendUnhashed(subEmbeddedSignature, m.Raw); raw != nil {
			if longer, err := parseSignature(raw, 0); err == nil {
				out = longer
			}
		}
	}
	return out
}

// appendUnhashed returns the packet's body with one more subpacket in the unhashed
// area, or nil where there is no room for it.
func (s *Signature) appendUnhashed(id byte, body []byte) []byte {
	width := 2
	if s.Version == 6 {
		width = 4
	}
	at := len(s.hashedArea)
	if s.Version == 3 || len(s.Raw) < at+width {
		return nil
	}
	size := 0
	for _, b := range s.Raw[at : at+width] {
		size = size<<8 | int(b)
	}
	sub := binary.BigEndian.AppendUint32([]byte{0xff}, uint32(len(body)+1))
	sub = append(append(sub, id), body...)
	if size+len(sub) > 0xffff {
		return nil
	}
	length := binary.BigEndian.AppendUint32(nil, uint32(size+len(sub)))[4-width:]
	end := at + width + size
	return slices.Concat(s.Raw[:at], length, s.Raw[at+width:end], sub, s.Raw[end:])
}

// mayBeOwn reports whether the issuer hints allow s to be by the primary key: there is
// none, or one of them names it.
func (c *Certificate) mayBeOwn(s *Signature) bool {
	return s.hintless() || slices.ContainsFunc(s.hints, func(h hint) bool { return c.named(h.fingerprint, h.id) })
}

// hintsLie reports whether the issuer hints of a revocation of a key may lie: they stand
// where anybody can change them. To hide a revocation that way must not succeed.
func (s *Signature) hintsLie() bool {
	return (s.Type == KeyRevocation || s.Type == SubkeyRevocation) &&
		!slices.ContainsFunc(s.hints, func(h hint) bool { return h.hashed })
}

// named reports whether issuer hints mean the primary key. A fingerprint decides.
func (c *Certificate) named(fp Fingerprint, id KeyID) bool {
	if fp != "" {
		return fp == c.Primary.Fingerprint
	}
	return id == c.Primary.KeyID
}

// A foreign signature is one by another key than the certificate's. There can be many
// thousands of them: what they say is read when somebody asks.
type foreign struct {
	raw   []byte
	kind  SignatureType
	hints []hint
}

// by returns the signature if one of its hints allows it to be by a certificate.
func (f foreign) by(c *Certificate) *Signature {
	if !slices.ContainsFunc(f.hints, func(h hint) bool { return c.named(h.fingerprint, h.id) }) {
		return nil
	}
	s, err := parseSignature(f.raw, 0)
	if err != nil {
		return nil
	}
	return s
}
