// Package testkit starts the whole service for a test: a database of its
// own on the shared PostgreSQL, a depot with the demo's folders, people of
// every role, and Tidewright's key admitted. It is to the service what
// net/http/httptest is to a handler.
package testkit

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http/httptest"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"endeixis/core/digest"
	"endeixis/demo/scenario"
	"endeixis/internal/basis"
	"endeixis/internal/batches"
	"endeixis/internal/client"
	"endeixis/internal/config"
	"endeixis/internal/depots"
	"endeixis/internal/jobs"
	"endeixis/internal/keys"
	"endeixis/internal/pgserver"
	"endeixis/internal/policy"
	"endeixis/internal/publishers"
	"endeixis/internal/reassess"
	"endeixis/internal/records"
	"endeixis/internal/roles"
	"endeixis/internal/serve"
	"endeixis/internal/sources"
	"endeixis/internal/store"
	"endeixis/internal/wire"
	"endeixis/internal/world"
)

// A Service is a running service.
type Service struct {
	// URL is its address, such as http://127.0.0.1:41234.
	URL string
	// Depot is the directory of the depot called “quayside”.
	Depot string
	// Config is what the service runs with, but for the role: its database's
	// address is the owner's.
	Config config.Config
	// PublicKey is that of its ledger.
	PublicKey string

	tokens map[roles.Role]string
	stop   func()
}

var shared struct {
	once   sync.Once
	server *pgserver.Server
	url    string
	err    error
}

// Database returns the address of an empty database. The server is the one
// that “make test” has started, or else one for this test binary, which [Main]
// stops.
func Database(t testing.TB) string {
	t.Helper()
	shared.once.Do(func() {
		if shared.url = os.Getenv(pgserver.TestVariable); shared.url != "" {
			return
		}
		shared.server, shared.err = pgserver.Start(context.Background())
		if shared.err == nil {
			shared.url = shared.server.URL("postgres")
		}
	})
	require.NoError(t, shared.err)
	url, err := pgserver.CreateDatabase(t.Context(), shared.url)
	require.NoError(t, err)
	return url
}

// Main runs the tests of a package and stops what they shared; after, if given,
// clears up what the package itself shared. Call it from TestMain.
func Main(m *testing.M, after ...func()) {
	code := m.Run()
	for _, f := range after {
		f()
	}
	if shared.server != nil {
		shared.server.Stop()
	}
	os.Exit(code)
}

// Bare makes a configuration with a database and an empty depot: nothing lies
// outside, and nothing is started.
func Bare(t testing.TB) config.Config {
	t.Helper()
	dir := t.TempDir()
	depot := filepath.Join(dir, scenario.Depot)
	require.NoError(t, os.MkdirAll(depot, 0o755))
	return config.Config{
		Name:     "verify.skerrow.example",
		Listen:   "127.0.0.1:0",
		Database: config.Database{URL: Database(t)},
		Ledger: config.Ledger{
			KeyFile: filepath.Join(dir, "ledger.key"),
		},
		Depots:  map[string]string{scenario.Depot: depot},
		Devices: config.Devices{AtOnce: 8}, // as the configuration has it by itself
		Work: config.Work{
			Workers: 2, SliceBytes: 64 << 20, SliceItems: 100, MeasurerHours: 24,
		},
		Log: config.Log{Level: "error", Format: "text"},
	}
}

// Prepare makes a configuration with a database, a depot with the demo's small
// folders, and what lies outside, without starting the service.
func Prepare(t testing.TB) config.Config {
	t.Helper()
	c := Bare(t)
	dir := filepath.Dir(c.Depots[scenario.Depot])
	require.NoError(t, scenario.WriteSmall(c.Depots[scenario.Depot]))
	mirrors := filepath.Join(dir, "mirrors")
	require.NoError(t, scenario.WriteMirrors(mirrors))
	rings := filepath.Join(dir, "directories")
	require.NoError(t, scenario.WriteDirectories(rings))
	outside := httptest.NewServer(world.Handler(os.DirFS(mirrors), os.DirFS(rings)))
	t.Cleanup(outside.Close)
	c.Origins = map[string]config.Origin{"oarlock-page": {URL: outside.URL + "/page/", Channel: "vendor-site"}}
	for _, name := range scenario.Mirrors() {
		c.Origins[name] = config.Origin{URL: outside.URL + "/mirrors/" + name + "/", Channel: "mirror"}
	}
	c.Directories = []config.Directory{
		{Name: "harbour", Kind: "hkp", URL: outside.URL + "/directories/harbour/"},
		{Name: "tired", Kind: "hkp", URL: outside.URL + "/tired/"},
		{Name: "lookalike", Kind: "hkp", URL: outside.URL + "/directories/lookalike/"},
		{
			Name: "tidewright-own", Kind: "wkd", URL: outside.URL + "/directories/harbour/wkd/",
			Domain: "tidewright.example",
		},
	}
	return c
}

// Gauges starts gauges, and returns how the service reaches them, with their addresses by
// name.
func Gauges(t testing.TB, all []*world.Gauge) (config.Devices, map[string]string) {
	t.Helper()
	dir := t.TempDir()
	out := config.Devices{
		Kinds:    filepath.Join(dir, "device-kinds"),
		HostKeys: filepath.Join(dir, "host_keys"),
		AtOnce:   8,
		Credentials: map[string]config.Credential{
			scenario.GaugeCredential: {User: scenario.GaugeUser, KeyFile: filepath.Join(dir, "gauges.key")},
		},
	}
	addresses := map[string]string{}
	for _, g := range all {
		addresses[g.Name] = Listen(t, g)
	}
	require.NoError(t, scenario.WriteGaugeKinds(out.Kinds))
	require.NoError(t, scenario.WriteLogin(filepath.Join(dir, "gauges.key"), out.HostKeys, addresses))
	return out, addresses
}

// Listen serves a gauge until the test ends, and returns its address.
func Listen(t testing.TB, g *world.Gauge) string {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	var done sync.WaitGroup
	done.Go(func() { g.Serve(ctx, listener) })
	t.Cleanup(func() { stop(); done.Wait() })
	return listener.Addr().String()
}

// Now is the clock of tests that need none of their own: this host's, as the
// database keeps it.
func Now() time.Time { return time.Now().UTC().Truncate(time.Microsecond) }

// Parts are those of a service, put together without anybody who works on jobs:
// the test decides what is done, and when.
type Parts struct {
	Store      *store.Store
	Records    *records.Service
	Queue      *jobs.Queue
	Publishers *publishers.Service
	Policy     *policy.Service
	Keys       *keys.Service
	Batches    *batches.Service
	Reassess   *reassess.Service
	// Depots can be changed, as if a depot had been moved away.
	Depots map[string]string
}

// Assemble opens the database of a configuration, with its tables, the ledger's
// key and the default policy, and puts the parts together. now is their clock.
func Assemble(t testing.TB, c config.Config, now func() time.Time) *Parts {
	t.Helper()
	s, err := store.Open(t.Context(), c.Database.URL)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	require.NoError(t, s.Migrate(t.Context()))
	p := &Parts{Store: s, Records: records.New(s, now), Depots: c.Depots}
	_, err = p.Records.Init(t.Context(), c.Ledger.KeyFile, c.Name)
	require.NoError(t, err)
	p.Queue, err = jobs.NewQueue()
	require.NoError(t, err)
	orders := reassess.NewOrders(p.Queue, p.Records, now)
	judgedBy := basis.New(s, p.Records)
	p.Publishers = publishers.New(s, p.Records)
	p.Policy = policy.New(s, p.Records, judgedBy, p.Publishers, orders, now)
	require.NoError(t, p.Policy.Init(t.Context(), "a test"))
	p.Keys = keys.New(s, p.Records, judgedBy, p.Publishers, p.Policy, nil, orders, now)
	p.Batches = batches.New(
		s, p.Records, p.Keys, p.Publishers, p.Policy, sources.New(depots.New(c.Depots)), nil, nil, p.Queue, orders,
		batches.Limits{SliceBytes: c.Work.SliceBytes, SliceItems: c.Work.SliceItems}, digest.MeasureGain(time.Now), now,
	)
	p.Reassess = reassess.New(s, p.Records, p.Keys, p.Publishers, p.Policy, p.Batches, orders, now)
	return p
}

// Surveyed surveys a batch and returns the slices that are left to measure.
func (p *Parts) Surveyed(t testing.TB, batch int64) []int {
	t.Helper()
	require.NoError(t, p.Batches.Survey(t.Context(), batch))
	numbers, err := p.Store.SliceNumbers(t.Context(), batch)
	require.NoError(t, err)
	if len(numbers) > 0 && numbers[0] == 0 {
		return numbers[1:]
	}
	return numbers
}

// Start starts a service with the demo's people, folders, publishers and keys,
// and with what lies outside.
func Start(t testing.TB) *Service {
	t.Helper()
	return StartWith(t, Prepare(t))
}

// StartBare starts a service with the demo's people and nothing else, for tests
// of the API that bring their own.
func StartBare(t testing.TB) *Service {
	t.Helper()
	c := Bare(t)
	return start(t, c, &beginnings.bare)
}

// StartWith starts a service with a configuration made by [Prepare], with the
// demo's publishers and keys.
func StartWith(t testing.TB, c config.Config) *Service {
	t.Helper()
	return start(t, c, &beginnings.kept)
}

// start runs the service until the test ends.
func start(t testing.TB, c config.Config, from *beginning) *Service {
	t.Helper()
	tokens := from.begin(t, c)
	s, stop := run(t, c)
	s.stop = stop
	t.Cleanup(func() { s.stop() })
	switch {
	case tokens != nil:
		s.tokens = tokens
	case len(s.tokens) > 0: // it began by itself
		s.populate(t)
		from.keep(t, s)
	}
	return s
}

// run runs the service until stop is called, as a role that does not own the tables,
// as it is meant to be.
func run(t testing.TB, c config.Config) (s *Service, stop func()) {
	t.Helper()
	asked := c
	c.Database.URL = forService(t, c.Database.URL)
	log := slog.New(slog.NewTextHandler(testWriter{t}, &slog.HandlerOptions{Level: slog.LevelError}))
	service, err := serve.Open(t.Context(), c, log)
	require.NoError(t, err)
	people := scenario.People()
	beginning, err := service.Init(
		t.Context(), people[0].Name, func() (string, error) { return people[0].Password, nil },
	)
	require.NoError(t, err)

	s = &Service{
		Depot: c.Depots[scenario.Depot], Config: asked, PublicKey: beginning.PublicKey, tokens: map[roles.Role]string{},
	}
	if beginning.Token != "" {
		s.tokens[people[0].Role] = beginning.Token
	}
	s.URL, stop, err = serveUntil(service, serve.Start{})
	require.NoError(t, err)
	return s, stop
}

// serveUntil runs a service until stop is called, or returns why it does not start.
func serveUntil(service *serve.Service, start serve.Start) (url string, stop func(), err error) {
	ctx, cancel := context.WithCancel(context.Background())
	address := make(chan string, 1)
	done := make(chan error, 1)
	start.Ready = func(a string) { address <- a }
	go func() { done <- service.Serve(ctx, start) }()
	stop = func() {
		cancel()
		<-done //nolint:errcheck // it was told to end, and only that it did is wanted
		service.Close()
	}
	select {
	case a := <-address:
		return "http://" + a, stop, nil
	case err = <-done:
	case <-time.After(time.Minute):
		err = errors.New("the service did not start")
	}
	cancel()
	service.Close()
	return "", func() {}, err
}

// Rotate stops the service, and has its ledger go on with another key. [Service.Restart] starts
// it again.
func (s *Service) Rotate(t testing.TB) error {
	t.Helper()
	return s.changeKey(t, (*serve.Service).RotateKey)
}

// LoseKey stops the service, takes the file of the ledger's key away, and has the ledger go on
// without it. [Service.Restart] starts it again.
func (s *Service) LoseKey(t testing.TB) error {
	t.Helper()
	s.stop()
	s.stop = func() {}
	require.NoError(t, os.Remove(s.Config.Ledger.KeyFile))
	require.NoError(t, os.Remove(s.Config.Ledger.KeyFile+".checkpoint"))
	return s.changeKey(t, (*serve.Service).DeclareKeyLost)
}

func (s *Service) changeKey(
	t testing.TB, change func(*serve.Service, context.Context) (public string, err error),
) error {
	t.Helper()
	s.stop()
	s.stop = func() {}
	c := s.Config
	c.Database.URL = forService(t, c.Database.URL)
	service, err := serve.Open(t.Context(), c, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer service.Close()
	public, err := change(service, t.Context())
	if err == nil {
		s.PublicKey = public
	}
	return err
}

// Restart stops the service, and starts it again at another address. It returns why it does
// not start.
func (s *Service) Restart(t testing.TB) error {
	t.Helper()
	return s.restart(t, serve.Start{})
}

// RestartRestored is [Service.Restart] by an administrator who has restored an older database.
func (s *Service) RestartRestored(t testing.TB) error {
	t.Helper()
	return s.restart(t, serve.Start{AfterRestore: true})
}

func (s *Service) restart(t testing.TB, start serve.Start) error {
	t.Helper()
	s.stop()
	c := s.Config
	c.Database.URL = forService(t, c.Database.URL)
	service, err := serve.Open(
		t.Context(), c, slog.New(slog.NewTextHandler(testWriter{t}, &slog.HandlerOptions{Level: slog.LevelError})),
	)
	require.NoError(t, err)
	s.URL, s.stop, err = serveUntil(service, start)
	return err
}

// forService brings a database to this version, as its owner, and returns its
// address for a role that may only use it.
func forService(t testing.TB, url string) string {
	t.Helper()
	owner, err := store.Open(t.Context(), url)
	require.NoError(t, err)
	defer owner.Close()
	require.NoError(t, owner.Migrate(t.Context()))
	role, address, err := pgserver.CreateRole(t.Context(), url)
	require.NoError(t, err)
	require.NoError(t, owner.Grant(t.Context(), role))
	return address
}

// populate adds the other people.
func (s *Service) populate(t testing.TB) {
	t.Helper()
	people := scenario.People()
	for _, p := range people[1:] {
		require.NoError(
			t,
			s.Client(t, "administrator").
				AddUser(
					t.Context(), wire.NewUser{Name: p.Name, FullName: p.FullName, Role: p.Role, Password: p.Password},
				),
		)
		c, err := client.New(s.URL, "")
		require.NoError(t, err)
		issued, err := c.SignIn(t.Context(), p.Name, p.Password, "test", 1)
		require.NoError(t, err)
		s.tokens[p.Role] = issued.Text
	}
}

// Client returns a client with the token of somebody with the role.
func (s *Service) Client(t testing.TB, role roles.Role) *client.Client {
	t.Helper()
	c, err := client.New(s.URL, s.Token(t, role))
	require.NoError(t, err)
	return c
}

// Token returns a token of somebody with the role.
func (s *Service) Token(t testing.TB, role roles.Role) string {
	t.Helper()
	token, ok := s.tokens[role]
	require.True(t, ok, "nobody has the role %s", role)
	return token
}

// Write writes a file into the depot and returns the folder as depot:folder.
func (s *Service) Write(t testing.TB, folder string, files map[string][]byte) string {
	t.Helper()
	dir := filepath.Join(s.Depot, filepath.FromSlash(folder))
	require.NoError(t, os.MkdirAll(dir, 0o755))
	for name, content := range files {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), content, 0o644))
	}
	return fmt.Sprintf("%s:%s", scenario.Depot, folder)
}

// testWriter passes a log on to the test.
type testWriter struct{ t testing.TB }

func (w testWriter) Write(p []byte) (int, error) {
	w.t.Logf("%s", p)
	return len(p), nil
}
