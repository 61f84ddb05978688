package openpgp

import (
	"fmt"
	"slices"
	"time"
)

// An Event is something that happened to a certificate, or will.
type Event struct {
	At   time.Time
	Kind EventKind
	// Detail says it in a sentence without its full stop.
	Detail string
}

// An EventKind says what an event is.
type EventKind string

// The kinds of event.
const (
	KeyCreated    EventKind = "created"
	ExpirySet     EventKind = "expiry-set"
	SubkeyBound   EventKind = "subkey-bound"
	SubkeyRevoked EventKind = "subkey-revoked"
	KeyRevoked    EventKind = "revoked"
	KeyExpires    EventKind = "expires"
)

// EventKinds lists every kind of event.
func EventKinds() []EventKind {
	return []EventKind{KeyCreated, ExpirySet, SubkeyBound, SubkeyRevoked, KeyRevoked, KeyExpires}
}

// Timeline tells a certificate's life in the order of time, by what its valid
// self-signatures say: made, given another expiry, subkeys, revoked, expires.
func (c *Certificate) Timeline(rules Rules) []Event {
	c.check()
	day := func(t *time.Time) string {
		if t == nil {
			return "it was set never to expire"
		}
		return "its expiry was set to " + t.Format(time.DateOnly)
	}
	out := []Event{{c.Primary.Created, KeyCreated, c.Primary.Describe() + " key was made"}}
	// Several user IDs are usually signed at once, with the same expiry.
	var last *time.Time
	self := c.selfSignatures(rules)
	for i := len(self) - 1; i >= 0; i-- {
		expires := expiryOf(c.Primary, self[i])
		same := last == nil && expires == nil || last != nil && expires != nil && last.Equal(*expires)
		if i == len(self)-1 && expires == nil || i < len(self)-1 && same {
			continue
		}
		out = append(out, Event{self[i].Created, ExpirySet, day(expires)})
		last = expires
	}
	for _, sub := range c.Subkeys {
		if bindings := rules.usable(sub.bindings, sub.Key); len(bindings) > 0 {
			first := bindings[len(bindings)-1]
			out = append(
				out, Event{first.Created, SubkeyBound, fmt.Sprintf("a subkey was bound, %s", sub.Key.Describe())},
			)
		}
		if r := revocationOf(sub.revocations); r != nil {
			out = append(out, Event{r.Time, SubkeyRevoked, fmt.Sprintf("a subkey was revoked (%s)", r.Reason)})
		}
	}
	if r := c.Revocation(); r != nil {
		out = append(out, Event{r.Time, KeyRevoked, fmt.Sprintf("its owner revoked it (%s)", r.Reason)})
	}
	if e, ok := c.Expires(rules); ok && e != nil {
		word := "it expires"
		if !rules.Now.Before(*e) {
			word = "it expired"
		}
		out = append(out, Event{*e, KeyExpires, word})
	}
	slices.SortStableFunc(out, func(a, b Event) int { return a.At.Compare(b.At) })
	return out
}
