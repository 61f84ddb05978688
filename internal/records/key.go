package records

import (
	"context"
	"crypto/ed25519"
	"crypto/hkdf"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/mod/sumdb/note"

	"endeixis/internal/fault"
	"endeixis/internal/store"
	"endeixis/internal/wholefile"
)

// Init makes the signing key of a new installation: the secret half in a file,
// the public half in the database. When both are there it does nothing; when
// only one is, it refuses, for a new key would not fit the old checkpoints.
func (s *Service) Init(ctx context.Context, keyFile, name string) (created bool, err error) {
	_, statErr := os.Stat(keyFile)
	stored, err := s.store.ServiceKey(ctx)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return false, err
	}
	inDatabase := err == nil
	switch {
	case inDatabase && statErr == nil:
		return false, s.LoadKey(ctx, keyFile)
	case inDatabase:
		return false, fault.New(fault.Conflict, "key-file-missing", "The database knows the service's key %s, and the file %s is not there.", stored.PublicKey, keyFile).
			Advise("Restore the file from your backup, or set ledger.key_file to where it is.")
	case statErr == nil:
		return false, fault.New(fault.Conflict, "key-file-stray", "The file %s holds a key that this database does not know.", keyFile).
			Advise("Set ledger.key_file to a new place, or database.url to the database that belongs to the key.")
	}
	secret, public, err := note.GenerateKey(rand.Reader, name)
	if err != nil {
		return false, err
	}
	if err := os.MkdirAll(filepath.Dir(keyFile), 0o700); err != nil {
		return false, err
	}
	if err := writeSecret(keyFile, secret+"\n"); err != nil {
		return false, err
	}
	err = s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		return tx.SetServiceKey(ctx, store.ServiceKey{PublicKey: public, Origin: originOf(name), CreatedAt: s.now()})
	})
	if err != nil {
		os.Remove(keyFile)
		return false, err
	}
	return true, s.LoadKey(ctx, keyFile)
}

// writeSecret writes a new file that only its owner may read, and has it on the disk: the database
// is not to know a key whose file a power cut takes away.
func writeSecret(path, text string) error {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = f.WriteString(text)
	if err = errors.Join(err, f.Sync(), f.Close(), wholefile.SyncFolder(filepath.Dir(path))); err != nil {
		os.Remove(path)
	}
	return err
}

// stored reads what the database knows of the key.
func (s *Service) stored(ctx context.Context) (store.ServiceKey, error) {
	stored, err := s.store.ServiceKey(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return stored, fault.New(fault.Conflict, "not-initialised", "This database has no administrator and no signing key yet.").Advise("Run “endeixisd init” once.")
	}
	return stored, err
}

// A keyFile is what the file of a ledger's key holds: the secret, and the public keys that it
// follows.
type keyFile struct {
	secret   string
	public   string
	signer   note.Signer
	verifier note.Verifier
	retired  []note.Verifier
	private  ed25519.PrivateKey
	// lines are those of the keys that it follows.
	lines []string
}

// retiredPrefix begins the line of a key that was followed.
const retiredPrefix = "retired "

// parseKey reads the text of a key file. The public key comes from the secret one, for nothing
// else is to be believed.
func parseKey(text string) (keyFile, error) {
	var out keyFile
	lines := strings.Split(strings.TrimRight(text, "\n"), "\n")
	out.secret = lines[0]
	var err error
	if out.signer, err = note.NewSigner(out.secret); err != nil {
		return out, err
	}
	parts := strings.SplitN(out.secret, "+", 5)
	seed, err := base64.StdEncoding.DecodeString(parts[len(parts)-1])
	if err != nil || len(seed) != 1+ed25519.SeedSize {
		return out, errors.New("it is no Ed25519 key")
	}
	public, ok := ed25519.NewKeyFromSeed(seed[1:]).Public().(ed25519.PublicKey)
	if !ok {
		return out, errors.New("it is no Ed25519 key")
	}
	out.private = ed25519.NewKeyFromSeed(seed[1:])
	if out.public, err = note.NewEd25519VerifierKey(out.signer.Name(), public); err != nil {
		return out, err
	}
	if out.verifier, err = note.NewVerifier(out.public); err != nil {
		return out, err
	}
	for _, line := range lines[1:] {
		key, ok := strings.CutPrefix(line, retiredPrefix)
		verifier, err := note.NewVerifier(key)
		if !ok || err != nil {
			return out, fmt.Errorf("%q is not the line of a key that it follows", line)
		}
		out.retired, out.lines = append(out.retired, verifier), append(out.lines, line)
	}
	return out, nil
}

// LoadKey reads the signing key and holds it against the database.
func (s *Service) LoadKey(ctx context.Context, path string) error {
	stored, err := s.stored(ctx)
	if err != nil {
		return err
	}
	if err := s.finishRotation(path, stored.PublicKey); err != nil {
		return err
	}
	content, err := os.ReadFile(path)
	if err != nil {
		return fmt.Errorf("reading the signing key: %w; restore it from your backup, or set ledger.key_file", err)
	}
	key, err := parseKey(string(content))
	if err != nil {
		return fmt.Errorf("the signing key in %s cannot be read: %w", path, err)
	}
	if key.public != stored.PublicKey {
		return fmt.Errorf("the signing key in %s, %s, is not the one that this database has (%s)", path, key.public, stored.PublicKey)
	}
	return s.use(path, key)
}

// use has the service sign with a key.
func (s *Service) use(path string, key keyFile) error {
	writers, err := derive([]byte(key.secret), writersPurpose)
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.signer, s.verifier, s.public, s.origin, s.secret = key.signer, key.verifier, key.public, originOf(key.signer.Name()), []byte(key.secret)
	s.keys, s.private = append([]note.Verifier{key.verifier}, key.retired...), key.private
	s.checkpointFile, s.auditFile, s.writers = checkpointOf(path), auditOf(path), writers
	return nil
}

// originOf names the ledger of a key in its checkpoints.
func originOf(name string) string { return name + "/ledger" }

// writersPurpose is that of the key by which records are sealed.
const writersPurpose = "writers of records"

// writersKey returns the key by which records are sealed, or nil in a process that has none.
func (s *Service) writersKey() []byte {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.writers
}

// writersPrefix begins the text of a writers' key.
const writersPrefix = "endeixis-writers-key-1 "

// ledgerPrefix begins the line of a public key of the ledger.
const ledgerPrefix = "ledger "

// WritersKey returns the text of the key by which records are sealed, and the ledger's public
// keys, for the file of a host that works on batches and signs nothing.
func (s *Service) WritersKey() (string, error) {
	key, err := s.Derive(writersPurpose)
	if err != nil {
		return "", err
	}
	content, err := os.ReadFile(strings.TrimSuffix(s.checkpointFile, checkpointOf("")))
	if err != nil {
		return "", err
	}
	file, err := parseKey(string(content))
	out := writersPrefix + hex.EncodeToString(key) + "\n" + ledgerPrefix + file.public
	for _, line := range file.lines {
		out += "\n" + ledgerPrefix + strings.TrimPrefix(line, retiredPrefix)
	}
	return out, err
}

// LoadWritersKey reads a file that holds what [Service.WritersKey] returns, for a process that
// signs nothing.
func (s *Service) LoadWritersKey(path string) error {
	text, err := os.ReadFile(path)
	if err != nil {
		return fmt.Errorf("reading the key by which records are sealed: %w", err)
	}
	bad := fault.New(fault.Invalid, "bad-writers-key", "The file %s holds no key by which records are sealed.", path).
		Advise("“endeixisd writers-key”, on the service's host, prints it.")
	lines := strings.Split(strings.TrimSpace(string(text)), "\n")
	digits, ok := strings.CutPrefix(lines[0], writersPrefix)
	key, err := hex.DecodeString(digits)
	if !ok || err != nil || len(key) != sha256.Size || len(lines) < 2 {
		return bad
	}
	var keys []note.Verifier
	for _, line := range lines[1:] {
		public, ok := strings.CutPrefix(line, ledgerPrefix)
		verifier, err := note.NewVerifier(public)
		if !ok || err != nil {
			return bad
		}
		keys = append(keys, verifier)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.writers, s.keys, s.verifier, s.public = key, keys, keys[0], strings.TrimPrefix(lines[1], ledgerPrefix)
	return nil
}

// Derive returns a key for a purpose, by HKDF (RFC 5869) from the ledger's key: whoever has
// the database and not the host's file does not have it. It fails in a process that was given
// no key to sign with.
func (s *Service) Derive(purpose string) ([]byte, error) {
	s.mu.Lock()
	secret := s.secret
	s.mu.Unlock()
	if secret == nil {
		return nil, errors.New("this process has no key of the ledger")
	}
	return derive(secret, purpose)
}

func derive(secret []byte, purpose string) ([]byte, error) {
	return hkdf.Key(sha256.New, secret, nil, "endeixis "+purpose, sha256.Size)
}

// SignEnvelope signs what an envelope has signed (DSSE, its pre-authentication encoding) with the
// ledger's key, and names that as its public key begins. Such bytes are no note: none of the
// ledger's own texts can be made of them.
func (s *Service) SignEnvelope(data []byte) (signature []byte, key string, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.private == nil {
		return nil, "", errors.New("this process has no key to sign with")
	}
	return ed25519.Sign(s.private, data), fmt.Sprintf("%s+%08x", s.verifier.Name(), s.verifier.KeyHash()), nil
}

// Seal returns what signs and what verifies with the service's key. It fails in a process
// that has no key to sign with.
func (s *Service) Seal() (note.Signer, note.Verifier, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.signer == nil {
		return nil, nil, errors.New("this process has no key to sign with")
	}
	return s.signer, s.verifier, nil
}

// Keys returns the keys by which receipts and checkpoints of this ledger are verified, the present
// one first: they come from files of this host.
func (s *Service) Keys(context.Context) ([]note.Verifier, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.keys) == 0 {
		return nil, errors.New("this process has no key of the ledger")
	}
	return s.keys, nil
}

// known are those keys.
func (s *Service) known() note.Verifiers {
	s.mu.Lock()
	defer s.mu.Unlock()
	return note.VerifierList(s.keys...)
}

// PublicKey returns the key by which anyone can verify receipts.
func (s *Service) PublicKey() string { return s.public }
