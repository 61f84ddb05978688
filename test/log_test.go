package test

import (
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"filippo.io/torchwood"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/mod/sumdb/note"

	"endeixis/core/ledger"
	"endeixis/internal/config"
	"endeixis/internal/roles"
	"endeixis/internal/testkit"
	"endeixis/internal/witness"
)

// TestTheLedgerAsTiles: a client of such logs that is not ours reads checkpoint, hashes and
// records, and proves each of them.
func TestTheLedgerAsTiles(t *testing.T) {
	t.Parallel()
	c := testkit.Prepare(t)
	c.Ledger.Open = true
	s := testkit.StartWith(t, c)
	files := map[string][]byte{}
	for i := range 250 { // more than one tile
		files[fmt.Sprintf("%d.img", i)] = []byte{byte(i)}
	}
	verified(t, s, s.Write(t, "many", files))
	verifier, err := note.NewVerifier(s.PublicKey)
	require.NoError(t, err)
	code, signed := get(t, s.URL+"/log/checkpoint")
	require.Equal(t, http.StatusOK, code)
	opened, err := note.Open([]byte(signed), note.VerifierList(verifier))
	require.NoError(t, err)
	checkpoint, err := torchwood.ParseCheckpoint(opened.Text)
	require.NoError(t, err)
	assert.Equal(t, "verify.skerrow.example/ledger", checkpoint.Origin)
	require.Greater(t, checkpoint.N, int64(256))

	token := s.Token(t, roles.Auditor)
	fetcher, err := torchwood.NewTileFetcher(
		s.URL+"/log/", torchwood.WithHTTPClient(&http.Client{Transport: signedIn(token)}),
	)
	require.NoError(t, err)
	reader, err := torchwood.NewClient(fetcher)
	require.NoError(t, err)
	n := int64(0)
	for i, entry := range reader.AllEntries(t.Context(), checkpoint.Tree, 0) {
		assert.Equal(t, n, i)
		var body struct{ Kind string }
		require.NoError(t, json.Unmarshal(entry, &body))
		assert.NotEmpty(t, body.Kind)
		n++
	}
	require.NoError(t, reader.Err(), "every record has its hash in the tree of the checkpoint")
	assert.Equal(t, checkpoint.N, n)

	for path, want := range map[string]int{
		"checkpoint": 200, "tile/0/000": 200, "tile/0/001.p/3": 200, "tile/1/000.p/1": 200,
		"tile/entries/000": 401, "tile/0/001": 404, "tile/0/001.p/255": 404, "tile/0/999": 404, "tile/0/000.p/256": 404, "tile/9/000": 404, "tile/0/0": 404,
		"tile/0/x999/x999/x999/x999/x999/x999/999": 404, "tile/5/x999/x999/999": 404, "": 404, "tile/../checkpoint": 404, "tile/-1/000": 404, "tile/0/000.p/0": 404,
	} {
		request, err := http.NewRequestWithContext(t.Context(), http.MethodGet, s.URL, nil)
		require.NoError(t, err)
		request.URL.Path = "/log/" + path
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		response.Body.Close()
		assert.Equal(t, want, response.StatusCode, path)
	}
	// Elsewhere nothing of it is shown to strangers.
	closed := testkit.StartBare(t)
	code, _ = get(t, closed.URL+"/log/checkpoint")
	assert.Equal(t, http.StatusUnauthorized, code)
	code, _ = get(t, closed.URL+"/log/tile/0/000.p/1")
	assert.Equal(t, http.StatusUnauthorized, code)
}

// signedIn sends a token with every request.
type signedIn string

// RoundTrip sends it.
func (s signedIn) RoundTrip(r *http.Request) (*http.Response, error) {
	r = r.Clone(r.Context())
	r.Header.Set("Authorization", "Bearer "+string(s))
	return http.DefaultTransport.RoundTrip(r)
}

// TestWitness: a second host countersigns checkpoints; a receipt carries that, and who asks for it
// refuses one without. The witness signs nothing that does not go on from what it has seen.
func TestWitness(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	begun, err := witness.New(dir, "witness.corran.example", nil)
	require.NoError(t, err)
	var answers atomic.Pointer[http.HandlerFunc]
	by := func(h http.HandlerFunc) { answers.Store(&h) }
	by(begun.ServeHTTP)
	server := httptest.NewServer(
		http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { (*answers.Load())(w, r) }),
	)
	t.Cleanup(server.Close)
	c := testkit.Prepare(t)
	c.Ledger.Witnesses = []config.Witness{{URL: server.URL, Key: begun.Key()}}
	s := testkit.StartWith(t, c)
	receipt := filepath.Join(t.TempDir(), "receipt.json")
	check := func(args ...string) ran {
		return endeixis(
			t,
			s,
			"auditor",
			append([]string{"record", "verify-receipt", receipt, "--public-key", s.PublicKey}, args...)...)
	}
	take := func() {
		t.Helper()
		_ = os.Remove(receipt)
		r := endeixis(t, s, "auditor", "record", "receipt", "5", "--file", receipt)
		require.Zero(t, r.code, r.out+r.err)
	}
	verified(t, s, "quayside:tidewright/gauge-fw-4.2")
	take()
	assert.Zero(t, check().code)
	r := check("--witness", begun.Key())
	assert.Equal(t, 10, r.code, "it does not know the ledger yet")
	assert.Contains(t, r.err, "has not countersigned it")

	knowing, err := witness.New(dir, "witness.corran.example", []string{s.PublicKey})
	require.NoError(t, err)
	require.Equal(t, begun.Key(), knowing.Key(), "it is the same key")
	by(knowing.ServeHTTP)
	verified(t, s, "quayside:tidewright/gauge-fw-4.2")
	require.Eventually(t, func() bool {
		take()
		return check("--witness", knowing.Key()).code == 0
	}, 30*time.Second, 200*time.Millisecond)
	assert.Contains(t, check("--witness", knowing.Key()).out, "countersigned")
	stranger, err := witness.New(t.TempDir(), "witness.corran.example", nil)
	require.NoError(t, err)
	assert.Equal(t, 10, check("--witness", stranger.Key()).code)
	assert.Equal(t, 2, check("--witness", "x").code)
	audit := endeixis(t, s, "auditor", "record", "audit")
	assert.Zero(t, audit.code, audit.out+audit.err)

	// What goes to it by other hands.
	var parsed ledger.Receipt
	require.NoError(t, json.Unmarshal(read(t, receipt), &parsed))
	seen := read(t, filepath.Join(dir, hex.EncodeToString([]byte("verify.skerrow.example/ledger"))+".checkpoint"))
	post := func(body string) (int, string) {
		response, err := http.Post(
			server.URL+"/add-checkpoint", "text/plain", strings.NewReader(body),
		) //nolint:noctx // ends with the test
		require.NoError(t, err)
		defer response.Body.Close()
		text := make([]byte, 4096)
		n, _ := response.Body.Read(text)
		return response.StatusCode, string(text[:n])
	}
	size := strings.Split(string(seen), "\n")[1]
	body := parsed.Checkpoint
	for what, of := range map[string]struct {
		body string
		code int
	}{
		"an older size":          {"old 0\n\n" + body, http.StatusConflict},
		"no old size":            {"\n" + body, http.StatusBadRequest},
		"an old size of words":   {"old x\n\n" + body, http.StatusBadRequest},
		"another form of it":     {"old 0" + size + "\n\n" + body, http.StatusBadRequest},
		"a proof that is none":   {"old " + size + "\nAAAA\n\n" + body, http.StatusBadRequest},
		"another ledger":         {"old 0\n\n" + strings.ReplaceAll(body, "verify.skerrow.example/ledger", "verify.corran.example/ledger"), http.StatusNotFound},
		"a changed checkpoint":   {"old " + size + "\n\n" + strings.Replace(body, size, "9"+size, 1), http.StatusForbidden},
		"too much":               {"old 0\n" + strings.Repeat("A", 70<<10), http.StatusRequestEntityTooLarge},
		"nothing":                {"", http.StatusBadRequest},
		"a size greater than it": {"old 999999\n\n" + body, http.StatusBadRequest},
	} {
		code, text := post(of.body)
		assert.Equal(t, of.code, code, "%s: %s", what, text)
	}
	code, text := post("old 0\n\n" + body)
	assert.Equal(t, http.StatusConflict, code)
	assert.Equal(t, size+"\n", text)

	// A witness that is away, or answers rubbish, keeps nobody from working.
	by(func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("— x AAAA\n")) })
	b := verified(t, s, "quayside:tidewright/gauge-fw-4.2")
	assert.Equal(t, "cleared", *b.Verdict)
	take()
	assert.Zero(t, check("--witness", knowing.Key()).code, "the newest that was countersigned")
}

// TestAReceiptIsCheckedByOthers: the program in docs, in another language, and none of our code.
func TestAReceiptIsCheckedByOthers(t *testing.T) {
	t.Parallel()
	program := filepath.Join("..", "docs", "check-receipt.mjs")
	assert.LessOrEqual(t, strings.Count(string(read(t, program)), "\n"), 60)
	s := testkit.Start(t)
	b := verified(t, s, "quayside:tidewright/gauge-fw-4.2")
	require.Equal(t, "cleared", *b.Verdict)
	dir := t.TempDir()
	run := func(text []byte, key string) (int, string) {
		file := filepath.Join(dir, "receipt.json")
		require.NoError(t, os.WriteFile(file, text, 0o600))
		out, err := exec.CommandContext(t.Context(), "node", program, file, key).CombinedOutput()
		var exited *exec.ExitError
		if err != nil {
			require.ErrorAs(t, err, &exited)
			return exited.ExitCode(), string(out)
		}
		return 0, string(out)
	}
	c := s.Client(t, roles.Auditor)
	newest, err := c.Checkpoint(t.Context(), 0)
	require.NoError(t, err)
	for _, position := range []int64{0, 1, 5, newest.Size - 2, newest.Size - 1} {
		r, err := c.Receipt(t.Context(), position)
		require.NoError(t, err)
		whole, err := json.Marshal(r)
		require.NoError(t, err)
		code, out := run(whole, s.PublicKey)
		assert.Zero(t, code, out)
		for what, change := range map[string]func(*ledger.Receipt){
			"the record":       func(r *ledger.Receipt) { r.Record = strings.Replace(r.Record, `"kind"`, `"Kind"`, 1) },
			"its place":        func(r *ledger.Receipt) { r.Position ^= 1 },
			"a place beyond":   func(r *ledger.Receipt) { r.Position = 1 << 40 },
			"a place before":   func(r *ledger.Receipt) { r.Position = -1 },
			"a hash less":      func(r *ledger.Receipt) { r.Proof = r.Proof[1:] },
			"a hash more":      func(r *ledger.Receipt) { r.Proof = append(r.Proof, r.Proof[0]) },
			"another hash":     func(r *ledger.Receipt) { r.Proof = append([]string{strings.Repeat("A", 43) + "="}, r.Proof[1:]...) },
			"the checkpoint":   func(r *ledger.Receipt) { r.Checkpoint = strings.Replace(r.Checkpoint, "\n", "x\n", 1) },
			"no signature":     func(r *ledger.Receipt) { r.Checkpoint, _, _ = strings.Cut(r.Checkpoint, "\n\n") },
			"another format":   func(r *ledger.Receipt) { r.Format = "endeixis-receipt-9" },
			"an empty receipt": func(r *ledger.Receipt) { *r = ledger.Receipt{} },
		} {
			other := r
			other.Proof = append([]string{}, r.Proof...)
			change(&other)
			text, err := json.Marshal(other)
			require.NoError(t, err)
			code, out := run(text, s.PublicKey)
			assert.Equal(t, 10, code, "%d, %s: %s", position, what, out)
		}
	}
	r, err := c.Receipt(t.Context(), 3)
	require.NoError(t, err)
	whole, err := json.Marshal(r)
	require.NoError(t, err)
	_, other, err := note.GenerateKey(nil, "verify.skerrow.example")
	require.NoError(t, err)
	code, _ := run(whole, other)
	assert.Equal(t, 10, code, "another key")
	code, _ = run([]byte("{"), s.PublicKey)
	assert.Equal(t, 10, code, "no receipt")
}
