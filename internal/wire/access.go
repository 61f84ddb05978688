package wire

import (
	"time"

	"endeixis/internal/roles"
)

// Me is who is signed in.
type Me struct {
	Name     string     `json:"name"`
	FullName string     `json:"full_name"`
	Role     roles.Role `json:"role"`
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
	Name     string     `json:"name"`
	FullName string     `json:"full_name"`
	Role     roles.Role `json:"role"`
}

// Token is a token without its text.
type Token struct {
	ID      int64      `json:"id"`
	Owner   string     `json:"owner"`
	Label   string     `json:"label"`
	Role    roles.Role `json:"role"`
	Created time.Time  `json:"created"`
	Expires time.Time  `json:"expires"`
	Revoked *time.Time `json:"revoked,omitempty"`
}

// IssuedToken is a token with its text.
type IssuedToken struct {
	Token
	Text string `json:"text" doc:"Shown this once; only a hash of it is stored."`
}

// SignInRequest carries a name and a password.
type SignInRequest struct{ Body Credentials }

// Credentials are a name and a password.
type Credentials struct {
	Name     string `json:"name" maxLength:"64"`
	Password string `json:"password" maxLength:"1000"`
}

// SignOutRequest carries the session that ends.
type SignOutRequest struct {
	Session string `cookie:"endeixis_session"`
}

// AddUserRequest carries a new person.
type AddUserRequest struct{ Body NewUser }

// NewUser is a person to be added.
type NewUser struct {
	Name     string     `json:"name"`
	FullName string     `json:"full_name" maxLength:"200"`
	Role     roles.Role `json:"role"`
	Password string     `json:"password"`
}

// IssueTokenRequest carries a new token.
type IssueTokenRequest struct{ Body NewToken }

// NewToken is a token to be made.
type NewToken struct {
	Label string     `json:"label" maxLength:"200"`
	Role  roles.Role `json:"role,omitempty" doc:"At most one's own role, which is the default."`
	Days  int        `json:"days" minimum:"1" maximum:"366"`
}

// TokenAt names a token.
type TokenAt struct {
	ID int64 `path:"id"`
}
