package records

import (
	"context"
	"crypto/hkdf"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/mod/sumdb/note"

	"endeixis/internal/fault"
	"endeixis/internal/store"
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
	f, err := os.OpenFile(keyFile, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return false, err
	}
	// The database is not to know a key whose file a power cut takes away.
	_, err = f.WriteString(secret + "\n")
	if err := errors.Join(err, f.Sync(), f.Close(), syncFolder(filepath.Dir(keyFile))); err != nil {
		os.Remove(keyFile)
		return false, err
	}
	err = s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		return tx.SetServiceKey(ctx, store.ServiceKey{PublicKey: public, Origin: name + "/ledger", CreatedAt: s.now()})
	})
	if err != nil {
		os.Remove(keyFile)
		return false, err
	}
	return true, s.LoadKey(ctx, keyFile)
}

// syncFolder has the names in a folder written to its disk.
func syncFolder(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}

// publicKey reads the public half of the signing key from the database.
func (s *Service) publicKey(ctx context.Context) (store.ServiceKey, note.Verifier, error) {
	stored, err := s.store.ServiceKey(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return stored, nil, fault.New(fault.Conflict, "not-initialised", "This database has no administrator and no signing key yet.").Advise("Run “endeixisd init” once.")
	}
	if err != nil {
		return stored, nil, err
	}
	verifier, err := note.NewVerifier(stored.PublicKey)
	if err != nil {
		return stored, nil, fmt.Errorf("the public key in the database cannot be read: %w", err)
	}
	return stored, verifier, nil
}

// LoadKey reads the signing key and holds it against the database.
func (s *Service) LoadKey(ctx context.Context, keyFile string) error {
	stored, verifier, err := s.publicKey(ctx)
	if err != nil {
		return err
	}
	content, err := os.ReadFile(keyFile)
	if err != nil {
		return fmt.Errorf("reading the signing key: %w; restore it from your backup, or set ledger.key_file", err)
	}
	if len(content) > 0 && content[len(content)-1] == '\n' {
		content = content[:len(content)-1]
	}
	signer, err := note.NewSigner(string(content))
	if err != nil {
		return fmt.Errorf("the signing key in %s cannot be read: %w", keyFile, err)
	}
	if signer.Name() != verifier.Name() || signer.KeyHash() != verifier.KeyHash() {
		return fmt.Errorf("the signing key in %s is not the one this database was set up with (%s)", keyFile, stored.PublicKey)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.signer, s.verifier, s.public, s.origin, s.secret = signer, verifier, stored.PublicKey, stored.Origin, content
	s.checkpointFile, s.auditFile = checkpointOf(keyFile), auditOf(keyFile)
	s.writers, err = derive(content, writersPurpose)
	return err
}

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

// WritersKey returns the text of the key by which records are sealed, for the file of a host
// that works on batches and signs nothing.
func (s *Service) WritersKey() (string, error) {
	key, err := s.Derive(writersPurpose)
	return writersPrefix + hex.EncodeToString(key), err
}

// LoadWritersKey reads a file that holds what [Service.WritersKey] returns, for a process that
// signs nothing.
func (s *Service) LoadWritersKey(path string) error {
	text, err := os.ReadFile(path)
	if err != nil {
		return fmt.Errorf("reading the key by which records are sealed: %w", err)
	}
	digits, ok := strings.CutPrefix(strings.TrimSpace(string(text)), writersPrefix)
	key, err := hex.DecodeString(digits)
	if !ok || err != nil || len(key) != sha256.Size {
		return fault.New(fault.Invalid, "bad-writers-key", "The file %s holds no key by which records are sealed.", path).
			Advise("“endeixisd writers-key”, on the service's host, prints it.")
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.writers = key
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

// LoadPublicKey reads the key by which checkpoints are verified, for a process
// that signs none.
func (s *Service) LoadPublicKey(ctx context.Context) error {
	stored, verifier, err := s.publicKey(ctx)
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.verifier, s.public, s.origin = verifier, stored.PublicKey, stored.Origin
	return nil
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

// Verifier returns the key by which receipts of this ledger are verified.
func (s *Service) Verifier(ctx context.Context) (note.Verifier, error) {
	s.mu.Lock()
	known := s.verifier
	s.mu.Unlock()
	if known != nil {
		return known, nil
	}
	_, verifier, err := s.publicKey(ctx)
	return verifier, err
}

// PublicKey returns the key by which anyone can verify receipts.
func (s *Service) PublicKey() string { return s.public }
