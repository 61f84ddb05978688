// Package access says who somebody is and what they may do: people with
// passwords, tokens for programs, and four roles.
package access

import (
	"context"
	"errors"
	"sync"
	"time"

	"github.com/alexedwards/argon2id"
	"golang.org/x/time/rate"

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
func (s *Service) Sessions() store.Sessions { return store.Sessions{Store: s.store, MAC: s.mac} }

// Users lists people.
func (s *Service) Users(ctx context.Context) ([]User, error) { return s.store.Users(ctx) }

// A Principal is who is asking.
type Principal struct {
	UserID   int64
	Name     string
	FullName string
	Role     roles.Role
	// Token is the ID of the token used, or 0 for a session.
	Token int64
	// Expires is when the token expires; zero for a session.
	Expires time.Time
	// Depots and Publishers are all that the token is good for; none is no limit.
	Depots, Publishers []string
}

// Limited reports whether some depots or publishers are out of reach.
func (p Principal) Limited() bool { return len(p.Depots)+len(p.Publishers) > 0 }

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

var errWrongPassword = fault.New(fault.Unauthenticated, fault.WrongPassword, "Name and password do not fit together.").
	Advise("Check both and try again; an administrator can set a new password.")

var errDisabled = fault.New(fault.Unauthenticated, fault.PersonDisabled, "An administrator has disabled this person.").
	Advise("Ask an administrator; who it was and why is on record.")

// SignIn checks a name and password from an address. After a few attempts for one
// name from there, or for any names, further ones from there have to wait; the
// same person can sign in from elsewhere.
func (s *Service) SignIn(ctx context.Context, from, name, password string) (Principal, error) {
	now := s.now()
	if !s.limiter(from, perAddress).AllowN(now, 1) || !s.limiter(from+" "+name, perName).AllowN(now, 1) {
		return Principal{}, fault.New(fault.TooMany, fault.TooManyAttempts, "Too many attempts to sign in.").
			Advise("Wait a minute and try again.")
	}
	free, err := s.waitToHash(ctx)
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
	if err := s.genuine(user); err != nil {
		return Principal{}, err
	}
	// Only who knows the password is told more.
	if user.Disabled {
		return Principal{}, errDisabled
	}
	return principalOf(user), nil
}

func principalOf(u store.User) Principal {
	return Principal{UserID: u.ID, Name: u.Name, FullName: u.FullName, Role: roles.Role(u.Role)}
}

// patience is how long a password waits to be checked.
const patience = 3 * time.Second

// waitToHash waits until a password may be hashed.
func (s *Service) waitToHash(ctx context.Context) (free func(), err error) {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	select {
	case s.hashing <- struct{}{}:
		return func() { <-s.hashing }, nil
	case <-ctx.Done():
		return nil, fault.New(fault.TooMany, fault.TooBusy, "Too many people are signing in at this moment.").
			Advise("Try again in a few seconds.")
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

// BySession returns the principal of a session that somebody began at a time.
// Whatever is changed about a person ends the sessions begun before.
func (s *Service) BySession(ctx context.Context, name string, begun time.Time) (Principal, error) {
	user, err := s.store.User(ctx, name)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return Principal{}, errSessionEnded
	case err != nil:
		return Principal{}, err
	}
	switch err := s.genuine(user); {
	case err != nil:
		return Principal{}, err
	case user.Disabled:
		return Principal{}, errDisabled
	case user.ChangedAt != nil && begun.Before(*user.ChangedAt):
		return Principal{}, errSessionEnded
	}
	return principalOf(user), nil
}

var errSessionEnded = fault.New(fault.Unauthenticated, fault.SessionEnded, "This session has ended.").
	Advise("Sign in again.")
