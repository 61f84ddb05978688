// Package access says who somebody is and what they may do: people with
// passwords, tokens for programs, and four roles.
package access

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"regexp"
	"strings"
	"sync"
	"time"

	"github.com/alexedwards/argon2id"
	"golang.org/x/time/rate"

	"endeixis/core/ledger"
	"endeixis/internal/fault"
	"endeixis/internal/records"
	"endeixis/internal/roles"
	"endeixis/internal/store"
)

// A User and a Token, as stored.
type (
	User  = store.User
	Token = store.Token
)

// Sessions keeps the console's sessions.
func (s *Service) Sessions() store.Sessions { return store.Sessions{Store: s.store} }

// Users lists people.
func (s *Service) Users(ctx context.Context) ([]User, error) { return s.store.Users(ctx) }

// Tokens lists the tokens that somebody may see: their own, or everybody's for
// an administrator.
func (s *Service) Tokens(ctx context.Context, p Principal) ([]Token, error) {
	owner := p.UserID
	if p.Role.May(roles.Administrator) {
		owner = 0
	}
	return s.store.Tokens(ctx, owner)
}

// A Principal is who is asking.
type Principal struct {
	UserID   int64
	Name     string
	FullName string
	Role     roles.Role
	// Token is the ID of the token used, or 0 for a session.
	Token int64
}

// Service checks passwords and tokens.
type Service struct {
	store    *store.Store
	records  *records.Service
	now      func() time.Time
	params   *argon2id.Params
	mu       sync.Mutex
	attempts map[string]*rate.Limiter
	// hashing lets few passwords be checked at a time: each takes memory and a
	// core for a while.
	hashing chan struct{}
}

// New returns a Service.
func New(s *store.Store, r *records.Service, now func() time.Time) *Service {
	return &Service{
		store: s, records: r, now: now, attempts: map[string]*rate.Limiter{}, hashing: make(chan struct{}, 2),
		params: &argon2id.Params{Memory: 19 * 1024, Iterations: 2, Parallelism: 1, SaltLength: 16, KeyLength: 32},
	}
}

var errWrongPassword = fault.New(fault.Unauthenticated, "wrong-password", "Name and password do not fit together.").
	Advise("Check both and try again; an administrator can set a new password.")

// SignIn checks a name and password from an address. After a few attempts for one
// name from there, or for any names, further ones from there have to wait; the
// same person can sign in from elsewhere.
func (s *Service) SignIn(ctx context.Context, from, name, password string) (Principal, error) {
	if !s.limiter(from, perAddress).Allow() || !s.limiter(from+" "+name, perName).Allow() {
		return Principal{}, fault.New(fault.TooMany, "too-many-attempts", "Too many attempts to sign in.").Advise("Wait a minute and try again.")
	}
	free, err := s.turn(ctx)
	if err != nil {
		return Principal{}, err
	}
	defer free()
	user, err := s.store.User(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		// Take as long as for a name that exists.
		argon2id.CreateHash(password, s.params) //nolint:errcheck // only its time is wanted
		return Principal{}, errWrongPassword
	}
	if err != nil {
		return Principal{}, err
	}
	ok, err := argon2id.ComparePasswordAndHash(password, user.PasswordHash)
	if err != nil {
		return Principal{}, err
	}
	if !ok {
		return Principal{}, errWrongPassword
	}
	return Principal{UserID: user.ID, Name: user.Name, FullName: user.FullName, Role: roles.Role(user.Role)}, nil
}

// patience is how long a password waits to be checked.
const patience = 3 * time.Second

// turn waits until a password may be hashed.
func (s *Service) turn(ctx context.Context) (free func(), err error) {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	select {
	case s.hashing <- struct{}{}:
		return func() { <-s.hashing }, nil
	case <-ctx.Done():
		return nil, fault.New(fault.TooMany, "too-busy", "Too many people are signing in at this moment.").Advise("Try again in a few seconds.")
	}
}

// A pace is how many attempts are allowed at once, and how long until one more is.
type pace struct {
	burst int
	every time.Duration
}

var (
	perName    = pace{10, 6 * time.Second}
	perAddress = pace{60, time.Second}
)

// limiter returns what counts attempts of a kind.
func (s *Service) limiter(name string, p pace) *rate.Limiter {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.attempts) > 10_000 {
		clear(s.attempts)
	}
	l, ok := s.attempts[name]
	if !ok {
		l = rate.NewLimiter(rate.Every(p.every), p.burst)
		s.attempts[name] = l
	}
	return l
}

// ByName returns the principal of a signed-in session.
func (s *Service) ByName(ctx context.Context, name string) (Principal, error) {
	user, err := s.store.User(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return Principal{}, fault.New(fault.Unauthenticated, "session-ended", "This session has ended.").Advise("Sign in again.")
	}
	return Principal{UserID: user.ID, Name: user.Name, FullName: user.FullName, Role: roles.Role(user.Role)}, err
}

// tokenPrefix makes a token recognisable in logs and files.
const tokenPrefix = "endx_"

// ByToken returns the principal of a token.
func (s *Service) ByToken(ctx context.Context, text string) (Principal, error) {
	unknown := fault.New(fault.Unauthenticated, "token-unknown", "This token is not known here.").Advise("Sign in again with “endeixis login”.")
	if !strings.HasPrefix(text, tokenPrefix) || len(text) > 200 {
		return Principal{}, unknown
	}
	hash := sha256.Sum256([]byte(text))
	token, err := s.store.TokenByHash(ctx, hash[:])
	if errors.Is(err, store.ErrNotFound) {
		return Principal{}, unknown
	}
	if err != nil {
		return Principal{}, err
	}
	if token.RevokedAt != nil {
		return Principal{}, fault.New(fault.Unauthenticated, "token-revoked", "This token was ended on %s.", token.RevokedAt.Format(time.RFC3339)).Advise("Sign in again with “endeixis login”.")
	}
	if !s.now().Before(token.ExpiresAt) {
		return Principal{}, fault.New(fault.Unauthenticated, "token-expired", "This token expired on %s.", token.ExpiresAt.Format(time.RFC3339)).Advise("Sign in again with “endeixis login”.")
	}
	role := roles.Role(token.Role)
	if !roles.Role(token.UserRole).May(role) {
		role = roles.Role(token.UserRole) // the person's role was lowered since
	}
	return Principal{UserID: token.UserID, Name: token.UserName, FullName: token.FullName, Role: role, Token: token.ID}, nil
}

// A NewUser is a person to be added.
type NewUser struct {
	Name     string
	FullName string
	Role     roles.Role
	Password string
}

var userName = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,63}$`)

// AddUser adds a person.
func (s *Service) AddUser(ctx context.Context, by string, u NewUser) error {
	switch {
	case !userName.MatchString(u.Name):
		return fault.New(fault.Invalid, "bad-name", "A sign-in name has small letters, digits, dots, hyphens and underscores only.").At("name")
	case !u.Role.Valid():
		return fault.New(fault.Invalid, "bad-role", "There is no role of that name.").Advise("Roles are auditor, operator, curator and administrator.").At("role")
	case len(u.Password) < 10:
		return fault.New(fault.Invalid, "short-password", "A password needs at least 10 characters.").At("password")
	case len(u.Password) > 1000:
		return fault.New(fault.Invalid, "long-password", "A password can have at most 1000 characters.").At("password")
	}
	hash, err := argon2id.CreateHash(u.Password, s.params)
	if err != nil {
		return err
	}
	return s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		if err := tx.AddUser(ctx, store.User{Name: u.Name, FullName: u.FullName, Role: string(u.Role), PasswordHash: hash, CreatedAt: s.now()}); err != nil {
			return err
		}
		_, err := s.records.Append(ctx, tx, records.Entry{Kind: ledger.UserAdded, By: by, Subject: u.Name, Body: struct {
			Name     string     `json:"name"`
			FullName string     `json:"full_name"`
			Role     roles.Role `json:"role"`
			// Password is a digest of what is stored for it, which is a salted
			// hash itself: by it a changed one is found out.
			Password string `json:"password"`
		}{u.Name, u.FullName, u.Role, records.DigestOf([]byte(hash))}})
		return err
	})
}

// maxTokenLife bounds how long a token is good for.
const maxTokenLife = 366 * 24 * time.Hour

// IssueToken makes a token for a person and returns its text, which is not
// stored and cannot be shown again.
func (s *Service) IssueToken(ctx context.Context, p Principal, label string, role roles.Role, life time.Duration) (string, store.Token, error) {
	if role == "" {
		role = p.Role
	}
	switch {
	case !role.Valid() || !p.Role.May(role):
		return "", store.Token{}, fault.New(fault.Denied, "role-too-high", "A token cannot be allowed more than its owner.").At("role")
	case life <= 0 || life > maxTokenLife:
		return "", store.Token{}, fault.New(fault.Invalid, "bad-lifetime", "A token is good for at least a moment and at most 366 days.").At("days")
	case len(label) > 200:
		return "", store.Token{}, fault.New(fault.Invalid, "long-label", "A label can have at most 200 characters.").At("label")
	}
	secret := make([]byte, 32)
	rand.Read(secret)
	text := tokenPrefix + base64.RawURLEncoding.EncodeToString(secret)
	hash := sha256.Sum256([]byte(text))
	now := s.now()
	token := store.Token{UserID: p.UserID, UserName: p.Name, Label: label, Role: string(role), Hash: hash[:], CreatedAt: now, ExpiresAt: now.Add(life)}
	err := s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		id, err := tx.AddToken(ctx, token)
		if err != nil {
			return err
		}
		token.ID = id
		_, err = s.records.Append(ctx, tx, records.Entry{Kind: ledger.TokenIssued, By: p.Name, Subject: p.Name, Body: struct {
			Token   int64      `json:"token"`
			Owner   string     `json:"owner"`
			Label   string     `json:"label"`
			Role    roles.Role `json:"role"`
			Expires time.Time  `json:"expires"`
			// Hash is what is stored of its text.
			Hash string `json:"hash"`
		}{id, p.Name, label, role, token.ExpiresAt, hex.EncodeToString(hash[:])}})
		return err
	})
	return text, token, err
}

// RevokeToken ends a token: one's own, or anybody's for an administrator.
func (s *Service) RevokeToken(ctx context.Context, p Principal, id int64) error {
	owner := p.UserID
	if p.Role.May(roles.Administrator) {
		owner = 0
	}
	err := s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		if err := tx.RevokeToken(ctx, id, owner, s.now()); err != nil {
			return err
		}
		_, err := s.records.Append(ctx, tx, records.Entry{Kind: ledger.TokenRevoked, By: p.Name, Subject: p.Name, Body: struct {
			Token int64 `json:"token"`
		}{id}})
		return err
	})
	if errors.Is(err, store.ErrNotFound) {
		return fault.New(fault.NotFound, "token-unknown", "There is no token %d in force that you may end.", id)
	}
	return err
}
