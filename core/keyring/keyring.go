// Package keyring says which keys count, for which publisher, as of a time.
//
// A key counts because a named person decided so on stated evidence; being
// there is worth nothing. The package holds no storage: a [Keyring] is an
// immutable picture, made from what is stored, and safe for concurrent use.
package keyring

import (
	"path"
	"slices"
	"time"

	"endeixis/core/openpgp"
)

// A State is where a key stands.
type State string

// The states of a key. Expired and revoked are facts about the key, not
// states.
const (
	// Candidate keys have arrived and wait for a decision.
	Candidate State = "candidate"
	// Admitted keys count for their publisher.
	Admitted State = "admitted"
	// Withdrawn keys counted once. They may become candidates again, never
	// admitted in one step.
	Withdrawn State = "withdrawn"
)

// States lists every state of a key.
func States() []State { return []State{Candidate, Admitted, Withdrawn} }

// May reports whether a key can go from one state to another in one step.
func (s State) May(to State) bool {
	switch s {
	case Candidate:
		return to == Admitted
	case Admitted:
		return to == Withdrawn
	case Withdrawn:
		return to == Candidate
	}
	return false
}

// An Arrival is what the import of a certificate brings.
type Arrival string

// The arrivals.
const (
	// NewlyArrived is a key that was not known.
	NewlyArrived Arrival = "new"
	// Updated is a known key about which something is new.
	Updated Arrival = "updated"
	// Unchanged is a known key about which nothing is new.
	Unchanged Arrival = "unchanged"
)

// Arrivals lists every arrival.
func Arrivals() []Arrival { return []Arrival{NewlyArrived, Updated, Unchanged} }

// A Role is what a publisher uses a key for.
type Role string

// The roles of a key.
const (
	// Release keys sign artifacts and manifests.
	Release Role = "release"
	// Anchor keys certify release keys.
	Anchor Role = "anchor"
)

// Roles lists every role of a key.
func Roles() []Role { return []Role{Release, Anchor} }

// A Change is one step in the life of a key.
type Change struct {
	At     time.Time `json:"at"`
	To     State     `json:"to"`
	By     string    `json:"by"`
	Reason string    `json:"reason"`
	// Until is set for a key that was admitted for the past: what it signed from
	// then on does not count.
	Until *time.Time `json:"until,omitempty"`
	// RestsOn are the anchors by whose certifications a key was admitted that had
	// not been sighted on enough channels. It counts as long as one of them does.
	RestsOn []openpgp.Fingerprint `json:"rests_on,omitempty"`
}

// A Key is a certificate with the decisions about it.
type Key struct {
	Certificate *openpgp.Certificate
	// Publisher is the slug of the publisher it was admitted for, or the one
	// it is proposed for, or empty.
	Publisher string
	Role      Role
	// Conflict is set while a sighting contradicts the fingerprint.
	Conflict bool
	// History holds the changes of state, oldest first.
	History []Change
}

// StateAt returns the state the key had at t.
func (k *Key) StateAt(t time.Time) State {
	if last := k.LastAt(t); last.To != "" {
		return last.To
	}
	return Candidate
}

// LastAt returns the newest change that had happened at t, or the zero Change.
func (k *Key) LastAt(t time.Time) Change {
	var last Change
	for _, c := range k.History {
		if c.At.After(t) {
			break
		}
		last = c
	}
	return last
}

// A Publisher releases artifacts.
type Publisher struct {
	Slug string `json:"slug"`
	Name string `json:"name"`
	// Scope are patterns in the syntax of [path.Match] for the names that
	// this publisher may sign, matched against the base name.
	Scope []string `json:"scope"`
}

// Covers reports whether the scope includes the file name.
func (p Publisher) Covers(name string) bool {
	base := path.Base(name)
	return slices.ContainsFunc(p.Scope, func(pattern string) bool {
		ok, err := path.Match(pattern, base)
		return ok && err == nil
	})
}

// A Keyring is a set of keys that can be searched.
type Keyring struct {
	keys          []*Key
	publishers    []Publisher
	byFingerprint map[openpgp.Fingerprint][]found
	byKeyID       map[openpgp.KeyID][]found
}

type found struct {
	key  *Key
	part *openpgp.PublicKey
}

// New indexes keys by the fingerprints and key IDs of their primary keys and
// subkeys.
func New(keys []*Key, publishers []Publisher) *Keyring {
	r := &Keyring{
		keys: keys, publishers: publishers,
		byFingerprint: make(map[openpgp.Fingerprint][]found, len(keys)),
		byKeyID:       make(map[openpgp.KeyID][]found, len(keys)),
	}
	for _, k := range keys {
		for _, part := range k.Certificate.Keys() {
			f := found{k, part}
			r.byFingerprint[part.Fingerprint] = append(r.byFingerprint[part.Fingerprint], f)
			r.byKeyID[part.KeyID] = append(r.byKeyID[part.KeyID], f)
		}
	}
	return r
}

// With returns a keyring with k in the place of the key of the same fingerprint,
// as it would be after a decision about it.
func (r *Keyring) With(k *Key) *Keyring {
	keys := slices.Clone(r.keys)
	for i := range keys {
		if keys[i].Certificate.Primary.Fingerprint == k.Certificate.Primary.Fingerprint {
			keys[i] = k
		}
	}
	return New(keys, r.publishers)
}

// Keys returns all keys in the order given to New.
func (r *Keyring) Keys() []*Key { return r.keys }

// Lookup returns the key with this primary fingerprint, or nil.
func (r *Keyring) Lookup(f openpgp.Fingerprint) *Key {
	for _, hit := range r.byFingerprint[f] {
		if !hit.part.Subkey {
			return hit.key
		}
	}
	return nil
}

// Issuers returns every key that may have made s, by all that it says of its issuer: what
// only the issuer can have written before what anybody can change, and fingerprints before
// key IDs, which collide. A hint that lies finds a key for which s does not hold.
func (r *Keyring) Issuers(s *openpgp.Signature) []openpgp.Candidate {
	var out []openpgp.Candidate
	seen := map[openpgp.Candidate]bool{}
	for _, h := range s.Hints() {
		hits := r.byKeyID[h.KeyID]
		if h.Fingerprint != "" {
			hits = r.byFingerprint[h.Fingerprint]
		}
		for _, hit := range hits {
			candidate := openpgp.Candidate{Certificate: hit.key.Certificate, Key: hit.part}
			if !seen[candidate] { // however many claim to have it: the right one may be the last
				seen[candidate] = true
				out = append(out, candidate)
			}
		}
	}
	return out
}

// Publisher returns the publisher with this slug.
func (r *Keyring) Publisher(slug string) (Publisher, bool) {
	for _, p := range r.publishers {
		if p.Slug == slug {
			return p, true
		}
	}
	return Publisher{}, false
}

// Covering returns the publishers whose scope includes the file name.
func (r *Keyring) Covering(name string) []Publisher {
	var out []Publisher
	for _, p := range r.publishers {
		if p.Covers(name) {
			out = append(out, p)
		}
	}
	return out
}
