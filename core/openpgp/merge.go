package openpgp

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"
)

const (
	// maxComponents and maxComponentSignatures bound what is kept of one certificate.
	maxComponents          = 1000
	maxComponentSignatures = 20_000
	// maxCertificate bounds what is kept of one certificate, in bytes.
	maxCertificate = 32 << 20
	// maxStrange bounds the parts of a certificate that its owner has not signed,
	// and the signatures on each of them: they count for nothing.
	maxStrange = 50
	// maxForeign bounds the signatures on one part by keys that are not known, so
	// that there is room left for those that are.
	maxForeign = maxComponentSignatures / 2
	// maxOwn bounds the signatures of the owner on one part that are kept: the
	// newest ones, and revocations before others.
	maxOwn = 1000
)

// newCertificate understands components that start with a primary key. Signatures
// are read when something is asked about them.
func newCertificate(parts []component) (*Certificate, error) {
	parts = canonical(parts)
	c := &Certificate{components: parts, verified: &memo{}}
	for _, part := range parts {
		p := &packet{tag: part.tag, body: part.body, end: len(part.body)}
		switch part.tag {
		case tagPublicKey:
			key, err := readPublicKey(p)
			if err != nil {
				return nil, err
			}
			c.Primary, c.covers = key, &covered{pieces: key.framed()}
		case tagUserID:
			primary := c.Primary.framed()
			c.UserIDs = append(c.UserIDs, &UserID{
				ID:     string(part.body),
				framed: &covered{pieces: slices.Concat(primary, framedAs(0xb4, part.body))},
				bare:   &covered{pieces: append(primary, part.body)},
			})
		case tagPublicSubkey:
			if key, err := readPublicKey(p); err == nil { // else kept in components, not used
				c.Subkeys = append(
					c.Subkeys,
					&Subkey{Key: key, over: &covered{pieces: slices.Concat(c.Primary.framed(), key.framed())}},
				)
			}
		}
	}
	return c, nil
}

// canonical sorts components and signatures by content and drops repeats, the
// primary key first, then user IDs, attributes and subkeys.
func canonical(parts []component) []component {
	order := map[int]int{tagPublicKey: 0, tagUserID: 1, tagUserAttribute: 2, tagPublicSubkey: 3}
	compare := func(a, b component) int {
		if d := order[a.tag] - order[b.tag]; d != 0 {
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
		if sigs := out[i].sigs; !slices.IsSortedFunc(sigs, bytes.Compare) {
			out[i].sigs = slices.SortedFunc(slices.Values(sigs), bytes.Compare)
		}
		out[i].sigs = slices.CompactFunc(slices.Clip(out[i].sigs), bytes.Equal)
	}
	return out
}

// weightier puts revocations before other signatures, and the newer before the
// older.
func weightier(a, b *Signature) int {
	return cmp.Or(cmp.Compare(rank(!a.Type.isRevocation()), rank(!b.Type.isRevocation())), b.Created.Compare(a.Created))
}

func rank(later bool) int {
	if later {
		return 1
	}
	return 0
}

// Certifiers finds the keys that may have made a certification and are worth to be
// told from anybody's, such as those that a person has decided about. A nil one knows
// none.
type Certifiers func(*Signature) []Candidate

// Vet returns what of the certificate is worth keeping, and what became of the rest:
// signatures that claim to be by the owner and do not hold are dropped, and those
// that could not be checked within the effort; of several copies of one signature
// the best is kept. Signatures by other keys stay: those by one of the certifiers
// when they hold, of the others a bounded number, for nobody here can tell what they
// are worth. A nil effort is a usual one.
func (c *Certificate) Vet(e *Effort, certifiers Certifiers) (vetted *Certificate, vetting Vetting) {
	if e == nil {
		e = NewEffort(ownEffort)
	}
	c.checkWithin(e)
	out, k := c.kept(nil, certifiers, e)
	return out, c.vetted(k)
}

// Merge returns a certificate with what either holds about the same primary key, and
// what is vouched for by its owner in either. Nothing of that which a holds is
// lost. What b adds is left out where a would pass the bounds of one certificate, and
// left counts that; signatures by the certifiers come before those by keys that are
// not known. Merge panics when the primary keys differ, which the caller has to
// prevent.
func Merge(a, b *Certificate, certifiers Certifiers) (c *Certificate, left int) {
	if a.Primary.Fingerprint != b.Primary.Fingerprint {
		panic("openpgp: Merge of different keys")
	}
	a.check()
	b.check()
	merged, k := a.kept(b, certifiers, NewEffort(ownEffort))
	return merged, k.left
}

// A keeper collects the parts of a certificate that are kept.
type keeper struct {
	parts []component
	// owned counts the owner's signatures on each part.
	owned   []int
	at      map[string]int
	strange int
	bytes   int
	left    int
	// untrue, unknown and unread are as in [Vetting].
	untrue, unknown, unread int
}

// strangePart is [keeper.part] for a component that the owner has not bound: there is room for few.
func (k *keeper) strangePart(tag int, body []byte) int {
	before := len(k.parts)
	i := k.place(tag, body, k.strange < maxStrange)
	k.strange += len(k.parts) - before
	return i
}

// part returns the place of a component, or -1 where there is no room for it.
func (k *keeper) part(tag int, body []byte) int { return k.place(tag, body, true) }

// place is [keeper.part], where room says whether there may be one component more.
func (k *keeper) place(tag int, body []byte, room bool) int {
	id := fmt.Sprintf("%d %s", tag, body)
	if i, ok := k.at[id]; ok {
		return i
	}
	if !room || len(k.parts) >= maxComponents || k.bytes+len(body) > maxCertificate {
		return -1
	}
	k.at[id] = len(k.parts)
	k.bytes += len(body) + 6
	k.parts = append(k.parts, component{tag: tag, body: body})
	k.owned = append(k.owned, 0)
	return len(k.parts) - 1
}

// add adds signatures to a part that may have up to most, and passes over those that
// it has. It returns how many it added.
func (k *keeper) add(i int, sigs [][]byte, most int) (added int) {
	known := make(map[string]bool, len(k.parts[i].sigs))
	for _, s := range k.parts[i].sigs {
		known[string(s)] = true
	}
	for _, s := range sigs {
		switch {
		case known[string(s)]:
		case len(k.parts[i].sigs) >= most || k.bytes+len(s) > maxCertificate:
			k.left++
		default:
			known[string(s)] = true
			k.bytes += len(s) + 6
			k.parts[i].sigs = append(k.parts[i].sigs, s)
			added++
		}
	}
	return added
}

// kept puts together what of a checked certificate, and of a newer copy of it, is
// worth keeping: first what the owner vouches for, then what is known to be genuine,
// then as much of the rest as there is room for.
func (c *Certificate) kept(newer *Certificate, certifiers Certifiers, e *Effort) (merged *Certificate, k *keeper) {
	k = &keeper{at: map[string]int{}}
	sources := []*Certificate{c}
	if newer != nil {
		sources = append(sources, newer)
	}
	k.part(tagPublicKey, c.components[0].body)
	k.addOwned(sources)
	for _, from := range sources {
		spots := from.spots()
		for n, part := range from.components {
			if i := k.strangePart(part.tag, part.body); i >= 0 {
				genuine, unknown, unread, untrue := from.foreign(
					part, spots[n], certifiers, e,
					func(u *UserID, raw []byte) {
						if at := k.strangePart(tagUserID, []byte(u.ID)); at >= 0 {
							k.add(at, [][]byte{raw}, maxComponentSignatures)
						} else {
							k.left++
						}
					},
				)
				k.untrue += untrue
				k.add(i, genuine, maxComponentSignatures)
				most := maxForeign
				if k.owned[i] == 0 && part.tag != tagPublicKey {
					most = maxStrange
				}
				k.unknown += k.add(i, unknown, most)
				k.unread += k.add(i, unread, most)
			} else {
				k.left += 1 + len(part.sigs)
			}
		}
	}
	merged, err := newCertificate(k.parts)
	if err != nil {
		panic("openpgp: parts of certificates that were read before: " + err.Error())
	}
	merged.verified = c.verified
	if newer != nil {
		merged.verified = c.verified.with(newer.verified)
	}
	return merged, k
}

// addOwned adds the parts that the owner has signed, with his signatures, of all
// sources. Copies of one signature that differ in what anybody can change become one.
func (k *keeper) addOwned(sources []*Certificate) {
	at := map[statement]*Signature{}
	var order []statement
	for _, from := range sources {
		for n, part := range from.components {
			own := from.own[n]
			if len(own) == 0 {
				continue
			}
			i := k.part(part.tag, part.body)
			if i < 0 {
				continue // kept counts it
			}
			for _, s := range own {
				p := statement{i, s.identity()}
				if known := at[p]; known != nil {
					at[p] = better(known, s)
					continue
				}
				at[p] = s
				order = append(order, p)
			}
		}
	}
	slices.SortStableFunc(order, func(a, b statement) int { return weightier(at[a], at[b]) })
	for _, p := range order {
		if k.owned[p.part] == maxOwn {
			k.left++
			continue
		}
		k.owned[p.part]++
		k.add(p.part, [][]byte{at[p].Raw}, maxOwn)
	}
}

// better returns the better of two copies of one signature: with what signatures back
// either has and, of two that have the same, always the same one.
func better(a, b *Signature) *Signature {
	if len(a.backs) == 0 && len(b.backs) == 0 || bytes.Equal(a.Raw, b.Raw) {
		return preferred(a, b)
	}
	union := slices.Clone(a.backs)
	for _, back := range b.backs {
		if !slices.ContainsFunc(union, func(u *Signature) bool { return bytes.Equal(u.Raw, back.Raw) }) {
			union = append(union, back)
		}
	}
	best := preferred(a, b)
	switch {
	case len(a.backs) == len(union) && len(b.backs) < len(union):
		best = a
	case len(b.backs) == len(union) && len(a.backs) < len(union):
		best = b
	case len(best.backs) < len(union):
		best = best.withEmbedded(union)
	}
	out := *best // the certificates that it is of stay as they are
	out.backs = union
	return &out
}

// preferred chooses between copies that differ in what anybody can change: one that
// says by whom it is, and then by content.
func preferred(a, b *Signature) *Signature {
	if cmp.Or(rank(a.hintless())-rank(b.hintless()), bytes.Compare(a.Raw, b.Raw)) <= 0 {
		return a
	}
	return b
}

// foreign returns the signatures on a part that are by other keys: those by a
// certifier that hold, those by keys that are not known, and those that are damaged or of
// unknown kinds. Those that name a certifier and hold over no user
// ID are neither; one that holds over another than it stands behind is given to add.
func (c *Certificate) foreign(
	part component, at spot, certifiers Certifiers, e *Effort, add func(u *UserID, raw []byte),
) (genuine, unknown, unread [][]byte, untrue int) {
	for _, raw := range part.sigs {
		s, err := parseSignature(raw, 0)
		if err != nil || s.unsupported != nil {
			unread = append(unread, raw)
			continue
		}
		if at.aboutUnread(part, s) && !c.ownIDs[s.identity()] {
			unread = append(unread, raw)
			continue
		}
		if c.mayBeOwn(s) || s.hintsLie() && c.ownIDs[s.identity()] {
			continue // see addOwned
		}
		var by []Candidate
		if (s.Type.isCertification() || s.Type == CertRevocation) && certifiers != nil {
			by = certifiers(s)
		}
		over, unsure := c.certified(at.user, s, by, e)
		switch over {
		case nil:
			if unsure {
				unknown = append(unknown, raw)
			} else {
				untrue++
			}
		case at.user:
			genuine = append(genuine, raw)
		default:
			add(over, raw)
		}
	}
	return genuine, unknown, unread, untrue
}

// certified returns the user ID over which a signature by one of the candidates holds, that
// at which it stands before others, or nil. unsure tells that there may be one for all that
// was tried.
func (c *Certificate) certified(at *UserID, s *Signature, by []Candidate, e *Effort) (over *UserID, unsure bool) {
	if len(by) == 0 {
		return nil, true
	}
	try := func(u *UserID) bool {
		for _, candidate := range by {
			held, spent := c.verified.holds(s, candidate.Key, u.over(s), e)
			if held {
				return true
			}
			unsure = unsure || !spent
		}
		return false
	}
	if at != nil {
		if try(at) {
			return at, false
		}
		if s.Type != CertRevocation {
			return nil, unsure
		}
	}
	for _, u := range c.UserIDs {
		if u != at && try(u) {
			return u, false
		}
	}
	return nil, unsure
}

// Remember lets a certificate that nothing was asked of yet know what was verified for
// another of the same key.
func (c *Certificate) Remember(other *Certificate) { c.verified = other.verified }

// with returns a memo of what either remembers.
func (m *memo) with(other *memo) *memo {
	if m == other {
		return m
	}
	out := &memo{held: map[[32]byte]bool{}}
	for _, from := range []*memo{m, other} {
		from.mu.Lock()
		for id, held := range from.held {
			if len(out.held) < maxRemembered {
				out.held[id] = held
			}
		}
		from.mu.Unlock()
	}
	return out
}
