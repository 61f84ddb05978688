package test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/openpgp/pgptest"
	"endeixis/internal/pgserver"
	"endeixis/internal/roles"
	"endeixis/internal/store"
	"endeixis/internal/testkit"
	"endeixis/internal/wire"
)

// call sends a request to the API as somebody with the role, and returns status
// and body.
func call(t testing.TB, s *testkit.Service, token, method, path string, in any) (int, []byte) {
	t.Helper()
	var body io.Reader
	if in != nil {
		text, err := json.Marshal(in)
		require.NoError(t, err)
		body = bytes.NewReader(text)
	}
	request, err := http.NewRequestWithContext(t.Context(), method, s.URL+"/api/v1"+path, body)
	require.NoError(t, err)
	request.Header.Set("Content-Type", "application/json")
	if token != "" {
		request.Header.Set("Authorization", "Bearer "+token)
	}
	response, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	if response.StatusCode >= 400 {
		assert.Equal(t, "application/problem+json", response.Header.Get("Content-Type"))
	}
	return response.StatusCode, text
}

func problem(t testing.TB, text []byte) wire.Problem {
	t.Helper()
	var p wire.Problem
	require.NoError(t, json.Unmarshal(text, &p), "%s", text)
	assert.NotEmpty(t, p.Detail)
	return p
}

// TestBadInput sends what people get wrong to the API and through the client,
// and expects each to be told apart and explained.
func TestBadInput(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	outside := t.TempDir()
	require.NoError(t, os.Symlink(outside, filepath.Join(s.Depot, "outward")))
	made := pgptest.Simple("bad input", pgptest.Ed25519, time.Unix(1_700_000_000, 0), "X")

	for _, c := range []struct {
		name   string
		method string
		path   string
		body   any
		status int
		code   string
		args   []string
		exit   int
		says   string
	}{
		{"a folder outside by words", "POST", "/batches", map[string]any{"depot": "quayside", "path": "../.."}, 422, "folder-outside-depot", []string{"batch", "run", "quayside:../.."}, 1, "leads out of the depot"},
		{"an absolute folder", "POST", "/batches", map[string]any{"depot": "quayside", "path": "/etc"}, 422, "folder-outside-depot", []string{"batch", "run", "quayside:/etc"}, 1, "leads out of the depot"},
		{"no such depot", "POST", "/batches", map[string]any{"depot": "attic", "path": "x"}, 404, "depot-unknown", []string{"batch", "run", "attic:x"}, 1, "Depots here: quayside"},
		{"a symbolic link out", "POST", "/batches", map[string]any{"depot": "quayside", "path": "outward"}, 422, "folder-outside-depot", []string{"batch", "run", "quayside:outward"}, 1, "leads out of the depot"},
		{"an empty folder", "POST", "/batches", map[string]any{"depot": "quayside", "path": "incoming/empty"}, 422, "folder-empty", []string{"batch", "run", "quayside:incoming/empty"}, 1, "nothing to verify"},
		{"no such folder", "POST", "/batches", map[string]any{"depot": "quayside", "path": "nowhere"}, 404, "folder-unknown", []string{"batch", "run", "quayside:nowhere"}, 1, "There is no folder"},
		{"a file for a folder", "POST", "/batches", map[string]any{"depot": "quayside", "path": "tidewright/gauge-fw-4.2/SHA256SUMS"}, 422, "not-a-folder", []string{"batch", "run", "quayside:tidewright/gauge-fw-4.2/SHA256SUMS"}, 1, "is not a folder"},
		{"no such publisher", "POST", "/batches", map[string]any{"depot": "quayside", "path": "tidewright", "publisher": "nobody"}, 404, "publisher-unknown", []string{"batch", "run", "quayside:tidewright", "--publisher", "nobody"}, 1, "There is no publisher"},
		{"an unknown batch", "GET", "/batches/999", nil, 404, "batch-unknown", []string{"batch", "show", "999"}, 1, "There is no batch 999"},
		{"following an unknown batch", "GET", "/batches/999/items", nil, 404, "batch-unknown", []string{"batch", "follow", "999"}, 1, "There is no batch 999"},
		{"an unknown record", "GET", "/records/99999", nil, 404, "record-unknown", []string{"record", "receipt", "99999"}, 1, "There is no record"},
		{"an unknown key", "GET", "/keys/" + strings.Repeat("ab", 20), nil, 404, "key-unknown", []string{"keyring", "show", strings.Repeat("ab", 20)}, 1, "There is no key"},
		{"a short key ID", "GET", "/keys/BF48D832", nil, 422, "bad-fingerprint", []string{"keyring", "show", "BF48D832"}, 1, "short forms can be forged"},
		{"a strange cursor", "GET", "/batches?cursor=x", nil, 422, "bad-cursor", nil, 0, ""},
		{"a body that does not fit", "POST", "/batches", map[string]any{"depot": 7}, 422, "request-invalid", nil, 0, ""},
		{"a scope that is no pattern", "POST", "/publishers", map[string]any{"slug": "x", "name": "X", "scope": []string{"[a"}}, 422, "bad-scope", []string{"publisher", "add", "x", "--name", "X", "--scope", "[a"}, 1, "not a name pattern"},
		{"a JPEG for a key", "POST", "/keys", map[string]any{"data": []byte("\xff\xd8\xff\xe0 JFIF"), "source": "x"}, 422, "not-a-key", nil, 0, ""},
		{"a secret key", "POST", "/keys", map[string]any{"data": pgptest.Armor("PGP PRIVATE KEY BLOCK", made.Secret()), "source": "x"}, 422, "secret-key", nil, 0, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			status, text := call(t, s, s.Token(t, "administrator"), c.method, c.path, c.body)
			assert.Equal(t, c.status, status, "%s", text)
			assert.EqualValues(t, c.code, problem(t, text).Code)
			if c.args != nil {
				r := endeixis(t, s, "administrator", c.args...)
				assert.Equal(t, c.exit, r.code, r.err)
				assert.Contains(t, r.err, c.says)
			}
		})
	}
}

func TestBadKeyFiles(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	dir := t.TempDir()
	made := pgptest.Simple("secret", pgptest.Ed25519, time.Unix(1_700_000_000, 0), "X")
	before := endeixis(t, s, "auditor", "keyring", "list").out
	for name, c := range map[string]struct {
		content []byte
		says    string
	}{
		"picture.asc": {[]byte("\xff\xd8\xff\xe0\x00\x10JFIF"), "it is a JPEG picture"},
		"secret.asc":  {made.Secret(), "This is a secret key"},
		"mixed.gpg":   {append(made.Bytes(), made.Secret()...), "This is a secret key"},
		"empty.asc":   {nil, "the file is empty"},
		"cut.asc":     {made.Armored()[:100], "cut short"},
		"page.asc":    {[]byte("<!doctype html><title>Not found</title>"), "HTML page"},
	} {
		file := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(file, c.content, 0o600))
		r := endeixis(t, s, "curator", "keyring", "import", file)
		assert.Equal(t, 1, r.code, name)
		assert.Contains(t, r.err, c.says, name)
	}
	assert.Equal(t, before, endeixis(t, s, "auditor", "keyring", "list").out, "nothing of it was kept")
	db, err := store.Open(t.Context(), s.Config.Database.URL)
	require.NoError(t, err)
	defer db.Close()
	require.NoError(t, db.EachRecord(t.Context(), func(r store.Record) error {
		assert.NotContains(t, string(r.Body), "secret.asc")
		return nil
	}))
}

func TestHugeManifest(t *testing.T) {
	t.Parallel()
	s := testkit.StartBare(t)
	folder := s.Write(t, "incoming/huge", map[string][]byte{"gauge.img": []byte("image")})
	f, err := os.Create(filepath.Join(s.Depot, "incoming/huge/SHA256SUMS"))
	require.NoError(t, err)
	require.NoError(t, f.Truncate(2<<30))
	require.NoError(t, f.Close())
	r := endeixis(t, s, "operator", "batch", "run", folder, "--wait", "--output", "json")
	require.Equal(t, 11, r.code, r.err)
	var b batchJSON
	r.decode(t, &b)
	assert.Contains(t, b.codes("SHA256SUMS"), "manifest-unreadable")
	assert.Contains(t, b.codes("gauge.img"), "not-listed")
	assert.Contains(t, r.out, "2147483648 bytes long")
}

func TestHostileNames(t *testing.T) {
	t.Parallel()
	s := testkit.StartBare(t)
	folder := s.Write(t, "incoming/names", map[string][]byte{
		"a b.img":          nil,
		"Größe.img":        nil,
		"<b>bold.img":      nil,
		"=1+1.img":         nil,
		"new\nline.img":    nil,
		"esc\x1b[31m.img":  nil,
		"rtl\u202egnp.img": nil,
		"del\x7f.img":      nil,
		"c1\u009b31m.img":  nil,
		"bad\xff.img":      nil,
	})
	r := endeixis(t, s, "operator", "batch", "run", folder, "--wait")
	assert.Equal(t, 11, r.code, r.err)
	for _, bad := range []string{"\x1b", "\u202e", "new\nline", "\xff"} {
		assert.NotContains(t, r.out, bad)
	}
	for _, good := range []string{"Größe.img", "<b>bold.img", `new\nline.img`, `esc\x1b[31m.img`} {
		assert.Contains(t, r.out, good)
	}
	for _, output := range []string{"json", "yaml", "csv", "table"} {
		for _, args := range [][]string{{"batch", "show", "1"}, {"record", "list"}, {"batch", "survey", folder}} {
			role := roles.Auditor
			if args[1] == "survey" {
				role = roles.Operator
			}
			shown := endeixis(t, s, role, append(args, "--output", output)...)
			for _, bad := range []string{"\x1b", "\u202e", "\xff", "\x7f", "\u009b"} {
				assert.NotContains(t, shown.out, bad, "%v as %s", args, output)
			}
		}
	}
	list := endeixis(t, s, "auditor", "record", "list", "--kind", "item-outcome", "--output", "csv")
	assert.Contains(t, list.out, "'=1+1.img", "a spreadsheet must not take it for a formula")
	assert.Zero(t, endeixis(t, s, "auditor", "record", "audit").code)
}

// TestAccess holds every door against everybody who has no key to it.
func TestAccess(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	fp := strings.Repeat("ab", 20)
	operations := []struct {
		method, path string
		body         any
		least        string
	}{
		{"GET", "/me", nil, "auditor"},
		{"GET", "/overview", nil, "auditor"},
		{"GET", "/records", nil, "auditor"},
		{"GET", "/depots/quayside/entries", nil, "auditor"},
		{"POST", "/batches", map[string]any{"depot": "attic", "path": "x"}, "operator"},
		{"POST", "/keys", map[string]any{"data": []byte{}, "source": "x"}, "operator"},
		{
			"POST", "/keys/" + fp + "/sightings",
			map[string]any{"read": fp, "channel": "letter", "place": "x"},
			"operator",
		},
		{"POST", "/keys/" + fp + "/admission", map[string]any{"typed": fp, "publisher": "x", "reason": "x"}, "curator"},
		{"POST", "/publishers", map[string]any{"slug": "!", "name": "x"}, "curator"},
		{"GET", "/users", nil, "administrator"},
		{
			"POST", "/users",
			map[string]any{"name": "!", "full_name": "x", "role": "auditor", "password": "x"},
			"administrator",
		},
	}
	for _, o := range operations {
		status, text := call(t, s, "", o.method, o.path, o.body)
		assert.Equal(t, 401, status, o.path)
		assert.EqualValues(t, "not-signed-in", problem(t, text).Code)
		enough := false
		for _, role := range roles.All() {
			enough = enough || string(role) == o.least
			status, text := call(t, s, s.Token(t, role), o.method, o.path, o.body)
			if enough {
				assert.NotContains(t, []int{401, 403}, status, "%s %s as %s", o.method, o.path, role)
			} else {
				assert.Equal(t, 403, status, "%s %s as %s", o.method, o.path, role)
				assert.EqualValues(t, "role-too-low", problem(t, text).Code)
			}
		}
	}

	t.Run("tokens", func(t *testing.T) {
		for _, token := range []string{"x", "endx_forged", strings.Repeat("a", 5000)} {
			status, text := call(t, s, token, "GET", "/me", nil)
			assert.Equal(t, 401, status)
			assert.EqualValues(t, "token-unknown", problem(t, text).Code)
		}
		conn, err := pgx.Connect(t.Context(), s.Config.Database.URL)
		require.NoError(t, err)
		defer conn.Close(t.Context())
		_, err = conn.Exec(
			t.Context(),
			`UPDATE tokens SET expires_at = now() - interval '1 minute' FROM users u WHERE u.id = user_id AND u.role = 'auditor'`,
		)
		require.NoError(t, err)
		status, text := call(t, s, s.Token(t, "auditor"), "GET", "/me", nil)
		assert.Equal(t, 401, status)
		assert.EqualValues(t, "token-expired", problem(t, text).Code)
		r := endeixis(t, s, "auditor", "status")
		assert.Equal(t, 3, r.code)
		assert.Contains(t, r.err, "This token expired")
		assert.Contains(t, r.err, "endeixis login")
	})

	t.Run("sessions", func(t *testing.T) {
		request, err := http.NewRequestWithContext(t.Context(), http.MethodGet, s.URL+"/api/v1/me", nil)
		require.NoError(t, err)
		request.AddCookie(&http.Cookie{Name: "endeixis_session", Value: "forged"})
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		response.Body.Close()
		assert.Equal(t, 401, response.StatusCode)

		status, text := call(t, s, "", "POST", "/sessions", map[string]string{"name": "ines", "password": "wrong"})
		assert.Equal(t, 401, status)
		assert.EqualValues(t, "wrong-password", problem(t, text).Code)
		status, text = call(t, s, "", "POST", "/sessions", map[string]string{"name": "nobody", "password": "wrong"})
		assert.Equal(t, 401, status)
		assert.EqualValues(t, "wrong-password", problem(t, text).Code, "it does not tell who exists")
		for range 15 {
			status, text = call(t, s, "", "POST", "/sessions", map[string]string{"name": "merit", "password": "guess"})
		}
		assert.Equal(t, 429, status)
		assert.EqualValues(t, "too-many-attempts", problem(t, text).Code)
	})

	t.Run("other sites", func(t *testing.T) {
		request, err := http.NewRequestWithContext(
			t.Context(), http.MethodPost, s.URL+"/api/v1/sessions",
			strings.NewReader(`{"name":"ines","password":"kelp-and-copper"}`),
		)
		require.NoError(t, err)
		request.Header.Set("Content-Type", "application/json")
		request.Header.Set("Origin", "http://elsewhere.example")
		request.Header.Set("Sec-Fetch-Site", "cross-site")
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		defer response.Body.Close()
		assert.Equal(t, 403, response.StatusCode)
		assert.Empty(t, response.Cookies())
	})
}

// TestIdempotencyKey repeats a request, which is carried out once, and then changes one
// part of it at a time: the key is not good for that.
func TestIdempotencyKey(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	const list = "oarlock-logger-2.4-digests.txt"
	request := func() wire.NewBatch {
		return wire.NewBatch{
			Depot:     "quayside",
			Path:      "oarlock/logger-2.4",
			Label:     "loggers",
			Publisher: "oarlock",
			Origins:   []wire.ComesFrom{{Manifest: list, Channel: "vendor-site", Place: "oarlock.example"}},
			Copies: []wire.GivenCopy{
				{
					Of: list, Channel: "paper", Place: "a sheet",
					Text: "oarlock-logger-2.4-arm64.img is " + strings.Repeat("ab", 32),
				},
			},
		}
	}
	operator := s.Client(t, roles.Operator)
	first, err := operator.RunBatch(t.Context(), request(), "the same")
	require.NoError(t, err)
	for range 2 {
		again, err := operator.RunBatch(t.Context(), request(), "the same")
		require.NoError(t, err)
		assert.Equal(t, first.ID, again.ID)
	}
	for what, change := range map[string]func(b *wire.NewBatch){
		"the folder":     func(b *wire.NewBatch) { b.Path = "tidewright/gauge-fw-4.2"; b.Copies, b.Origins = nil, nil },
		"the label":      func(b *wire.NewBatch) { b.Label = "others" },
		"the publisher":  func(b *wire.NewBatch) { b.Publisher = "tidewright" },
		"whether all":    func(b *wire.NewBatch) { b.RequireAll = true },
		"an origin":      func(b *wire.NewBatch) { b.Origins[0].Place = "elsewhere.example" },
		"a copy's text":  func(b *wire.NewBatch) { b.Copies[0].Text += " " },
		"a copy's place": func(b *wire.NewBatch) { b.Copies[0].Place = "another sheet" },
		"a copy less":    func(b *wire.NewBatch) { b.Copies = nil },
		"a copy more":    func(b *wire.NewBatch) { b.Copies = append(b.Copies, b.Copies[0]) },
	} {
		other := request()
		change(&other)
		_, err := operator.RunBatch(t.Context(), other, "the same")
		assert.ErrorContains(t, err, "This Idempotency-Key was used for another request", what)
	}
	other, err := s.Client(t, roles.Curator).RunBatch(t.Context(), request(), "the same")
	require.NoError(t, err)
	assert.NotEqual(t, first.ID, other.ID, "a key is its person's")
}

// onOwnDatabase starts a service on a PostgreSQL of its own, and returns how to
// take that away.
func onOwnDatabase(t *testing.T) (*testkit.Service, func()) {
	t.Helper()
	pg, err := pgserver.Start(t.Context())
	require.NoError(t, err)
	stop := sync.OnceFunc(pg.Stop)
	t.Cleanup(stop)
	c := testkit.Prepare(t)
	c.Database.URL, err = pgserver.CreateDatabase(t.Context(), pg.URL("postgres"))
	require.NoError(t, err)
	return testkit.StartWith(t, c), stop
}

// TestDatabaseDown takes the database away from a running service.
func TestDatabaseDown(t *testing.T) {
	t.Parallel()
	s, stop := onOwnDatabase(t)
	require.Zero(t, endeixis(t, s, "operator", "status").code)
	stop()

	status, text := call(t, s, s.Token(t, "operator"), "GET", "/batches", nil)
	assert.Equal(t, 503, status)
	p := problem(t, text)
	assert.EqualValues(t, "database-down", p.Code)
	assert.Contains(t, p.Advice, "Nothing was lost")
	r := endeixis(t, s, "operator", "batch", "run", "quayside:tidewright/gauge-fw-4.2")
	assert.Equal(t, 3, r.code)
	assert.Contains(t, r.err, "The database does not answer")
	for path, want := range map[string]int{"/healthz": 200, "/readyz": 503} {
		response, err := http.Get(s.URL + path)
		require.NoError(t, err)
		response.Body.Close()
		assert.Equal(t, want, response.StatusCode, path)
	}
}

// TestDatabaseFull leaves the database without space: that is what people and
// /readyz are told, work waits, and goes on by itself when there is room.
func TestDatabaseFull(t *testing.T) {
	t.Parallel()
	s := testkit.StartBare(t)
	s.Write(t, "incoming", map[string][]byte{"lamp.img": []byte("lamp")})
	sql, err := pgx.Connect(t.Context(), s.Config.Database.URL)
	require.NoError(t, err)
	defer sql.Close(context.Background())
	_, err = sql.Exec(
		t.Context(),
		`CREATE FUNCTION full_disk() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RAISE EXCEPTION 'could not extend file: No space left on device' USING ERRCODE = '53100'; END $$;
		CREATE TRIGGER full_disk BEFORE INSERT ON outcomes EXECUTE FUNCTION full_disk()`,
	)
	require.NoError(t, err)
	ready := func() (int, string) {
		response, err := http.Get(s.URL + "/readyz")
		require.NoError(t, err)
		defer response.Body.Close()
		text, err := io.ReadAll(response.Body)
		require.NoError(t, err)
		return response.StatusCode, string(text)
	}
	operator := s.Client(t, roles.Operator)
	b, err := operator.RunBatch(t.Context(), wire.NewBatch{Depot: "quayside", Path: "incoming"}, "")
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		status, text := ready()
		return status == 503 && strings.Contains(text, "no space left")
	}, time.Minute, 50*time.Millisecond)
	_, err = sql.Exec(t.Context(), `CREATE TRIGGER full_disk BEFORE INSERT ON batches EXECUTE FUNCTION full_disk()`)
	require.NoError(t, err)
	r := endeixis(t, s, roles.Operator, "batch", "run", "quayside:incoming")
	assert.NotZero(t, r.code)
	assert.Contains(t, r.err, "The database has no space left")
	_, err = sql.Exec(t.Context(), `DROP FUNCTION full_disk() CASCADE`)
	require.NoError(t, err)
	b, err = operator.Follow(t.Context(), b.ID, nothing)
	require.NoError(t, err)
	assert.EqualValues(t, "done", b.State)
	status, text := ready()
	assert.Equal(t, 200, status, text)
}

// TestShortListsSaySo: a list that ends early says that there is more.
func TestShortListsSaySo(t *testing.T) {
	t.Parallel()
	s := testkit.StartBare(t)
	for limit, more := range map[string]bool{"2": true, "0": false, "1000": false} {
		r := endeixis(t, s, roles.Auditor, "record", "list", "--limit", limit)
		require.Zero(t, r.code, r.err)
		assert.Equal(t, more, strings.Contains(r.err, "--limit 0 lists all"), limit)
		assert.Equal(t, more, strings.Contains(r.err, "These are the first 2; there are "), limit)
	}
}

// TestChangedMeanwhile changes things by the version that was seen: the second of two
// who saw the same is told, and nothing of theirs is stored.
func TestChangedMeanwhile(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	send := func(method, path, version, body string) (int, string, string) {
		request, err := http.NewRequestWithContext(t.Context(), method, s.URL+"/api/v1"+path, strings.NewReader(body))
		require.NoError(t, err)
		request.Header.Set("Authorization", "Bearer "+s.Token(t, roles.Administrator))
		request.Header.Set("Content-Type", "application/json")
		if version != "" {
			request.Header.Set("If-Match", version)
		}
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		defer response.Body.Close()
		text, err := io.ReadAll(response.Body)
		require.NoError(t, err)
		return response.StatusCode, response.Header.Get("ETag"), string(text)
	}
	_, publisher, _ := send("GET", "/publishers/corran", "", "")
	require.Regexp(t, `^"\d+"$`, publisher)
	policy, err := s.Client(t, roles.Auditor).Status(t.Context())
	require.NoError(t, err)
	var people wire.Page[wire.User]
	_, _, text := send("GET", "/users", "", "")
	require.NoError(t, json.Unmarshal([]byte(text), &people))
	person := people.Items[1]
	for what, c := range map[string]struct {
		method, path, version string
		bodies                [3]string
	}{
		"a publisher": {"PATCH", "/publishers/corran", publisher, [3]string{`{"contact": "one"}`, `{"contact": "two"}`, `{"contact": "three"}`}},
		"a person":    {"PATCH", "/users/" + person.Name, `"` + person.Version + `"`, [3]string{`{"full_name": "One"}`, `{"full_name": "Two"}`, `{"full_name": "Three"}`}},
		"the policy": {"POST", "/publishers/corran/policies", fmt.Sprintf(`"%d"`, policy.Policy), [3]string{
			`{"fields": {"rsa_bits": 3072}, "reason": "one of three"}`, `{"fields": {"rsa_bits": 4096}, "reason": "two of three"}`, `{"fields": {"rsa_bits": 5120}, "reason": "three of three"}`,
		}},
	} {
		status, next, text := send(c.method, c.path, c.version, c.bodies[0])
		require.Equal(t, 200, status, "%s: %s", what, text)
		assert.NotEqual(t, c.version, next, what)
		status, _, text = send(c.method, c.path, c.version, c.bodies[1])
		assert.Equal(t, 412, status, "%s: %s", what, text)
		assert.Contains(t, text, "since you looked", what)
		for _, version := range []string{next, "*", ""} {
			status, after, text := send(c.method, c.path, version, c.bodies[2])
			if version == next {
				assert.Equal(t, 200, status, "%s: %s", what, text)
				assert.NotEqual(t, next, after, what)
			} else {
				assert.NotEqual(t, 412, status, "%s with %q: %s", what, version, text)
			}
		}
	}
}
