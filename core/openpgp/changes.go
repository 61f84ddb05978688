package openpgp

import (
	"fmt"
	"slices"
	"time"
)

// Changes says in sentences, safe of nothing from outside but user IDs, what a
// newer copy of a certificate adds to an older one of the same key. Text from
// outside is to be made harmless. It is empty when nothing is added that bears
// on what the key may do, is called, or is vouched for.
func Changes(before, after *Certificate, rules Rules) []string {
	var out []string
	if was, is := before.Revocation(), after.Revocation(); is != nil && (was == nil || *was != *is) {
		out = append(
			out, fmt.Sprintf("It is revoked by its owner, on %s (%s).", is.Time.Format(time.DateOnly), is.Reason),
		)
	}
	was, had := before.Expires(rules)
	is, has := after.Expires(rules)
	switch {
	case !had && has:
		out = append(out, "It gains a self-signature that holds, so that its name and uses count.")
	case was == nil && is != nil, was != nil && is != nil && !was.Equal(*is):
		out = append(out, fmt.Sprintf("Its expiry becomes %s%s.", is.Format(time.DateOnly), previously(was)))
	case was != nil && is == nil && has:
		out = append(out, fmt.Sprintf("It expires no longer%s.", previously(was)))
	}
	names, kept := before.Names(), after.Names()
	for _, name := range kept {
		if !slices.Contains(names, name) {
			out = append(out, fmt.Sprintf("A user ID is added: %s.", name))
		}
	}
	for _, name := range names {
		if !slices.Contains(kept, name) {
			out = append(out, fmt.Sprintf("A user ID counts no longer: %s.", name))
		}
	}
	for _, sub := range after.Subkeys {
		old := before.subkey(sub.Key)
		switch now := revocationOf(sub.revocations); {
		case old == nil:
			out = append(out, fmt.Sprintf("A subkey is added: %s.", sub.Key.Describe()))
		case now != nil && revocationOf(old.revocations) == nil:
			out = append(out, fmt.Sprintf("A subkey is revoked (%s): %s.", now.Reason, sub.Key.Describe()))
		}
	}
	if had && !slices.Equal(after.Uses(after.Primary, rules), before.Uses(before.Primary, rules)) {
		out = append(out, "What the primary key may do changes.")
	}
	if n := after.Certifications() - before.Certifications(); n > 0 {
		out = append(
			out, number(n, "A certification by another key is added.", "%d certifications by other keys are added."),
		)
	}
	return out
}

func previously(t *time.Time) string {
	if t == nil {
		return "; it had none"
	}
	return ", from " + t.Format(time.DateOnly)
}

// Certifications counts the certifications of user IDs by other keys, and their
// revocations. Nothing about them is checked.
func (c *Certificate) Certifications() int {
	c.check()
	n := 0
	for _, u := range c.UserIDs {
		n += len(u.others)
	}
	return n
}
