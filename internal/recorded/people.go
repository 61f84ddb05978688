package recorded

import (
	"strconv"
	"time"

	"endeixis/core/ledger"
	"endeixis/internal/roles"
)

// Person is all that is recorded of a person each time, so that the newest record tells how the
// row has to be. Records of earlier versions lack FullName and Password.
type Person struct {
	statement
	Name     string     `json:"name"`
	FullName *string    `json:"full_name"`
	Role     roles.Role `json:"role"`
	// Password is a digest of what is stored for it, which is a salted hash itself: by it a
	// changed one is found out.
	Password *string `json:"password"`
	Disabled bool    `json:"disabled,omitempty"`
	Reason   string  `json:"reason,omitempty"`
}

// UserAdded is a new person.
type UserAdded struct{ Person }

// Kind is [ledger.UserAdded].
func (UserAdded) Kind() ledger.Kind { return ledger.UserAdded }

// UserChanged is a person as they are from then on.
type UserChanged struct{ Person }

// Kind is [ledger.UserChanged].
func (UserChanged) Kind() ledger.Kind { return ledger.UserChanged }

// TokenIssued is a new token of a person.
type TokenIssued struct {
	statement
	Token   int64      `json:"token"`
	Owner   string     `json:"owner"`
	Label   string     `json:"label"`
	Role    roles.Role `json:"role"`
	Expires time.Time  `json:"expires"`
	// Hash is what is stored of its text. Records of earlier versions lack it.
	Hash       *string  `json:"hash"`
	MadeWith   *int64   `json:"made_with,omitempty"`
	Depots     []string `json:"depots,omitempty"`
	Publishers []string `json:"publishers,omitempty"`
}

// Kind is [ledger.TokenIssued].
func (TokenIssued) Kind() ledger.Kind { return ledger.TokenIssued }

// TokenRevoked ends a token.
type TokenRevoked struct {
	statement
	Token int64 `json:"token"`
}

// Kind is [ledger.TokenRevoked].
func (TokenRevoked) Kind() ledger.Kind { return ledger.TokenRevoked }

// A person is one with the records that say how the row has to be: the first, and the newest.
type person struct {
	added, last Head
	is          Person
}

func (p person) row() row {
	said := func(s *string) field {
		if s == nil {
			return field{unsaid: true}
		}
		return text(*s)
	}
	changed := field{null: true}
	if p.last.Position != p.added.Position {
		changed = nearly(p.last.At)
	}
	return row{
		key:      p.is.Name,
		position: p.added.Position,
		adopted:  p.is.Password == nil,
		fields: []field{
			text(string(p.is.Role)), nearly(p.added.At), said(p.is.FullName), truth(p.is.Disabled), changed,
			said(p.is.Password),
		},
	}
}

// A token is one with the records that say how the row has to be.
type token struct {
	issued  Head
	is      TokenIssued
	revoked *Head
}

func (t token) row() row {
	hash, revoked := field{unsaid: true}, field{null: true}
	if t.is.Hash != nil {
		hash = text(*t.is.Hash)
	}
	if t.revoked != nil {
		revoked = nearly(t.revoked.At)
	}
	return row{
		key: strconv.FormatInt(t.is.Token, 10), position: t.issued.Position,
		fields: []field{
			text(t.is.Owner),
			text(t.is.Label), text(string(t.is.Role)), nearly(t.is.Expires), nearly(t.issued.At), hash,
			numberOrNone(t.is.MadeWith), list(t.is.Depots), list(t.is.Publishers), revoked,
		},
	}
}
