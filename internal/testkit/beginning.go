package testkit

import (
	"os"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"endeixis/demo/scenario"
	"endeixis/internal/config"
	"endeixis/internal/pgserver"
	"endeixis/internal/roles"
)

// A beginning is what the services of the tests begin with. It is made once, by
// a service, through the API; each test then gets a copy of its database and
// of the ledger's key, for hashing the people's passwords over and over would
// be most of what the tests do.
type beginning struct {
	once     sync.Once
	keep     func(t testing.TB, s *Service)
	database string
	key      []byte
	tokens   map[roles.Role]string
}

var beginnings = struct{ bare, kept beginning }{
	bare: beginning{keep: func(testing.TB, *Service) {}},
	kept: beginning{keep: func(t testing.TB, s *Service) {
		require.NoError(t, scenario.Keep(t.Context(), s.Client(t, roles.Curator)))
	}},
}

// make runs a service that makes the beginning.
func (b *beginning) make(t testing.TB) {
	t.Helper()
	c := Bare(t)
	s, stop := run(t, c)
	defer stop()
	s.populate(t)
	b.keep(t, s)
	key, err := os.ReadFile(c.Ledger.KeyFile)
	require.NoError(t, err)
	b.database, b.key, b.tokens = c.Database.URL, key, s.tokens
}

// begin makes the database of c a copy, writes the ledger's key and returns the
// tokens of the people there. It returns nil when the service is to begin by
// itself, on another server, or has begun before.
func (b *beginning) begin(t testing.TB, c config.Config) map[roles.Role]string {
	t.Helper()
	if _, err := os.Stat(c.Ledger.KeyFile); err == nil {
		return nil // it has begun before
	}
	b.once.Do(func() { b.make(t) })
	require.NotEmpty(t, b.database, "a test before this one could not make what both begin with")
	claimed, err := pgserver.Refill(t.Context(), c.Database.URL, b.database)
	require.NoError(t, err)
	if !claimed {
		return nil
	}
	require.NoError(t, os.WriteFile(c.Ledger.KeyFile, b.key, 0o600))
	return b.tokens
}
