package directories_test

import (
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/openpgp/pgptest"
	"endeixis/internal/directories"
	"endeixis/internal/outside"
	"endeixis/internal/world"
)

var born = time.Date(2024, 5, 6, 8, 0, 0, 0, time.UTC)

// TestAsk asks honest and dishonest directories over real HTTP.
func TestAsk(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write := func(name string, data []byte) {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, data, 0o600))
	}
	const id = "Brackwater Radio <sign@brackwater.example>"
	real, fake := pgptest.Simple("real", pgptest.Ed25519, born, id), pgptest.Simple("fake", pgptest.Ed25519, born, id)
	write("harbour/real.asc", real.Armored())
	write("harbour/broken", []byte{0x99, 0xff})
	write("lookalike/fake.pgp", fake.Bytes())
	server := httptest.NewServer(world.Handler(os.DirFS(t.TempDir()), os.DirFS(dir)))
	t.Cleanup(server.Close)
	at := func(name, below string, kind directories.Kind, domain string) directories.Directory {
		return directories.Directory{Name: name, Kind: kind, URL: server.URL + below, Domain: domain}
	}
	all, err := directories.New([]directories.Directory{
		at("harbour", "/directories/harbour/", directories.HKP, ""),
		at("tired", "/tired", directories.HKP, ""),
		at("lookalike", "/directories/lookalike/", directories.HKP, ""),
		at("page", "/page", directories.HKP, ""),
		at("endless", "/endless", directories.HKP, ""),
		at("elsewhere", "/elsewhere", directories.HKP, ""),
		at("own", "/directories/harbour/wkd/", directories.WKD, "brackwater.example"),
		at("theirs", "/directories/harbour/wkd/", directories.WKD, "tidewright.example"),
		{Name: "dead", Kind: directories.HKP, URL: "http://127.0.0.1:1/"},
	}, outside.Limits{Bytes: 1 << 20, Time: 700 * time.Millisecond})
	require.NoError(t, err)
	ask := func(query string) (map[string]directories.Outcome, map[string]directories.Answer) {
		q, err := directories.ParseQuery(query)
		require.NoError(t, err)
		start := time.Now()
		answers, err := all.Ask(t.Context(), q)
		require.NoError(t, err)
		assert.Less(t, time.Since(start), 20*time.Second, "they are asked at once")
		require.Len(t, answers, 9)
		assert.Equal(t, "harbour", answers[0].Directory.Name, "in the order of the configuration")
		outcomes, by := map[string]directories.Outcome{}, map[string]directories.Answer{}
		for _, a := range answers {
			outcomes[a.Directory.Name], by[a.Directory.Name] = a.Outcome, a
		}
		return outcomes, by
	}
	same := map[string]directories.Outcome{
		"tired": "failed", "page": "failed", "endless": "failed", "elsewhere": "failed",
		"dead": "failed", "theirs": "not-asked",
	}
	results := func(more map[string]directories.Outcome) map[string]directories.Outcome {
		for k, v := range same {
			more[k] = v
		}
		return more
	}
	outcomes, by := ask("sign@brackwater.example")
	assert.Equal(
		t, results(map[string]directories.Outcome{"harbour": "found", "lookalike": "found", "own": "found"}), outcomes,
	)
	assert.EqualValues(t, real.Primary.Fingerprint(), by["harbour"].Certificates[0].Primary.Fingerprint)
	assert.EqualValues(t, real.Primary.Fingerprint(), by["own"].Certificates[0].Primary.Fingerprint)
	assert.EqualValues(t, fake.Primary.Fingerprint(), by["lookalike"].Certificates[0].Primary.Fingerprint)
	for name, says := range map[string]string{
		"page": "answered with a page", "endless": "sends more than", "elsewhere": "redirects to another place", "tired": "not there in full within 700ms", "dead": "refused",
	} {
		assert.Contains(t, by[name].Detail, says)
	}
	for _, query := range []string{real.Primary.Fingerprint(), real.Primary.Fingerprint()[24:], "0x" + real.Primary.Fingerprint()} {
		outcomes, _ = ask(query)
		assert.Equal(
			t, results(map[string]directories.Outcome{"harbour": "found", "lookalike": "absent", "own": "not-asked"}),
			outcomes,
		)
	}
	outcomes, _ = ask("nobody@brackwater.example")
	assert.Equal(t, directories.Absent, outcomes["harbour"])
}

// TestAnotherKeyThanAsked is dropped and told by its fingerprint.
func TestAnotherKeyThanAsked(t *testing.T) {
	t.Parallel()
	a, b := pgptest.Simple("asked", pgptest.Ed25519, born, "A"), pgptest.Simple("given", pgptest.Ed25519, born, "B")
	for name, c := range map[string]struct {
		sends   []byte
		outcome directories.Outcome
		says    string
	}{
		"another key": {b.Bytes(), directories.Other, "another key than was asked for"},
		"both":        {append(a.Bytes(), b.Bytes()...), directories.Found, "1 keys that were not asked for"},
		"a secret":    {a.Secret(), directories.Failed, "a secret key"},
		"rubbish":     {[]byte("hello"), directories.Failed, "no key that can be read"},
		"nothing":     {nil, directories.Failed, "no key that can be read"},
		"version 2":   {pgptest.Packet(6, []byte{2, 0, 0, 0, 0, 0, 0, 1}), directories.Failed, "cannot be used"},
	} {
		server := httptest.NewServer(fixed(c.sends))
		d, err := directories.New(
			[]directories.Directory{{Name: "one", Kind: directories.HKP, URL: server.URL}}, outside.Limits{},
		)
		require.NoError(t, err)
		q, err := directories.ParseQuery(a.Primary.Fingerprint())
		require.NoError(t, err)
		answers, err := d.Ask(t.Context(), q)
		require.NoError(t, err)
		assert.Equal(t, c.outcome, answers[0].Outcome, name)
		assert.Contains(t, answers[0].Detail, c.says, name)
		server.Close()
	}
}

func TestConfigurationAndQueries(t *testing.T) {
	for _, bad := range []directories.Directory{
		{Name: "a", Kind: "ldap", URL: "http://a.example/"},
		{Name: "b", Kind: directories.HKP, URL: "ftp://b.example"},
		{Name: "c", Kind: directories.WKD, URL: "http://c.example/"},
		{Name: "d", Kind: directories.HKP, URL: "http://me:pw@d.example/"},
	} {
		_, err := directories.New([]directories.Directory{bad}, outside.Limits{})
		assert.ErrorContains(t, err, "directory "+bad.Name)
	}
	for _, bad := range []string{"", "97965A9A", "a b@c", "@x", "x@", "zz", "a@b@c", "12345678901234567", "x@y?z"} {
		_, err := directories.ParseQuery(bad)
		assert.Error(t, err, bad)
	}
	// The example of the Web Key Directory's specification.
	assert.Equal(t, "iy9q119eutrkn8s1mk4r39qejnbu3n5q", directories.HashedAddress("Joe.Doe"))
}

// fixed answers everything with the same.
type fixed []byte

func (f fixed) ServeHTTP(w http.ResponseWriter, _ *http.Request) {
	w.Write(f)
}
