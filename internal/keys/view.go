package keys

import (
	"time"

	"endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/core/openpgp"
	"endeixis/internal/store"
)

// A View is a key with everything that a curator wants to see.
type View struct {
	Key *keyring.Key
	// Imported says when, by whom and from where the key came.
	Imported  Import
	Steps     []Step
	Sightings []Sighting
	Obstacles []keyring.Obstacle
	// Sighted is on how many channels its fingerprint was confirmed.
	Sighted int
	// Paths lead to the anchors of its publisher.
	Paths []keyring.Path
	// Certifiers are what other keys here say about its user IDs, and
	// UnknownCertifiers how many keys that are not here claim to; set by Show.
	Certifiers        []keyring.Statement
	UnknownCertifiers int
	// Namesakes share a key ID with it; set by Show.
	Namesakes []*keyring.Key
	// Proposal is what waits for another curator, or nil.
	Proposal *Proposal
	Policy   judge.Policy
	Rules    openpgp.Rules
	// Reassessment is the number of the one that the decision has entailed,
	// or 0; set by Withdraw.
	Reassessment int64
}

// An Import is how a key came here first.
type Import struct {
	At         time.Time
	By, Source string
}

// A Step is a decision about a key.
type Step struct {
	At         time.Time
	To         keyring.State
	By, Reason string
	// Until is set for an admission for the past, and RestsOn are the anchors, in hexadecimal,
	// that one rests on.
	Until   *time.Time
	RestsOn []string
	Record  int64
}

func stepOf(row store.KeyChange) Step {
	return Step{
		At: row.At, To: keyring.State(row.To), By: row.By, Reason: row.Reason, Until: row.Until, RestsOn: row.RestsOn,
		Record: row.Position,
	}
}

// A Sighting is a fingerprint that somebody has read somewhere.
type Sighting struct {
	Read        openpgp.Fingerprint
	Channel     keyring.Channel
	Place, Note string
	At          time.Time
	By          string
	// Resolved is how a curator explained one that contradicts, or empty.
	Resolved, ResolvedBy string
	Record               int64
}

func sightingOf(row store.Sighting) Sighting {
	return Sighting{
		Read: openpgp.NewFingerprint(row.Read), Channel: keyring.Channel(row.Channel), Place: row.Place, Note: row.Note,
		At: row.At, By: row.By, Resolved: row.Resolved, ResolvedBy: row.ResolvedBy, Record: row.Position,
	}
}

// A Proposal is an admission that waits for a second curator.
type Proposal struct {
	Publisher  string
	Role       keyring.Role
	Reason, By string
	At         time.Time
	// Until is set for an admission for the past.
	Until  *time.Time
	Record int64
}

func proposalOf(row store.Proposal) *Proposal {
	return &Proposal{
		Publisher: row.Publisher, Role: keyring.Role(row.Role), Reason: row.Reason, By: row.By, At: row.At,
		Until: row.Until, Record: row.Position,
	}
}
