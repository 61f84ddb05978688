package keyring

import (
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode"

	"endeixis/core/openpgp"
)

// A Channel is a kind of place where a fingerprint can be read.
type Channel string

// The channels. Two sightings support each other only when their channels
// differ.
const (
	VendorSite   Channel = "vendor-site"
	Mirror       Channel = "mirror"
	MailingList  Channel = "mailing-list"
	Letter       Channel = "letter"
	Phone        Channel = "phone"
	InPerson     Channel = "in-person"
	Slide        Channel = "conference-slide"
	Colleague    Channel = "colleague-elsewhere"
	KeyDirectory Channel = "key-directory"
	OtherChannel Channel = "other"
)

// Channels lists every channel.
func Channels() []Channel {
	return []Channel{
		VendorSite, Mirror, MailingList, Letter, Phone, InPerson, Slide, Colleague, KeyDirectory, OtherChannel,
	}
}

// A FingerprintFormError reports a value that cannot be compared with a
// fingerprint.
type FingerprintFormError struct {
	// Digits is how many hexadecimal digits were given.
	Digits int
	// Bad is the first character that is not hexadecimal, or zero, and
	// Position is where it stands, counting from 1 and without spaces.
	Bad      rune
	Position int
}

// Error says what a full fingerprint looks like.
func (e *FingerprintFormError) Error() string {
	if e.Bad != 0 {
		hint := ""
		// Letters of other scripts, and some of our own, pass for digits.
		if strings.ContainsRune("OoIlSsZz", e.Bad) || e.Bad > unicode.MaxASCII {
			hint = "; it looks like another character, read that place again"
		}
		return fmt.Sprintf("character %d, %q, is not a hexadecimal digit%s", e.Position, e.Bad, hint)
	}
	return fmt.Sprintf(
		"a full fingerprint has 40 hexadecimal digits (64 for a version 6 key), this has %d; short forms can be forged, so give all of it",
		e.Digits,
	)
}

// ParseFingerprint reads a full fingerprint as people write it: any case, with
// spaces, line breaks, colons or a leading 0x. It returns a
// [*FingerprintFormError] for anything else, short key IDs included. The length
// is that of a key of version 4 or 6 or, only to look one up, 3.
func ParseFingerprint(read string) (openpgp.Fingerprint, error) {
	read = strings.TrimSpace(read)
	if rest, ok := strings.CutPrefix(strings.ToLower(read), "0x"); ok {
		read = rest
	}
	var digits strings.Builder
	n := 0
	for _, r := range read {
		if unicode.IsSpace(r) || r == ':' || r == '-' {
			continue
		}
		n++
		lower := unicode.ToLower(r)
		if (lower < '0' || lower > '9') && (lower < 'a' || lower > 'f') {
			return "", &FingerprintFormError{Bad: r, Position: n}
		}
		digits.WriteRune(lower)
	}
	if n != 40 && n != 64 && n != 32 {
		return "", &FingerprintFormError{Digits: n}
	}
	return openpgp.Fingerprint(digits.String()), nil
}

// Differences returns the positions, from 0, at which two fingerprints of the
// same length differ.
func Differences(a, b openpgp.Fingerprint) []int {
	var out []int
	for i := 0; i < len(a) && i < len(b); i++ {
		if a[i] != b[i] {
			out = append(out, i)
		}
	}
	return out
}

// A Sighting is a note that a fingerprint was read somewhere.
type Sighting struct {
	Channel Channel
	// Read is the value as compared.
	Read openpgp.Fingerprint
	// Resolved is set when a curator explained a conflict away.
	Resolved bool
}

// An Obstacle is one thing that stands in the way of an admission.
type Obstacle struct {
	Code     string `json:"code"`
	Sentence string `json:"sentence"`
	// Before is set when it is none for an admission for the past, which ends then
	// or earlier.
	Before *time.Time `json:"before,omitempty"`
}

// Evidence is what speaks for and against a key.
type Evidence struct {
	Sightings []Sighting
	// Paths are the certifications by the publisher's anchors, from
	// [Keyring.Paths].
	Paths []Path
}

// A Demand is what a policy asks of the evidence for an admission.
type Demand struct {
	// Channels is on how many distinct channels the fingerprint must have
	// been confirmed.
	Channels int
	// AnchorAdmits lets a certification by an anchor stand in for them. It
	// never does for a key that is to be an anchor itself.
	AnchorAdmits bool
	// Until is set when the key is to be admitted for the past: for what it signed
	// until then.
	Until *time.Time
}

// Sighted returns on how many distinct channels a key's fingerprint was confirmed.
func (e Evidence) Sighted(k *Key) int {
	agreeing := map[Channel]bool{}
	for _, s := range e.Sightings {
		if s.Read == k.Certificate.Primary.Fingerprint {
			agreeing[s.Channel] = true
		}
	}
	return len(agreeing)
}

// Obstacles returns what stands in the way of admitting k, in its role, at the
// time of the rules. An empty result means that k may be admitted.
func Obstacles(k *Key, evidence Evidence, demand Demand, rules openpgp.Rules) []Obstacle {
	var out []Obstacle
	add := func(code, format string, args ...any) {
		out = append(out, Obstacle{Code: code, Sentence: fmt.Sprintf(format, args...)})
	}
	past := func(code string, ended time.Time, format string, args ...any) {
		if demand.Until == nil || demand.Until.After(ended) {
			out = append(out, Obstacle{code, fmt.Sprintf(format, args...), &ended})
		}
	}
	if state := k.StateAt(rules.Now); !state.May(Admitted) {
		add("wrong-state", "The key is %s; only a candidate can be admitted.", state)
	}
	cert := k.Certificate
	if why := cert.Primary.Unusable(); why != "" && (len(cert.Subkeys) == 0 || cert.Primary.Version == 3) {
		add("unusable", "No signature by this key could be verified: %s.", why)
	}
	switch r := cert.Revocation(); {
	case r == nil:
	case r.Always():
		add("revoked", "Its owner revoked it on %s (%s). It can never count.", r.Time.Format("2006-01-02"), r.Reason)
	default:
		past(
			"revoked", r.Time,
			"Its owner revoked it on %s (%s). It can be admitted for what it signed before: say until when.",
			r.Time.Format("2006-01-02"), r.Reason,
		)
	}
	expires, ok := cert.Expires(rules)
	switch {
	case !ok:
		add(
			"no-self-signature",
			"It has no self-signature that holds and is strong enough, so nothing ties the name to the key.",
		)
	case expires != nil && !rules.Now.Before(*expires):
		past(
			"expired",
			*expires,
			"It expired on %s. Look for a copy with a later expiry date; or admit it for what it signed before, and say until when.",
			expires.Format("2006-01-02"),
		)
	}
	if weak := cert.Primary.Weakness(rules); weak != "" {
		add("weak", "It is too weak: %s. Ask the publisher for a stronger key.", weak)
	}
	for _, s := range evidence.Sightings {
		if s.Read != cert.Primary.Fingerprint && !s.Resolved {
			add(
				"conflict", "A sighting on the channel %s shows another fingerprint. Find out why before going on.",
				s.Channel,
			)
		}
	}
	certified := demand.AnchorAdmits && k.Role != Anchor &&
		slices.ContainsFunc(evidence.Paths, func(p Path) bool { return p.Holds })
	if demand.Until != nil && !demand.Until.After(cert.Primary.Created) {
		add(
			"until", "It was made on %s only, and can have signed nothing before.",
			cert.Primary.Created.Format("2006-01-02"),
		)
	}
	sighted := evidence.Sighted(k)
	if missing := demand.Channels - sighted; missing > 0 && !certified {
		add(
			"sightings",
			"The fingerprint was confirmed on %d of %d distinct channels; read it from %d more and note it as a sighting.",
			sighted,
			demand.Channels,
			missing,
		)
	}
	return out
}
