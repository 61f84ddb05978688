package access

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"
	"strconv"

	"endeixis/internal/fault"
	"endeixis/internal/store"
)

// mac computes a MAC over values, under a key that is derived from a file of the host: what
// somebody has put into the database, or changed there, has none.
func (s *Service) mac(values ...string) ([]byte, error) {
	key, err := s.records.Derive("people and sessions")
	if err != nil {
		return nil, err
	}
	h := hmac.New(sha256.New, key)
	for _, v := range values {
		h.Write(binary.BigEndian.AppendUint64(nil, uint64(len(v)))) // so that none runs into the next
		h.Write([]byte(v))
	}
	return h.Sum(nil), nil
}

// sealUser returns the MAC over what decides of a person.
func (s *Service) sealUser(u store.User) ([]byte, error) {
	changed := ""
	if u.ChangedAt != nil {
		changed = strconv.FormatInt(u.ChangedAt.UnixMicro(), 10)
	}
	return s.mac("person", u.Name, u.Role, u.PasswordHash, strconv.FormatBool(u.Disabled), changed)
}

// sealToken returns the MAC over what decides of a token that is in force.
func (s *Service) sealToken(t store.Token) ([]byte, error) {
	values := []string{"token", string(t.Hash), t.UserName, t.Role, strconv.FormatInt(t.ExpiresAt.UnixMicro(), 10)}
	for _, limits := range [][]string{t.Depots, t.Publishers} {
		values = append(append(values, strconv.Itoa(len(limits))), limits...)
	}
	return s.mac(values...)
}

var errAltered = fault.New(
	fault.Unauthenticated,
	fault.PersonAltered,
	"In the database stands something else of this person, or of this token, than was decided: nobody signs in with it.",
).
	Advise("Have an administrator audit the ledger, and find out who changed the database.")

// genuine fails for a person whose row was put in or changed behind the service.
func (s *Service) genuine(u store.User) error {
	want, err := s.sealUser(u)
	if err == nil && !hmac.Equal(want, u.MAC) {
		err = errAltered
	}
	return err
}

// genuineToken fails for a token whose row, or whose person's, was put in or changed behind
// the service.
func (s *Service) genuineToken(t store.Token) error {
	want, err := s.sealToken(t)
	if err == nil && !hmac.Equal(want, t.MAC) {
		err = errAltered
	}
	if err != nil {
		return err
	}
	return s.genuine(t.User)
}

// Seal gives the rows of people and tokens their MACs that an earlier version has left
// without, as they are. It is done once, before rows are adopted.
func (s *Service) Seal(ctx context.Context) error { return s.store.Do(ctx, s.Reseal) }

// Reseal is [Service.Seal] in a transaction, also for a ledger that goes on with another key.
// Sessions end: people sign in again.
func (s *Service) Reseal(ctx context.Context, tx *store.Tx) error {
	users, err := tx.Users(ctx)
	if err != nil {
		return err
	}
	for _, u := range users {
		mac, err := s.sealUser(u)
		if err != nil {
			return err
		}
		if err := tx.SealUser(ctx, u.ID, mac); err != nil {
			return err
		}
	}
	tokens, err := tx.Tokens(ctx, 0)
	if err != nil {
		return err
	}
	for _, t := range tokens {
		if t.RevokedAt != nil {
			continue
		}
		mac, err := s.sealToken(t)
		if err != nil {
			return err
		}
		if err := tx.SealToken(ctx, t.ID, mac); err != nil {
			return err
		}
	}
	return tx.EndSessions(ctx)
}
