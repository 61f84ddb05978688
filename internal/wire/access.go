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
	Policy    int64    `json:"policy" doc:"The version of the policy in force; 0 where that cannot be told, for the ledger was altered."`
	Trouble   string   `json:"trouble,omitempty" doc:"What is wrong with the ledger: what the last audit has found, or why nothing is signed."`
}

// User is a person.
type User struct {
	Name     string     `json:"name"`
	FullName string     `json:"full_name"`
	Role     roles.Role `json:"role"`
	Disabled bool       `json:"disabled" doc:"Whether the person is shut out."`
	Added    time.Time  `json:"added"`
	Changed  *time.Time `json:"changed,omitempty" doc:"When something about the person was last changed; sessions begun before are over."`
	Version  string     `json:"version" doc:"Another with every change; also the ETag."`
}

// Tag is the version, for a header.
func (u User) Tag() string { return u.Version }

// Token is a token without its text.
type Token struct {
	ID      int64      `json:"id"`
	Owner   string     `json:"owner"`
	Label   string     `json:"label"`
	Role    roles.Role `json:"role"`
	Created time.Time  `json:"created"`
	Expires time.Time  `json:"expires"`
	Revoked *time.Time `json:"revoked,omitempty"`
	Used    *time.Time `json:"used,omitempty" doc:"When it was last used, to the minute."`
	Limits
}

// Limits are all that a token is good for; none is no limit.
type Limits struct {
	Depots     []string `json:"depots,omitempty" maxItems:"100" doc:"The only depots whose folders it can look at and have verified."`
	Publishers []string `json:"publishers,omitempty" maxItems:"100" doc:"The only publishers for whom it can have something verified, or change something."`
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
	Days  int        `json:"days" minimum:"1" maximum:"366" doc:"How long it is good for; at most until the token that asks for it expires."`
	Limits
}

// PasswordRequest carries a new password of one's own, and the session that goes
// on with it.
type PasswordRequest struct {
	Session string `cookie:"endeixis_session"`
	Body    NewPassword
}

// NewPassword replaces one's own password.
type NewPassword struct {
	Old      string `json:"old" maxLength:"1000" doc:"The password of now."`
	Password string `json:"password" maxLength:"1000"`
}

// ChangeUserRequest carries what is to become of a person.
type ChangeUserRequest struct {
	Name    string `path:"name" maxLength:"64"`
	IfMatch string `header:"If-Match" maxLength:"100" doc:"The version that you saw, in quotes: nothing is changed when there is another."`
	Body    UserChange
}

// UserChange is what is to become of a person; what is left out stays.
type UserChange struct {
	FullName *string     `json:"full_name,omitempty" maxLength:"200"`
	Role     *roles.Role `json:"role,omitempty"`
	Disabled *bool       `json:"disabled,omitempty" doc:"Shuts the person out, or lets them in again: sessions, tokens and streams end at once."`
	Password *string     `json:"password,omitempty" maxLength:"1000" doc:"A new password, to be changed by the person. Sessions and tokens end."`
	Reason   string      `json:"reason,omitempty" maxLength:"2000" doc:"For the record."`
}

// TokenAt names a token.
type TokenAt struct {
	ID int64 `path:"id"`
}
