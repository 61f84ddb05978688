package access

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"slices"
	"strings"
	"time"

	"endeixis/internal/fault"
	"endeixis/internal/recorded"
	"endeixis/internal/records"
	"endeixis/internal/roles"
	"endeixis/internal/store"
)

// tokenPrefix makes a token recognisable in logs and files.
const tokenPrefix = "endx_"

// ByToken returns the principal of a token.
func (s *Service) ByToken(ctx context.Context, text string) (Principal, error) {
	unknown := fault.New(fault.Unauthenticated, fault.TokenUnknown, "This token is not known here.").
		Advise("Sign in again with “endeixis login”.")
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
		return Principal{}, fault.New(
			fault.Unauthenticated, fault.TokenRevoked, "This token was ended on %s.", token.RevokedAt.Format(time.RFC3339),
		).
			Advise("Sign in again with “endeixis login”.")
	}
	if !s.now().Before(token.ExpiresAt) {
		return Principal{}, fault.New(
			fault.Unauthenticated, fault.TokenExpired, "This token expired on %s.", token.ExpiresAt.Format(time.RFC3339),
		).
			Advise("Sign in again with “endeixis login”.")
	}
	if err := s.genuineToken(token); err != nil {
		return Principal{}, err
	}
	if token.Disabled {
		return Principal{}, errDisabled
	}
	if now := s.now(); token.UsedAt == nil || now.Sub(*token.UsedAt) > time.Minute {
		if err := s.store.TokenUsed(ctx, token.ID, now); err != nil {
			return Principal{}, err
		}
	}
	role := roles.Role(token.Role)
	if !roles.Role(token.UserRole).May(role) {
		role = roles.Role(token.UserRole) // the person's role was lowered since
	}
	return Principal{
		UserID: token.UserID, Name: token.UserName, FullName: token.FullName, Role: role,
		Token: token.ID, Expires: token.ExpiresAt.UTC(), Depots: token.Depots, Publishers: token.Publishers,
	}, nil
}

// Tokens lists the tokens that somebody may see: their own, or everybody's for
// an administrator.
func (s *Service) Tokens(ctx context.Context, p Principal) ([]Token, error) {
	owner := p.UserID
	if p.Role.May(roles.Administrator) {
		owner = 0
	}
	return s.store.Tokens(ctx, owner)
}

// maxTokenLife bounds how long a token is good for.
const maxTokenLife = 366 * 24 * time.Hour

// A NewToken is a token to be made.
type NewToken struct {
	Label string
	// Role is at most one's own, which is the default.
	Role roles.Role
	Life time.Duration
	// Depots and Publishers are all that it is to be good for; none is no limit.
	Depots, Publishers []string
}

// IssueToken makes a token for a person and returns its text, which is not
// stored and cannot be shown again. What is asked for with a token is allowed
// no more than that token, and ends when it expires.
func (s *Service) IssueToken(ctx context.Context, p Principal, n NewToken) (string, store.Token, error) {
	n.Role = cmp.Or(n.Role, p.Role)
	for _, limit := range []struct {
		field      string
		mine, asks *[]string
	}{{"depots", &p.Depots, &n.Depots}, {"publishers", &p.Publishers, &n.Publishers}} {
		if len(*limit.mine) > 0 && len(*limit.asks) == 0 {
			*limit.asks = *limit.mine
		}
		for _, name := range *limit.asks {
			if len(*limit.mine) > 0 && !slices.Contains(*limit.mine, name) {
				return "", store.Token{}, fault.New(
					fault.Denied, fault.LimitTooWide, "A token cannot be allowed more than the one that it is made with.",
				).
					At(limit.field)
			}
		}
	}
	switch {
	case !n.Role.Valid() || !p.Role.May(n.Role):
		return "", store.Token{}, fault.New(
			fault.Denied, fault.RoleTooHigh, "A token cannot be allowed more than its owner.",
		).
			At("role")
	case n.Life <= 0 || n.Life > maxTokenLife:
		return "", store.Token{}, fault.New(
			fault.Invalid, fault.BadLifetime, "A token is good for at least a moment and at most 366 days.",
		).
			At("days")
	case len(n.Label) > 200:
		return "", store.Token{}, fault.New(fault.Invalid, fault.LongLabel, "A label can have at most 200 characters.").
			At("label")
	}
	secret := make([]byte, 32)
	rand.Read(secret)
	text := tokenPrefix + base64.RawURLEncoding.EncodeToString(secret)
	hash := sha256.Sum256([]byte(text))
	now := s.now()
	token := store.Token{
		UserID:     p.UserID,
		UserName:   p.Name,
		Label:      n.Label,
		Role:       string(n.Role),
		Hash:       hash[:],
		CreatedAt:  now,
		ExpiresAt:  now.Add(n.Life),
		Depots:     n.Depots,
		Publishers: n.Publishers,
	}
	if p.Token != 0 {
		token.MadeWith = &p.Token
		if p.Expires.Before(token.ExpiresAt) {
			token.ExpiresAt = p.Expires
		}
	}
	token.ExpiresAt = token.ExpiresAt.Truncate(time.Microsecond)
	var err error
	if token.MAC, err = s.sealToken(token); err != nil {
		return "", store.Token{}, err
	}
	err = s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		id, err := tx.AddToken(ctx, token)
		if err != nil {
			return err
		}
		token.ID = id
		digest := hex.EncodeToString(hash[:])
		_, err = s.records.Append(
			ctx, tx,
			records.Entry{By: p.Name, At: now, Subject: p.Name, Body: recorded.TokenIssued{
				Token: id, Owner: p.Name, Label: n.Label, Role: n.Role, Expires: token.ExpiresAt, Hash: &digest,
				MadeWith: token.MadeWith, Depots: n.Depots, Publishers: n.Publishers,
			}},
		)
		return err
	})
	return text, token, err
}

// RevokeToken ends a token and all that were made with it: one's own, or
// anybody's for an administrator.
func (s *Service) RevokeToken(ctx context.Context, p Principal, id int64) error {
	owner := p.UserID
	if p.Role.May(roles.Administrator) {
		owner = 0
	}
	return s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		at := s.now()
		ended, err := tx.RevokeToken(ctx, id, owner, at)
		if err == nil && len(ended) == 0 {
			return fault.New(fault.NotFound, fault.TokenUnknown, "There is no token %d in force that you may end.", id)
		}
		if err != nil {
			return err
		}
		return s.recordEnded(ctx, tx, p.Name, at, ended)
	})
}

// recordEnded records that tokens were ended.
func (s *Service) recordEnded(
	ctx context.Context, tx *store.Tx, by string, at time.Time, ended []store.EndedToken,
) error {
	for _, t := range ended {
		if _, err := s.records.Append(
			ctx, tx, records.Entry{By: by, At: at, Subject: t.Owner, Body: recorded.TokenRevoked{Token: t.ID}},
		); err != nil {
			return err
		}
	}
	return nil
}
