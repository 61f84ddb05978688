package access

import (
	"context"
	"errors"
	"regexp"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/alexedwards/argon2id"
	"github.com/trustelem/zxcvbn/frequency"

	"endeixis/internal/fault"
	"endeixis/internal/recorded"
	"endeixis/internal/records"
	"endeixis/internal/roles"
	"endeixis/internal/store"
)

// A NewUser is a person to be added.
type NewUser struct {
	Name     string
	FullName string
	Role     roles.Role
	Password string
}

var userName = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,63}$`)

// AddUser adds a person.
func (s *Service) AddUser(ctx context.Context, by string, u NewUser) (User, error) {
	if !userName.MatchString(u.Name) {
		return User{}, fault.New(
			fault.Invalid, fault.BadName, "A sign-in name has small letters, digits, dots, hyphens and underscores only.",
		).
			At("name")
	}
	if err := checkRole(u.Role); err != nil {
		return User{}, err
	}
	hash, err := s.hash(ctx, u.Password)
	if err != nil {
		return User{}, err
	}
	row := store.User{Name: u.Name, FullName: u.FullName, Role: string(u.Role), PasswordHash: hash, CreatedAt: s.now()}
	if row.MAC, err = s.sealUser(row); err != nil {
		return User{}, err
	}
	return row, s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		if err := tx.AddUser(ctx, row); err != nil {
			return err
		}
		return s.recordUser(ctx, tx, by, row.CreatedAt, row.Name, recorded.UserAdded{Person: personOf(row, "")})
	})
}

func checkRole(r roles.Role) error {
	if r.Valid() {
		return nil
	}
	return fault.New(fault.Invalid, fault.BadRole, "There is no role of that name.").
		Advise("Roles are auditor, operator, curator and administrator.").
		At("role")
}

const (
	minPassword = 10
	maxPassword = 1000
	// minDistinct is how many different characters one has at least.
	minDistinct = 5
)

// distinct counts the different characters of a text.
func distinct(text string) int {
	seen := map[rune]bool{}
	for _, r := range text {
		seen[r] = true
	}
	return len(seen)
}

// common holds the passwords that many people have, of those that are long
// enough.
var common = func() map[string]bool {
	out := map[string]bool{}
	for _, p := range frequency.FrequencyLists["passwords"] {
		if utf8.RuneCountInString(p) >= minPassword {
			out[strings.ToLower(p)] = true
		}
	}
	return out
}()

// hash returns what is stored of a new password, when it is one that can be had.
func (s *Service) hash(ctx context.Context, password string) (string, error) {
	n := utf8.RuneCountInString(password)
	switch {
	case n < minPassword:
		return "", fault.New(
			fault.Invalid, fault.ShortPassword, "A password needs at least %d characters; this one has %d.", minPassword,
			n,
		).
			At("password")
	case len(password) > maxPassword:
		return "", fault.New(fault.Invalid, fault.LongPassword, "A password can have at most %d bytes.", maxPassword).
			At("password")
	case distinct(password) < minDistinct:
		return "", fault.New(
			fault.Invalid, fault.SimplePassword, "A password needs at least %d different characters.", minDistinct,
		).
			Advise("Choose another, such as a few words that do not belong together.").
			At("password")
	case common[strings.ToLower(password)]:
		return "", fault.New(
			fault.Invalid, fault.CommonPassword, "Many people have this password: it is among the first that are tried.",
		).
			Advise("Choose another, such as a few words that do not belong together.").
			At("password")
	}
	free, err := s.waitToHash(ctx)
	if err != nil {
		return "", err
	}
	defer free()
	return argon2id.CreateHash(password, s.params)
}

// A Change is what is to become of a person; what is nil stays.
type Change struct {
	FullName *string
	Role     *roles.Role
	Disabled *bool
	Password *string
	// Reason is for the record.
	Reason string
	// Seen is the version that was looked at, or empty.
	Seen string
}

// VersionOf names the state of a person; it is another with every change.
func VersionOf(u User) string {
	if u.ChangedAt == nil {
		return "0"
	}
	return strconv.FormatInt(u.ChangedAt.UnixMicro(), 10)
}

// ChangeUser changes a person for an administrator. Their sessions end, and with
// a new password or when they are disabled their tokens too. There is always an
// administrator left.
func (s *Service) ChangeUser(ctx context.Context, by, name string, c Change) (User, error) {
	if c.FullName == nil && c.Role == nil && c.Disabled == nil && c.Password == nil {
		return User{}, fault.New(fault.Invalid, fault.NothingToChange, "Nothing is to be changed.")
	}
	if c.Role != nil {
		if err := checkRole(*c.Role); err != nil {
			return User{}, err
		}
	}
	var hash string
	if c.Password != nil {
		var err error
		if hash, err = s.hash(ctx, *c.Password); err != nil {
			return User{}, err
		}
	}
	return s.change(ctx, by, name, c.Reason, func(ctx context.Context, tx *store.Tx, u *store.User) error {
		if err := fault.Changed(c.Seen, VersionOf(*u), name); err != nil {
			return err
		}
		was := *u
		if c.FullName != nil {
			u.FullName = *c.FullName
		}
		if c.Role != nil {
			u.Role = string(*c.Role)
		}
		if c.Disabled != nil {
			u.Disabled = *c.Disabled
		}
		if hash != "" {
			u.PasswordHash = hash
		}
		if administrates(was) && !administrates(*u) {
			n, err := tx.Active(ctx, string(roles.Administrator))
			if err != nil {
				return err
			}
			if n == 1 {
				return fault.New(
					fault.Conflict, fault.LastAdministrator, "%s is the last administrator: nobody could add another.",
					name,
				).
					Advise("Make somebody else an administrator first.")
			}
		}
		if hash == "" && !u.Disabled {
			return nil
		}
		at := s.now()
		ended, err := tx.RevokeTokensOf(ctx, u.ID, at)
		if err != nil {
			return err
		}
		return s.recordEnded(ctx, tx, by, at, ended)
	})
}

func administrates(u store.User) bool {
	return u.Role == string(roles.Administrator) && !u.Disabled
}

// ChangePassword changes one's own password, who is asking from an address and
// knows the old one. One's other sessions end.
func (s *Service) ChangePassword(ctx context.Context, p Principal, from, old, password string) error {
	if _, err := s.SignIn(ctx, from, p.Name, old); err != nil {
		if fault.Is(err, fault.WrongPassword) {
			return fault.New(fault.Invalid, fault.WrongPassword, "This is not your password of now.").At("old")
		}
		return err
	}
	hash, err := s.hash(ctx, password)
	if err != nil {
		return err
	}
	_, err = s.change(ctx, p.Name, p.Name, "", func(_ context.Context, _ *store.Tx, u *store.User) error {
		u.PasswordHash = hash
		return nil
	})
	return err
}

// change changes a person as f says, and records it.
func (s *Service) change(
	ctx context.Context, by, name, reason string, f func(ctx context.Context, tx *store.Tx, u *store.User) error,
) (u User, err error) {
	err = s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		if u, err = tx.UserToChange(ctx, name); err != nil {
			return err
		}
		if err := f(ctx, tx, &u); err != nil {
			return err
		}
		now := s.now()
		u.ChangedAt = &now
		if u.MAC, err = s.sealUser(u); err != nil {
			return err
		}
		if err := tx.ChangeUser(ctx, u); err != nil {
			return err
		}
		return s.recordUser(ctx, tx, by, now, u.Name, recorded.UserChanged{Person: personOf(u, reason)})
	})
	if errors.Is(err, store.ErrNotFound) {
		err = fault.New(fault.NotFound, fault.UserUnknown, "There is nobody called %s.", name).
			Advise("“endeixis user list” shows who there is.")
	}
	return u, err
}

// recordUser records all that is known of a person.
func (s *Service) recordUser(
	ctx context.Context, tx *store.Tx, by string, at time.Time, name string, body recorded.Body,
) error {
	_, err := s.records.Append(ctx, tx, records.Entry{By: by, At: at, Subject: name, Body: body})
	return err
}

// personOf is what is recorded of a person.
func personOf(u store.User, reason string) recorded.Person {
	password := records.DigestOf([]byte(u.PasswordHash))
	return recorded.Person{
		Name: u.Name, FullName: &u.FullName, Role: roles.Role(u.Role), Password: &password, Disabled: u.Disabled,
		Reason: reason,
	}
}
