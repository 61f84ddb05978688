// Package witness countersigns checkpoints of ledgers that only ever grow, by the open protocol
// tlog-witness (c2sp.org/tlog-witness), and asks for that. A ledger that is shown to a witness
// cannot be shown otherwise to anybody who asks for the witness's countersignature.
package witness

import (
	"bufio"
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/x509"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"endeixis/internal/wholefile"

	"filippo.io/torchwood"
	"golang.org/x/mod/sumdb/note"
	"golang.org/x/mod/sumdb/tlog"
)

// maxRequest bounds what a ledger sends, in bytes.
const maxRequest = 64 << 10

// AddCheckpoint is the path below a witness's address, and sizeType the type of an answer that is
// the size of the tree that it has seen.
const (
	AddCheckpoint = "/add-checkpoint"
	sizeType      = "text/x.tlog.size"
)

// A Witness countersigns. It is an [http.Handler].
type Witness struct {
	signer *torchwood.CosignatureSigner
	// logs are the keys of each ledger, by its origin.
	logs map[string][]note.Verifier
	dir  string
	mu   sync.Mutex // one after another: what was seen last is read, compared and written
}

// New returns a witness that keeps in a folder what it has seen, with its key. The key is made
// where there is none. logs are the public keys of the ledgers that it countersigns; one that has
// followed another is given beside that.
func New(dir, name string, logs []string) (*Witness, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	key, err := keyIn(filepath.Join(dir, "witness.key"))
	if err != nil {
		return nil, err
	}
	signer, err := torchwood.NewCosignatureSigner(name, key)
	if err != nil {
		return nil, fmt.Errorf("%q is not a name for a witness: %w", name, err)
	}
	w := &Witness{signer: signer, logs: map[string][]note.Verifier{}, dir: dir}
	for _, text := range logs {
		verifier, err := note.NewVerifier(text)
		if err != nil {
			return nil, fmt.Errorf("%q is not the public key of a ledger: %w", text, err)
		}
		origin := verifier.Name() + "/ledger"
		w.logs[origin] = append(w.logs[origin], verifier)
	}
	return w, nil
}

// keyIn reads a key, or makes one.
func keyIn(path string) (ed25519.PrivateKey, error) {
	text, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		_, key, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			return nil, err
		}
		der, err := x509.MarshalPKCS8PrivateKey(key)
		if err != nil {
			return nil, err
		}
		return key, os.WriteFile(path, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), 0o600)
	}
	if err != nil {
		return nil, err
	}
	block, _ := pem.Decode(text)
	if block == nil {
		return nil, fmt.Errorf("%s holds no key", path)
	}
	parsed, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	key, ok := parsed.(ed25519.PrivateKey)
	if err != nil || !ok {
		return nil, fmt.Errorf("%s holds no Ed25519 key", path)
	}
	return key, nil
}

// Key is the public key by which countersignatures are verified.
func (w *Witness) Key() string { return w.signer.Verifier().String() }

// A refusal is an answer that is no countersignature.
type refusal struct {
	status int
	text   string
	// size is told with a conflict.
	size int64
}

func (r *refusal) Error() string { return r.text }

// ServeHTTP answers add-checkpoint.
func (w *Witness) ServeHTTP(out http.ResponseWriter, in *http.Request) {
	if in.URL.Path != AddCheckpoint || in.Method != http.MethodPost {
		http.Error(out, "a witness answers POST "+AddCheckpoint, http.StatusNotFound)
		return
	}
	body, err := io.ReadAll(http.MaxBytesReader(out, in.Body, maxRequest))
	if err != nil {
		http.Error(out, "the request is too long", http.StatusRequestEntityTooLarge)
		return
	}
	line, err := w.countersign(body)
	refused := (*refusal)(nil)
	switch {
	case errors.As(err, &refused) && refused.status == http.StatusConflict:
		out.Header().Set("Content-Type", sizeType)
		out.WriteHeader(http.StatusConflict)
		fmt.Fprintf(out, "%d\n", refused.size)
	case errors.As(err, &refused):
		http.Error(out, refused.text, refused.status)
	case err != nil:
		http.Error(out, "what was seen cannot be kept: "+err.Error(), http.StatusInternalServerError)
	default:
		out.Header().Set("Content-Type", "text/plain; charset=utf-8")
		io.WriteString(out, line) //nolint:errcheck // the other side is gone
	}
}

// countersign reads a request, and returns the line of a countersignature when the checkpoint in
// it goes on from what was seen before.
func (w *Witness) countersign(body []byte) (string, error) {
	old, proof, signed, err := parse(body)
	if err != nil {
		return "", &refusal{status: http.StatusBadRequest, text: err.Error()}
	}
	origin, _, _ := strings.Cut(signed, "\n")
	known, ok := w.logs[origin]
	if !ok {
		return "", &refusal{status: http.StatusNotFound, text: "this witness does not know that ledger"}
	}
	n, err := note.Open([]byte(signed), note.VerifierList(known...))
	if err != nil {
		return "", &refusal{status: http.StatusForbidden, text: "the checkpoint is not signed by the ledger's key"}
	}
	c, err := torchwood.ParseCheckpoint(n.Text)
	if err != nil {
		return "", &refusal{status: http.StatusBadRequest, text: "that is no checkpoint: " + err.Error()}
	}
	if old > c.N {
		return "", &refusal{status: http.StatusBadRequest, text: "the old size is greater than that of the checkpoint"}
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	seen, err := w.seen(origin)
	if err != nil {
		return "", err
	}
	switch {
	case old != seen.N, c.N == seen.N && c.Hash != seen.Hash && c.N > 0:
		return "", &refusal{status: http.StatusConflict, text: "another size was seen", size: seen.N}
	case seen.N > 0 && c.N > seen.N:
		if tlog.CheckTree(proof, c.N, c.Hash, seen.N, seen.Hash) != nil {
			return "", &refusal{
				status: http.StatusUnprocessableEntity, text: "the checkpoint does not go on from what was seen",
			}
		}
	case len(proof) > 0:
		return "", &refusal{status: http.StatusUnprocessableEntity, text: "there is nothing to prove"}
	}
	// It is kept before it is countersigned.
	if err := wholefile.Write(w.fileOf(origin), n.Text); err != nil {
		return "", err
	}
	whole, err := note.Sign(&note.Note{Text: n.Text}, w.signer)
	if err != nil {
		return "", err
	}
	return strings.TrimPrefix(string(whole), n.Text+"\n"), nil
}

// parse reads the lines of a request: the old size, a proof, and the checkpoint.
func parse(body []byte) (old int64, proof tlog.TreeProof, signed string, err error) {
	head, signed, ok := strings.Cut(string(body), "\n\n")
	lines := strings.Split(head, "\n")
	number, isOld := strings.CutPrefix(lines[0], "old ")
	old, err = strconv.ParseInt(number, 10, 64)
	if !ok || !isOld || err != nil || old < 0 || strconv.FormatInt(old, 10) != number || len(lines) > 64 {
		return 0, nil, "", errors.New("the request has not the form of tlog-witness")
	}
	for _, line := range lines[1:] {
		hash, err := tlog.ParseHash(line)
		if err != nil {
			return 0, nil, "", errors.New("a line of the proof is no hash")
		}
		proof = append(proof, hash)
	}
	return old, proof, signed, nil
}

// fileOf names where is kept what was seen of a ledger.
func (w *Witness) fileOf(origin string) string {
	return filepath.Join(w.dir, hex.EncodeToString([]byte(origin))+".checkpoint")
}

func (w *Witness) seen(origin string) (torchwood.Checkpoint, error) {
	text, err := os.ReadFile(w.fileOf(origin))
	if errors.Is(err, os.ErrNotExist) {
		return torchwood.Checkpoint{}, nil
	}
	if err != nil {
		return torchwood.Checkpoint{}, err
	}
	return torchwood.ParseCheckpoint(string(text))
}

// A Place is a witness that a ledger asks.
type Place struct {
	// URL is the address below which add-checkpoint lies, and Key the witness's public key.
	URL string
	Key string
}

// An Asker asks one witness, and remembers how far that has seen.
type Asker struct {
	place    Place
	verifier *torchwood.CosignatureVerifier
	http     *http.Client
	mu       sync.Mutex
	seen     int64
}

// NewAsker returns an [Asker].
func NewAsker(p Place) (*Asker, error) {
	verifier, err := torchwood.NewCosignatureVerifier(p.Key)
	if err != nil {
		return nil, fmt.Errorf("%q is not the public key of a witness: %w", p.Key, err)
	}
	client := &http.Client{
		Timeout:       15 * time.Second,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	return &Asker{place: p, verifier: verifier, http: client}, nil
}

// Name is that of the witness.
func (a *Asker) Name() string { return a.verifier.Name() }

// A ConflictError reports that a witness has seen a tree that the ledger is not: a larger one, or
// one that it does not go on from.
type ConflictError struct {
	Witness string
	Seen    int64
	Why     string
}

// Error says so.
func (e *ConflictError) Error() string {
	return fmt.Sprintf("the witness %s has seen %d records of this ledger, and %s", e.Witness, e.Seen, e.Why)
}

// Ask sends a signed checkpoint of a size, and returns the line of the countersignature. prove
// returns the consistency proof from an older size. It returns a [*ConflictError] where the
// witness has seen another ledger.
func (a *Asker) Ask(
	ctx context.Context, size int64, signed string, prove func(older int64) ([]string, error),
) (string, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for range 2 {
		proof, err := prove(a.seen)
		if err != nil {
			return "", err
		}
		status, answer, err := a.post(ctx, a.seen, proof, signed)
		if err != nil {
			return "", err
		}
		switch status {
		case http.StatusOK:
			if _, err := note.Open([]byte(signed+answer), note.VerifierList(a.verifier)); err != nil {
				return "", fmt.Errorf("the witness %s answered with a countersignature that does not hold", a.Name())
			}
			a.seen = size
			return answer, nil
		case http.StatusConflict:
			seen, err := strconv.ParseInt(strings.TrimSpace(answer), 10, 64)
			if err != nil || seen < 0 {
				return "", fmt.Errorf("the witness %s answered with a size that is none", a.Name())
			}
			if seen > size {
				return "", &ConflictError{a.Name(), seen, fmt.Sprintf("it has %d", size)}
			}
			if seen == a.seen {
				return "", &ConflictError{a.Name(), seen, "they are others"}
			}
			a.seen = seen
		case http.StatusUnprocessableEntity:
			return "", &ConflictError{a.Name(), a.seen, "it does not go on from them"}
		default:
			return "", fmt.Errorf("the witness %s answered %d: %s", a.Name(), status, firstLine(answer))
		}
	}
	return "", fmt.Errorf("the witness %s does not say how much it has seen", a.Name())
}

func firstLine(text string) string {
	line, _, _ := strings.Cut(text, "\n")
	return line[:min(len(line), 200)]
}

func (a *Asker) post(
	ctx context.Context, old int64, proof []string, signed string,
) (status int, answer string, err error) {
	var body bytes.Buffer
	fmt.Fprintf(&body, "old %d\n", old)
	for _, hash := range proof {
		body.WriteString(hash + "\n")
	}
	body.WriteString("\n" + signed)
	request, err := http.NewRequestWithContext(
		ctx, http.MethodPost, strings.TrimSuffix(a.place.URL, "/")+AddCheckpoint, &body,
	)
	if err != nil {
		return 0, "", err
	}
	response, err := a.http.Do(request)
	if err != nil {
		return 0, "", fmt.Errorf("the witness %s cannot be reached: %w", a.Name(), err)
	}
	defer response.Body.Close()
	text, err := io.ReadAll(bufio.NewReader(io.LimitReader(response.Body, maxRequest)))
	return response.StatusCode, string(text), err
}
