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
		return false, fault.New(
			fault.Conflict, fault.KeyFileMissing,
			"The database knows the service's key %s, and the file %s is not there.", stored.PublicKey, keyFile,
		).
			Advise("Restore the file from your backup, or set ledger.key_file to where it is.")
	case statErr == nil:
		return false, fault.New(
			fault.Conflict, fault.KeyFileStray, "The file %s holds a key that this database does not know.", keyFile,
		).
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
		return stored, fault.New(
			fault.Conflict, fault.NotInitialised, "This database has no administrator and no signing key yet.",
		).
			Advise("Run “endeixisd init” once.")
	}
	return stored, err
}

// A ledgerKey is the key of a ledger, and those that it has followed. A process that signs nothing
// has the public halves alone.
type ledgerKey struct {
	// secret is the text of the signing key, from which others are derived.
	secret  string
	signer  note.Signer
	private ed25519.PrivateKey
	// public are the texts of the public keys, the present one first, and verifiers verify by them.
	public    []string
	verifiers []note.Verifier
}

// know adds the public key that a text has behind a prefix.
func (k *ledgerKey) know(text, prefix string) error {
	public, ok := strings.CutPrefix(text, prefix)
	verifier, err := note.NewVerifier(public)
	if !ok || err != nil {
		return fmt.Errorf("%q is not the line of a key of the ledger", text)
	}
	k.public, k.verifiers = append(k.public, public), append(k.verifiers, verifier)
	return nil
}

// retiredPrefix begins the line of a key that was followed.
const retiredPrefix = "retired "

// file is the text of the key's file.
func (k *ledgerKey) file() string {
	out := k.secret + "\n"
	for _, followed := range k.public[1:] {
		out += retiredPrefix + followed + "\n"
	}
	return out
}

// parseKey reads the text of a key file. The public key comes from the secret one, for nothing
// else is to be believed.
func parseKey(text string) (ledgerKey, error) {
	var out ledgerKey
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
	out.private = ed25519.NewKeyFromSeed(seed[1:])
	public, err := note.NewEd25519VerifierKey(out.signer.Name(), ed25519.PublicKey(out.private[ed25519.SeedSize:]))
	if err == nil {
		err = out.know(public, "")
	}
	for _, line := range lines[1:] {
		err = errors.Join(err, out.know(line, retiredPrefix))
	}
	return out, err
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
	if key.public[0] != stored.PublicKey {
		return fmt.Errorf(
			"the signing key in %s, %s, is not the one that this database has (%s)", path, key.public[0],
			stored.PublicKey,
		)
	}
	return s.use(path, key)
}

// use has the service sign with a key.
func (s *Service) use(path string, key ledgerKey) error {
	writers, err := derive([]byte(key.secret), writersPurpose)
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.key, s.writers = key, writers
	s.checkpointFile, s.auditFile = checkpointOf(path), auditOf(path)
	return nil
}

// present is the key in use.
func (s *Service) present() ledgerKey {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.key
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
	out := writersPrefix + hex.EncodeToString(key)
	for _, public := range s.present().public {
		out += "\n" + ledgerPrefix + public
	}
	return out, nil
}

// LoadWritersKey reads a file that holds what [Service.WritersKey] returns, for a process that
// signs nothing.
func (s *Service) LoadWritersKey(path string) error {
	text, err := os.ReadFile(path)
	if err != nil {
		return fmt.Errorf("reading the key by which records are sealed: %w", err)
	}
	bad := fault.New(fault.Invalid, fault.BadWritersKey, "The file %s holds no key by which records are sealed.", path).
		Advise("“endeixisd writers-key”, on the service's host, prints it.")
	lines := strings.Split(strings.TrimSpace(string(text)), "\n")
	digits, ok := strings.CutPrefix(lines[0], writersPrefix)
	key, err := hex.DecodeString(digits)
	if !ok || err != nil || len(key) != sha256.Size || len(lines) < 2 {
		return bad
	}
	var known ledgerKey
	for _, line := range lines[1:] {
		if known.know(line, ledgerPrefix) != nil {
			return bad
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.writers, s.key = key, known
	return nil
}

// Derive returns a key for a purpose, by HKDF (RFC 5869) from the ledger's key: whoever has
// the database and not the host's file does not have it. It fails in a process that was given
// no key to sign with.
func (s *Service) Derive(purpose string) ([]byte, error) {
	secret := s.present().secret
	if secret == "" {
		return nil, errors.New("this process has no key of the ledger")
	}
	return derive([]byte(secret), purpose)
}

func derive(secret []byte, purpose string) ([]byte, error) {
	return hkdf.Key(sha256.New, secret, nil, "endeixis "+purpose, sha256.Size)
}

// SignEnvelope signs what an envelope has signed (DSSE, its pre-authentication encoding) with the
// ledger's key, and names that as its public key begins. Such bytes are no note: none of the
// ledger's own texts can be made of them.
func (s *Service) SignEnvelope(data []byte) (signature []byte, key string, err error) {
	k := s.present()
	if k.signer == nil {
		return nil, "", errUnsigning
	}
	return ed25519.Sign(k.private, data), fmt.Sprintf("%s+%08x", k.signer.Name(), k.signer.KeyHash()), nil
}

var errUnsigning = errors.New("this process has no key to sign with")

// Seal returns what signs and what verifies with the service's key. It fails in a process
// that has no key to sign with.
func (s *Service) Seal() (note.Signer, note.Verifier, error) {
	k := s.present()
	if k.signer == nil {
		return nil, nil, errUnsigning
	}
	return k.signer, k.verifiers[0], nil
}

// Keys returns the keys by which receipts and checkpoints of this ledger are verified, the present
// one first: they come from files of this host.
func (s *Service) Keys() ([]note.Verifier, error) {
	if k := s.present(); len(k.verifiers) > 0 {
		return k.verifiers, nil
	}
	return nil, errors.New("this process has no key of the ledger")
}

// known are those keys.
func (s *Service) known() note.Verifiers { return note.VerifierList(s.present().verifiers...) }

// PublicKey returns the key by which anyone can verify receipts, or nothing.
func (s *Service) PublicKey() string {
	if k := s.present(); len(k.public) > 0 {
		return k.public[0]
	}
	return ""
}
