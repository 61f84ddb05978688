package openpgp

import (
	"slices"
	"time"
)

// strongEnough reports whether the hash of a self-signature, a binding or a
// certification is accepted: SHA-1 and RIPEMD-160 are until the cut-off date.
func (r Rules) strongEnough(s *Signature) bool {
	return s.Hash.CollisionBits() >= 112 ||
		(s.Hash == HashSHA1 || s.Hash == HashRIPEMD160) && s.Created.Before(r.SelfSHA1Before)
}

// inForce reports whether a self-signature or binding of a key speaks at Now, whether
// or not it is accepted.
func (r Rules) inForce(s *Signature, key *PublicKey) bool {
	return !s.Created.IsZero() && !s.Created.After(r.Now.Add(r.Skew)) && !s.Created.Before(key.Created) &&
		!s.expired(r.Now)
}

// accepts reports whether a signature that is in force may grant something.
func (r Rules) accepts(s *Signature) bool {
	return r.strongEnough(s) && !s.short && s.criticalUnknown == ""
}

// usable returns those self-signatures or bindings of a key that the rules accept at
// Now, newest first. Their cryptography has been checked before.
func (r Rules) usable(sigs []*Signature, key *PublicKey) []*Signature {
	out := slices.Clone(sigs)
	out = slices.DeleteFunc(out, func(s *Signature) bool { return !r.inForce(s, key) || !r.accepts(s) })
	slices.SortStableFunc(out, func(a, b *Signature) int { return b.Created.Compare(a.Created) })
	return out
}

// A ruling is what the owner's signatures say together about one of his keys.
type ruling struct {
	// since is when the signature that decides was made.
	since time.Time
	// expires is when the key does, or nil.
	expires *time.Time
	// flags are what it may do; stated tells whether any signature says so.
	flags  byte
	stated bool
	// backed tells that the key has signed its primary key back.
	backed bool
}

// ruling returns what the signatures that hold say about a key at Now. ok is false
// when the rules accept none of them.
//
// The newest that is accepted grants. Of several bindings of one time the best does;
// several signatures about the primary key that were made at once speak together. One that
// is as new or newer and cannot be accepted, for its hash or a critical part, grants
// nothing, and what it takes away is taken away.
func (r Rules) ruling(sigs []*Signature, key *PublicKey) (out ruling, ok bool) {
	usable := r.usable(sigs, key)
	if len(usable) == 0 {
		return ruling{}, false
	}
	out.since = usable[0].Created
	newest := atOnce(usable)
	if key.Subkey {
		best := r.bestBinding(newest, key)
		out.expires, out.flags, out.stated, out.backed = expiryOf(key, best), best.keyFlags, true, r.backed(best, key)
	} else {
		for _, s := range newest {
			out.expires = earlier(out.expires, expiryOf(key, s))
		}
		stating := slices.DeleteFunc(slices.Clone(usable), func(s *Signature) bool { return !s.hasKeyFlags })
		for _, s := range atOnce(stating) {
			out.stated = true
			out.flags |= s.keyFlags
		}
	}
	r.restrict(&out, sigs, key)
	return out, true
}

// bestBinding returns the best of several bindings of one time: one that lets the key
// sign, and carries its signature back.
func (r Rules) bestBinding(bindings []*Signature, key *PublicKey) *Signature {
	best := bindings[0]
	for _, s := range bindings {
		if s.keyFlags&flagSign != 0 && (best.keyFlags&flagSign == 0 || r.backed(s, key) && !r.backed(best, key)) {
			best = s
		}
	}
	return best
}

// backed reports whether a binding carries a primary key binding signature by the
// subkey itself (RFC 9580, section 5.2.1.9), which shows that the subkey's holder
// agreed.
func (r Rules) backed(binding *Signature, sub *PublicKey) bool {
	return len(r.usable(binding.backs, sub)) > 0
}

// restrict takes away what the newest signature takes away that cannot be accepted.
func (r Rules) restrict(out *ruling, sigs []*Signature, key *PublicKey) {
	declined := slices.DeleteFunc(slices.Clone(sigs), func(s *Signature) bool {
		return !r.inForce(s, key) || r.accepts(s) || s.Created.Before(out.since)
	})
	slices.SortStableFunc(declined, func(a, b *Signature) int { return b.Created.Compare(a.Created) })
	for _, s := range atOnce(declined) {
		out.expires = earlier(out.expires, expiryOf(key, s))
		if s.hasKeyFlags && !out.stated {
			out.flags, out.stated = s.keyFlags, true
		} else if s.hasKeyFlags {
			out.flags &= s.keyFlags
		}
	}
}

// atOnce returns those signatures, of some sorted newest first, that are as new as
// the first.
func atOnce(sigs []*Signature) []*Signature {
	n := 0
	for n < len(sigs) && sigs[n].Created.Equal(sigs[0].Created) {
		n++
	}
	return sigs[:n]
}

// earlier returns the earlier of two times, of which nil is never.
func earlier(a, b *time.Time) *time.Time {
	if a == nil || b != nil && b.Before(*a) {
		return b
	}
	return a
}

// primaryRuling is what direct-key signatures, and those on user IDs that are not
// revoked, say about the primary key.
func (c *Certificate) primaryRuling(rules Rules) (ruling, bool) {
	return rules.ruling(c.aboutPrimary(rules), c.Primary)
}

// aboutPrimary returns the signatures of the owner that are about the primary key.
func (c *Certificate) aboutPrimary(rules Rules) []*Signature {
	c.check()
	all := slices.Clone(c.direct)
	for _, u := range c.UserIDs {
		if !c.disowned(u, rules) {
			all = append(all, u.self...)
		}
	}
	return all
}

// selfSignatures returns those that the rules accept, newest first.
func (c *Certificate) selfSignatures(rules Rules) []*Signature {
	return rules.usable(c.aboutPrimary(rules), c.Primary)
}

// disowned reports whether the owner has revoked a user ID, and not certified it
// again since in a way that the rules accept.
func (c *Certificate) disowned(u *UserID, rules Rules) bool {
	usable := rules.usable(u.self, c.Primary)
	return slices.ContainsFunc(u.revocations, func(r *Signature) bool {
		return len(usable) == 0 || !r.Created.Before(usable[0].Created)
	})
}

// owns reports whether the owner vouches for a user ID of his.
func (c *Certificate) owns(u *UserID, rules Rules) bool {
	c.check()
	return len(rules.usable(u.self, c.Primary)) > 0 && !c.disowned(u, rules)
}
