package access_test

import (
	"fmt"
	"path/filepath"
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

// keyed returns records with a key of their own.
func keyed(t *testing.T, s *store.Store, now func() time.Time) *records.Service {
	t.Helper()
	out := records.New(s, now)
	_, err := out.Init(t.Context(), filepath.Join(t.TempDir(), "ledger.key"), "test.example")
	require.NoError(t, err)
	return out
}

func TestMain(m *testing.M) { testkit.Main(m) }

func TestRolesAreOrdered(t *testing.T) {
	all := roles.All()
	for i, have := range all {
		for j, needed := range all {
			assert.Equal(t, i >= j, have.May(needed), "%s for %s", have, needed)
		}
	}
	assert.False(t, roles.Role("").May(roles.Auditor))
	assert.False(t, roles.Role("root").May(roles.Auditor))
}

// TestTokens goes through a token's life on a clock of its own.
func TestTokens(t *testing.T) {
	t.Parallel()
	s, err := store.Open(t.Context(), testkit.Database(t))
	require.NoError(t, err)
	defer s.Close()
	require.NoError(t, s.Migrate(t.Context()))
	now := time.Date(2026, 5, 1, 12, 0, 0, 0, time.UTC)
	clock := func() time.Time { return now }
	a := access.New(s, keyed(t, s, clock), clock)
	for _, u := range []access.NewUser{
		{Name: "ines", FullName: "Ines", Role: roles.Operator, Password: "kelp-and-copper"},
		{Name: "tobiah", FullName: "Tobiah", Role: roles.Curator, Password: "seven-brass-keys"},
	} {
		_, err := a.AddUser(t.Context(), "a test", u)
		require.NoError(t, err)
	}
	for field, u := range map[string]access.NewUser{
		"name":     {Name: "Ines!", Role: roles.Operator, Password: "long enough"},
		"role":     {Name: "x", Role: "king", Password: "long enough"},
		"password": {Name: "x", Role: roles.Operator, Password: "short"},
	} {
		_, err := a.AddUser(t.Context(), "a test", u)
		var f *fault.Fault
		require.ErrorAs(t, err, &f)
		assert.Equal(t, field, f.Field)
	}

	ines, err := a.SignIn(t.Context(), "127.0.0.1", "ines", "kelp-and-copper")
	require.NoError(t, err)
	assert.Equal(t, roles.Operator, ines.Role)
	_, err = a.SignIn(t.Context(), "127.0.0.1", "ines", "kelp-and-coppe")
	assert.True(t, fault.Is(err, fault.WrongPassword))

	text, token, err := a.IssueToken(
		t.Context(), ines, access.NewToken{Label: "nightly", Role: roles.Auditor, Life: 2 * time.Hour},
	)
	require.NoError(t, err)
	p, err := a.ByToken(t.Context(), text)
	require.NoError(t, err)
	assert.Equal(
		t,
		access.Principal{
			UserID: ines.UserID, Name: "ines", FullName: "Ines", Role: roles.Auditor, Token: token.ID,
			Expires: token.ExpiresAt, Depots: []string{}, Publishers: []string{},
		},
		p,
	)
	for _, bad := range []string{"", "endx_", text[:len(text)-1], "x" + text} {
		_, err := a.ByToken(t.Context(), bad)
		assert.True(t, fault.Is(err, fault.TokenUnknown), bad)
	}
	now = now.Add(2*time.Hour - time.Second)
	_, err = a.ByToken(t.Context(), text)
	require.NoError(t, err)
	now = now.Add(time.Second)
	_, err = a.ByToken(t.Context(), text)
	assert.True(t, fault.Is(err, fault.TokenExpired))

	_, _, err = a.IssueToken(t.Context(), ines, access.NewToken{Role: roles.Curator, Life: time.Hour})
	assert.True(t, fault.Is(err, fault.RoleTooHigh))
	for _, life := range []time.Duration{0, -time.Hour, 400 * 24 * time.Hour} {
		_, _, err = a.IssueToken(t.Context(), ines, access.NewToken{Life: life})
		assert.True(t, fault.Is(err, fault.BadLifetime))
	}
	tobiah, err := a.BySession(t.Context(), "tobiah", now)
	require.NoError(t, err)
	text, token, err = a.IssueToken(t.Context(), ines, access.NewToken{Life: time.Hour})
	require.NoError(t, err)
	assert.True(
		t, fault.Is(a.RevokeToken(t.Context(), tobiah, token.ID), fault.TokenUnknown),
		"another's token is not one's to end",
	)
	require.NoError(t, a.RevokeToken(t.Context(), ines, token.ID))
	_, err = a.ByToken(t.Context(), text)
	assert.True(t, fault.Is(err, fault.TokenRevoked))
	assert.Error(t, a.RevokeToken(t.Context(), ines, token.ID), "it ended already")
	_, err = a.BySession(t.Context(), "nobody", now)
	assert.True(t, fault.Is(err, fault.SessionEnded))
}

// TestGuessingIsSlowed allows a few attempts for one name and does not let one
// name's guesser lock out another.
func TestGuessingIsSlowed(t *testing.T) {
	t.Parallel()
	s, err := store.Open(t.Context(), testkit.Database(t))
	require.NoError(t, err)
	defer s.Close()
	require.NoError(t, s.Migrate(t.Context()))
	began := time.Now()
	standing := func() time.Time { return began } // however long it takes, no attempt comes back
	a := access.New(s, keyed(t, s, standing), standing)
	slowed := 0
	for range 15 {
		if _, err := a.SignIn(t.Context(), "127.0.0.1", "ines", "guess"); fault.Is(err, fault.TooManyAttempts) {
			slowed++
		}
	}
	assert.GreaterOrEqual(t, slowed, 4)
	_, err = a.SignIn(t.Context(), "127.0.0.1", "tobiah", "guess")
	assert.True(t, fault.Is(err, fault.WrongPassword))
	_, err = a.SignIn(t.Context(), "127.0.0.2", "ines", "guess")
	assert.True(t, fault.Is(err, fault.WrongPassword), "a guesser locks nobody out from elsewhere")
	other := 0
	for i := range 80 {
		if _, err := a.SignIn(t.Context(), "127.0.0.3", fmt.Sprintf("name-%d", i), "guess"); fault.Is(
			err, fault.TooManyAttempts,
		) {
			other++
		}
	}
	assert.Positive(t, other, "many names from one address are slowed too")
}

// TestSessionsAreStoredHashed: who reads the database finds no session to use.
func TestSessionsAreStoredHashed(t *testing.T) {
	t.Parallel()
	s, err := store.Open(t.Context(), testkit.Database(t))
	require.NoError(t, err)
	defer s.Close()
	require.NoError(t, s.Migrate(t.Context()))
	sessions := access.New(s, keyed(t, s, time.Now), time.Now).Sessions()
	require.NoError(t, sessions.CommitCtx(t.Context(), "a-secret", []byte("ines"), time.Now().Add(time.Hour)))
	var stored string
	require.NoError(t, s.Pool.QueryRow(t.Context(), `SELECT token FROM sessions`).Scan(&stored))
	assert.NotContains(t, stored, "secret")
	data, found, err := sessions.FindCtx(t.Context(), "a-secret")
	require.NoError(t, err)
	assert.True(t, found)
	assert.Equal(t, "ines", string(data))
	_, found, err = sessions.FindCtx(t.Context(), stored)
	require.NoError(t, err)
	assert.False(t, found)
	require.NoError(t, sessions.DeleteCtx(t.Context(), "a-secret"))
	_, found, err = sessions.FindCtx(t.Context(), "a-secret")
	require.NoError(t, err)
	assert.False(t, found)
}
