package wire

import (
	"time"
)

// Me is who is signed in.
type Me struct {
	Name     string `json:"name"`
	FullName string `json:"full_name"`
	Role     string `json:"role"`
}

// Status is the state of the service.
type Status struct {
	Version   string   `json:"version"`
	Records   int64    `json:"records"`
	PublicKey string   `json:"public_key" doc:"The key by which receipts and checkpoints are verified."`
	Depots    []string `json:"depots"`
	Policy    int64    `json:"policy" doc:"The version of the policy in force."`
}

// User is a person.
type User struct {
	Name     string `json:"name"`
	FullName string `json:"full_name"`
	Role     string `json:"role"`
}

// Token is a token without its text.
type Token struct {
	ID      int64      `json:"id"`
	Owner   string     `json:"owner"`
	Label   string     `json:"label"`
	Role    string     `json:"role"`
	Created time.Time  `json:"created"`
	Expires time.Time  `json:"expires"`
	Revoked *time.Time `json:"revoked,omitempty"`
}

// IssuedToken is a token with its text.
type IssuedToken struct {
	Token
	Text string `json:"text" doc:"Shown this once; only a hash of it is stored."`
}
