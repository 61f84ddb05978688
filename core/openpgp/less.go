package openpgp

import (
	"fmt"
	"slices"
	"time"
)

// Less says in sentences what a newer copy of a certificate says less than an older
// one of the same key: revocations and harder ones, earlier expiries, uses and user IDs
// that it has no longer, certifications that were taken back. What was proved by the
// older may not be any more. It is empty when nothing was taken away. Text from
// outside is to be made harmless.
//
// Whether a certification was taken back only its maker's key can tell: certifiers finds
// it. What nobody here can verify is nothing less.
func Less(before, after *Certificate, certifiers Certifiers, rules Rules) []string {
	var out []string
	if harder(before.Revocation(), after.Revocation()) {
		r := after.Revocation()
		out = append(
			out, fmt.Sprintf("It is revoked by its owner, on %s (%s).", r.Time.Format(time.DateOnly), r.Reason),
		)
	}
	was, had := before.primaryRuling(rules)
	is, has := after.primaryRuling(rules)
	out = append(out, lost("It", was, had, is, has)...)
	for _, old := range before.Subkeys {
		now := after.subkey(old.Key)
		if now == nil {
			out = append(out, fmt.Sprintf("It has a subkey no longer: %s.", old.Key.Describe()))
			continue
		}
		if r := revocationOf(now.revocations); harder(revocationOf(old.revocations), r) {
			out = append(out, fmt.Sprintf("A subkey is revoked (%s): %s.", r.Reason, now.Key.Describe()))
		}
		was, had := rules.ruling(old.bindings, old.Key)
		is, has := rules.ruling(now.bindings, now.Key)
		out = append(out, lost("The subkey "+now.Key.Describe(), was, had, is, has)...)
	}
	for _, u := range before.UserIDs {
		if before.owns(u, rules) &&
			!slices.ContainsFunc(after.UserIDs, func(v *UserID) bool { return v.ID == u.ID && after.owns(v, rules) }) {
			out = append(out, fmt.Sprintf("A user ID counts no longer: %s.", u.ID))
		}
	}
	if after.withdrawals(certifiers) > before.withdrawals(certifiers) {
		out = append(out, "A certification of it by another key is taken back.")
	}
	return out
}

// harder reports whether a revocation takes more away than the one that was known.
func harder(was, is *Revocation) bool {
	return is != nil &&
		(was == nil || is.Always() && !was.Always() || is.Always() == was.Always() && is.Time.Before(was.Time))
}

// lost says what a key may no longer do, or not for as long.
func lost(what string, was ruling, had bool, is ruling, has bool) []string {
	may := func(r ruling, use byte) bool { return !r.stated || r.flags&use != 0 }
	switch {
	case had && !has:
		return []string{what + " has no signature by its owner any more that counts."}
	case !had:
		return nil
	}
	var out []string
	if is.expires != nil && (was.expires == nil || is.expires.Before(*was.expires)) {
		out = append(out, fmt.Sprintf("%s expires earlier, on %s.", what, is.expires.Format(time.DateOnly)))
	}
	if may(was, flagSign) && !may(is, flagSign) || was.backed && !is.backed {
		out = append(out, what+" may sign no longer.")
	}
	if may(was, flagCertify) && !may(is, flagCertify) {
		out = append(out, what+" may certify no longer.")
	}
	return out
}

// withdrawals counts the revocations of certifications that hold, by keys that are known.
func (c *Certificate) withdrawals(certifiers Certifiers) int {
	c.check()
	if certifiers == nil {
		return 0
	}
	e := NewEffort(strayEffort)
	n := 0
	for _, certification := range c.strays {
		if certification.kind != CertRevocation {
			continue
		}
		s, err := parseSignature(certification.raw, 0)
		if err != nil {
			continue
		}
		by := certifiers(s)
		if slices.ContainsFunc(c.UserIDs, func(u *UserID) bool {
			return slices.ContainsFunc(by, func(k Candidate) bool {
				held, _ := c.verified.holds(s, k.Key, u.over(s), e)
				return held
			})
		}) {
			n++
		}
	}
	return n
}
