package openpgp

import (
	"fmt"
	"slices"
	"time"
)

// An Event is something that happened to a certificate, or will.
type Event struct {
	At time.Time
	// Kind is "created", "expiry-set", "subkey-bound",
	// "subkey-revoked", "revoked" or "expires".
	Kind string
	// Detail says it in a sentence without its full stop.
	Detail string
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
	out := []Event{{c.Primary.Created, "created", c.Primary.Describe() + " key was made"}}
	// Several user IDs are usually signed at once, with the same expiry.
	var last *time.Time
	self := c.selfSignatures(rules)
	for i := len(self) - 1; i >= 0; i-- {
		expires := expiryOf(c.Primary, self[i])
		same := last == nil && expires == nil || last != nil && expires != nil && last.Equal(*expires)
		if i == len(self)-1 && expires == nil || i < len(self)-1 && same {
			continue
		}
		out = append(out, Event{self[i].Created, "expiry-set", day(expires)})
		last = expires
	}
	for _, sub := range c.Subkeys {
		if bindings := rules.usable(sub.bindings, sub.Key); len(bindings) > 0 {
			first := bindings[len(bindings)-1]
			out = append(out, Event{first.Created, "subkey-bound", fmt.Sprintf("a subkey was bound, %s", sub.Key.Describe())})
		}
		if r := revocationOf(sub.revocations); r != nil {
			out = append(out, Event{r.Time, "subkey-revoked", fmt.Sprintf("a subkey was revoked (%s)", r.Reason)})
		}
	}
	if r := c.Revocation(); r != nil {
		out = append(out, Event{r.Time, "revoked", fmt.Sprintf("its owner revoked it (%s)", r.Reason)})
	}
	if e, ok := c.Expires(rules); ok && e != nil {
		word := "it expires"
		if !rules.Now.Before(*e) {
			word = "it expired"
		}
		out = append(out, Event{*e, "expires", word})
	}
	slices.SortStableFunc(out, func(a, b Event) int { return a.At.Compare(b.At) })
	return out
}
