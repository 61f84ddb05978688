package access_test

import (
	"context"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/internal/access"
	"endeixis/internal/fault"
	"endeixis/internal/records"
	"endeixis/internal/roles"
	"endeixis/internal/store"
	"endeixis/internal/testkit"
)

// A desk is where people are kept, on a clock of its own.
type desk struct {
	*access.Service
	store *store.Store
	now   time.Time
}

func newDesk(t *testing.T) *desk {
	t.Helper()
	s, err := store.Open(t.Context(), testkit.Database(t))
	require.NoError(t, err)
	t.Cleanup(s.Close)
	require.NoError(t, s.Migrate(t.Context()))
	d := &desk{store: s, now: time.Date(2026, 5, 1, 12, 0, 0, 0, time.UTC)}
	clock := func() time.Time { return d.now }
	d.Service = access.New(s, keyed(t, s, clock), clock)
	for name, role := range map[string]roles.Role{"dagny": roles.Administrator, "ines": roles.Operator} {
		_, err := d.AddUser(
			t.Context(), "a test",
			access.NewUser{Name: name, FullName: name, Role: role, Password: name + "-and-copper"},
		)
		require.NoError(t, err)
	}
	return d
}

func (d *desk) signIn(t *testing.T, name, password string) (access.Principal, error) {
	t.Helper()
	return d.SignIn(t.Context(), "127.0.0.1", name, password)
}

func TestPasswordRules(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	for password, code := range map[string]fault.Code{
		"nine-char":                    "short-password",
		"ñañañañaña"[:len("ñañañaña")]: "short-password", // twelve bytes, eight characters
		"aaaaaaaaaa":                   "simple-password",
		"ababababab12":                 "simple-password",
		"Qwertyuiop":                   "common-password",
		"1234567890":                   "common-password",
		strings.Repeat("a", 1001):      "long-password",
	} {
		_, err := d.ChangeUser(t.Context(), "dagny", "ines", access.Change{Password: &password})
		assert.True(t, fault.Is(err, code), "%q: %v", password, err)
	}
	for _, password := range []string{"ñandúes aquí", "ten-chars!", "correct sea chart"} {
		_, err := d.ChangeUser(t.Context(), "dagny", "ines", access.Change{Password: &password})
		require.NoError(t, err, password)
		_, err = d.signIn(t, "ines", password)
		require.NoError(t, err, password)
	}
}

// TestShuttingOut disables somebody who has a session and a token, and lets them
// in again.
func TestShuttingOut(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	ines, err := d.signIn(t, "ines", "ines-and-copper")
	require.NoError(t, err)
	begun := d.now
	text, _, err := d.IssueToken(t.Context(), ines, access.NewToken{Life: time.Hour})
	require.NoError(t, err)
	yes, no := true, false
	d.now = d.now.Add(time.Second)
	_, err = d.ChangeUser(t.Context(), "dagny", "ines", access.Change{Disabled: &yes, Reason: "left"})
	require.NoError(t, err)
	_, err = d.BySession(t.Context(), "ines", begun)
	assert.True(t, fault.Is(err, fault.PersonDisabled), "%v", err)
	_, err = d.ByToken(t.Context(), text)
	assert.True(t, fault.Is(err, fault.TokenRevoked), "%v", err)
	_, err = d.signIn(t, "ines", "ines-and-copper")
	assert.True(t, fault.Is(err, fault.PersonDisabled), "%v", err)
	_, err = d.signIn(t, "ines", "a guess")
	assert.True(t, fault.Is(err, fault.WrongPassword), "only who knows the password is told more: %v", err)

	_, err = d.ChangeUser(t.Context(), "dagny", "ines", access.Change{Disabled: &no})
	require.NoError(t, err)
	_, err = d.BySession(t.Context(), "ines", begun)
	assert.True(t, fault.Is(err, fault.SessionEnded), "what has ended stays so: %v", err)
	_, err = d.ByToken(t.Context(), text)
	assert.True(t, fault.Is(err, fault.TokenRevoked), "%v", err)
	_, err = d.signIn(t, "ines", "ines-and-copper")
	require.NoError(t, err)
	differences, err := records.Discrepancies(t.Context(), d.store.Reads, 0, func(int64, int64) {})
	require.NoError(t, err)
	assert.Empty(t, differences, "all of it follows from records")
}

func TestLastAdministrator(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	yes, auditor, administrator := true, roles.Auditor, roles.Administrator
	for _, change := range []access.Change{{Disabled: &yes}, {Role: &auditor}} {
		_, err := d.ChangeUser(t.Context(), "dagny", "dagny", change)
		assert.True(t, fault.Is(err, fault.LastAdministrator), "%v", err)
	}
	_, err := d.ChangeUser(t.Context(), "dagny", "ines", access.Change{Role: &administrator})
	require.NoError(t, err)
	// Two who would each leave the other as the last: one has to stay.
	errs := make(chan error, 2)
	for _, name := range []string{"dagny", "ines"} {
		go func() {
			_, err := d.ChangeUser(context.Background(), name, name, access.Change{Role: &auditor})
			errs <- err
		}()
	}
	failed := []error{<-errs, <-errs}
	failed = slices.DeleteFunc(failed, func(err error) bool { return err == nil })
	require.Len(t, failed, 1)
	assert.True(t, fault.Is(failed[0], fault.LastAdministrator), "%v", failed[0])
}

func TestOwnPassword(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	ines, err := d.signIn(t, "ines", "ines-and-copper")
	require.NoError(t, err)
	begun := d.now
	text, _, err := d.IssueToken(t.Context(), ines, access.NewToken{Life: time.Hour})
	require.NoError(t, err)
	d.now = d.now.Add(time.Second)
	assert.True(
		t, fault.Is(d.ChangePassword(t.Context(), ines, "127.0.0.1", "a guess", "kelp and glass"), fault.WrongPassword),
	)
	require.NoError(t, d.ChangePassword(t.Context(), ines, "127.0.0.1", "ines-and-copper", "kelp and glass"))
	_, err = d.BySession(t.Context(), "ines", begun)
	assert.True(t, fault.Is(err, fault.SessionEnded), "%v", err)
	_, err = d.BySession(t.Context(), "ines", d.now)
	require.NoError(t, err)
	_, err = d.ByToken(t.Context(), text)
	require.NoError(t, err, "one's own tokens go on")
	_, err = d.signIn(t, "ines", "ines-and-copper")
	assert.True(t, fault.Is(err, fault.WrongPassword))
	slowed := false
	for range 12 {
		slowed = slowed ||
			fault.Is(d.ChangePassword(t.Context(), ines, "127.0.0.1", "a guess", "kelp and glass"), fault.TooManyAttempts)
	}
	assert.True(t, slowed, "who holds a session cannot guess at speed")
}

// TestTokensOfTokens: what a token asks for is allowed no more than itself, and
// ends with it.
func TestTokensOfTokens(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	ines, err := d.signIn(t, "ines", "ines-and-copper")
	require.NoError(t, err)
	first, parent, err := d.IssueToken(
		t.Context(), ines, access.NewToken{Role: roles.Auditor, Life: time.Hour, Depots: []string{"quayside", "pier"}},
	)
	require.NoError(t, err)
	bearer, err := d.ByToken(t.Context(), first)
	require.NoError(t, err)
	for code, n := range map[fault.Code]access.NewToken{
		"role-too-high":  {Role: roles.Operator, Life: time.Hour},
		"limit-too-wide": {Life: time.Hour, Depots: []string{"quayside", "office"}},
	} {
		_, _, err := d.IssueToken(t.Context(), bearer, n)
		assert.True(t, fault.Is(err, code), "%v", err)
	}
	second, child, err := d.IssueToken(t.Context(), bearer, access.NewToken{Life: 24 * time.Hour})
	require.NoError(t, err)
	assert.Equal(t, parent.ExpiresAt, child.ExpiresAt)
	assert.Equal(t, []string{"quayside", "pier"}, []string(child.Depots), "no limit asked for is the same limit")
	narrow, _, err := d.IssueToken(t.Context(), bearer, access.NewToken{Life: time.Hour, Depots: []string{"pier"}})
	require.NoError(t, err)
	p, err := d.ByToken(t.Context(), narrow)
	require.NoError(t, err)
	assert.Equal(t, []string{"pier"}, p.Depots)
	tokens, err := d.Tokens(t.Context(), ines)
	require.NoError(t, err)
	assert.Equal(t, d.now, tokens[0].UsedAt.UTC())
	require.NoError(t, d.RevokeToken(t.Context(), ines, parent.ID))
	for _, text := range []string{first, second, narrow} {
		_, err := d.ByToken(t.Context(), text)
		assert.True(t, fault.Is(err, fault.TokenRevoked), "%v", err)
	}
	differences, err := records.Discrepancies(t.Context(), d.store.Reads, 0, func(int64, int64) {})
	require.NoError(t, err)
	assert.Empty(t, differences)
}

// TestHashingTakesTurns: when others are at it, a password is not checked, known or
// not; a moment later it is.
func TestHashingTakesTurns(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	free := d.Busy()
	_, err := d.signIn(t, "ines", "ines-and-copper")
	assert.True(t, fault.Is(err, fault.TooBusy), "%v", err)
	_, err = d.ChangeUser(t.Context(), "dagny", "ines", access.Change{Password: new("kelp and glass")})
	assert.True(t, fault.Is(err, fault.TooBusy), "%v", err)
	free()
	_, err = d.signIn(t, "ines", "ines-and-copper")
	require.NoError(t, err)
}

// TestSeal: rows that an earlier version has left without a MAC sign nobody in until they are
// sealed, once, as they are.
func TestSeal(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	p, err := d.signIn(t, "ines", "ines-and-copper")
	require.NoError(t, err)
	text, _, err := d.IssueToken(t.Context(), p, access.NewToken{Label: "x", Life: time.Hour})
	require.NoError(t, err)
	ended, token, err := d.IssueToken(t.Context(), p, access.NewToken{Label: "ended", Life: time.Hour})
	require.NoError(t, err)
	require.NoError(t, d.RevokeToken(t.Context(), p, token.ID))
	_, err = d.store.Pool.Exec(t.Context(), `UPDATE users SET mac = ''; UPDATE tokens SET mac = ''`)
	require.NoError(t, err)
	_, err = d.signIn(t, "ines", "ines-and-copper")
	assert.True(t, fault.Is(err, fault.PersonAltered), "%v", err)
	_, err = d.ByToken(t.Context(), text)
	assert.True(t, fault.Is(err, fault.PersonAltered), "%v", err)
	_, err = d.BySession(t.Context(), "ines", time.Now())
	assert.True(t, fault.Is(err, fault.PersonAltered), "%v", err)
	require.NoError(t, d.Seal(t.Context()))
	_, err = d.signIn(t, "ines", "ines-and-copper")
	require.NoError(t, err)
	_, err = d.ByToken(t.Context(), text)
	require.NoError(t, err)
	_, err = d.store.Pool.Exec(t.Context(), `UPDATE tokens SET revoked_at = NULL`)
	require.NoError(t, err)
	_, err = d.ByToken(t.Context(), ended)
	assert.True(t, fault.Is(err, fault.PersonAltered), "what was ended is not sealed: %v", err)
}
