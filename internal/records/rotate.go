package records

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"

	"golang.org/x/mod/sumdb/note"

	"endeixis/core/ledger"
	"endeixis/internal/fault"
	"endeixis/internal/recorded"
	"endeixis/internal/store"
)

// nextOf names the file of a key that is to follow the one in a file, until it has, and endedOf
// that of a key that was followed.
func nextOf(path string) string  { return path + ".next" }
func endedOf(path string) string { return path + ".ended" }

// Reseal gives what carries a MAC, beside records, one under the key of another service.
type Reseal func(ctx context.Context, tx *store.Tx, next *Service) error

// Rotate has the ledger go on with a new key. The old one, in the file, signs that it does; all
// seals are made anew, after they have been checked. Nobody may append meanwhile: the service,
// and every worker, is to be stopped. It returns the new public key. The old file is
// kept beside the new one, for the administrator to destroy.
func (s *Service) Rotate(ctx context.Context, path string, reseal Reseal) (public string, err error) {
	if err := s.LoadKey(ctx, path); err != nil {
		return "", err
	}
	if err := s.Resume(ctx); err != nil {
		return "", err
	}
	// Whatever is there is signed with the old key first, which says that it is whole.
	last, _, err := s.Sign(ctx)
	if err != nil {
		return "", err
	}
	old := s.present()
	next, err := following(old.signer.Name(), old.public)
	if err != nil {
		return "", err
	}
	body := recorded.KeyRotated{Before: old.public[0], After: next.public[0], Size: last.Size, Root: last.Root.String()}
	if body.Signed, err = (ledger.Succession{
		Origin: originOf(old.signer.Name()), Next: next.public[0],
		Size: last.Size, Root: last.Root,
	}).Sign(old.signer); err != nil {
		return "", err
	}
	return next.public[0], s.goOnWith(ctx, path, next, body, reseal)
}

// DeclareLost has the ledger go on with a new key without the old one. What stands in the
// database is taken as it is: nothing proves any more that it was not altered since the last
// checkpoint that somebody has kept, and the record says so.
func (s *Service) DeclareLost(ctx context.Context, path string, reseal Reseal) (public string, err error) {
	if _, err := os.Stat(path); !errors.Is(err, fs.ErrNotExist) {
		return "", fault.New(fault.Conflict, fault.KeyFileThere, "The file %s is there.", path).
			Advise(
				"A key that is not lost is followed by “endeixisd ledger-key rotate”. If the file is damaged, move it away first.",
			)
	}
	stored, err := s.stored(ctx)
	if err != nil {
		return "", err
	}
	if err := s.finishRotation(path, stored.PublicKey); err != nil {
		return "", err
	}
	if _, err := os.Stat(path); err == nil {
		return "", fault.New(
			fault.Conflict, fault.KeyFileThere, "The key is not lost: it was in %s, where a change of keys had left it.",
			nextOf(path),
		).
			Advise("It is in %s now. Start the service.", path)
	}
	before, err := note.NewVerifier(stored.PublicKey)
	if err != nil {
		return "", err
	}
	next, err := following(before.Name(), []string{stored.PublicKey})
	if err != nil {
		return "", err
	}
	size, err := s.store.LedgerSize(ctx)
	if err != nil {
		return "", err
	}
	root, err := ledger.Root(size, s.store.Hashes(ctx))
	if err != nil {
		return "", err
	}
	return next.public[0], s.goOnWith(
		ctx, path, next,
		recorded.KeyLost{Before: stored.PublicKey, After: next.public[0], Size: size, Root: root.String()}, reseal,
	)
}

// following makes a key that follows others, whose public halves are given, the newest first.
func following(name string, followed []string) (ledgerKey, error) {
	secret, _, err := note.GenerateKey(rand.Reader, name)
	if err != nil {
		return ledgerKey{}, err
	}
	out, err := parseKey(secret)
	for _, public := range followed {
		err = errors.Join(err, out.know(public, ""))
	}
	return out, err
}

// goOnWith stores a key, with the record that says so, and makes all seals anew under it.
func (s *Service) goOnWith(ctx context.Context, path string, next ledgerKey, body recorded.Body, reseal Reseal) error {
	other := New(s.store, s.now)
	if err := other.use(path, next); err != nil {
		return err
	}
	err := s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		if err := tx.LockBasis(ctx); err != nil {
			return err
		}
		if _, err := tx.LockLedger(ctx); err != nil {
			return err
		}
		if err := s.keepNext(ctx, tx.Reads, path, next); err != nil {
			return err
		}
		if err := resealed(ctx, tx, s.writersKey(), other.writersKey()); err != nil {
			return err
		}
		if err := tx.SetServiceKey(
			ctx, store.ServiceKey{PublicKey: next.public[0], Origin: originOf(next.signer.Name()), CreatedAt: s.now()},
		); err != nil {
			return err
		}
		if _, err := other.Decide(ctx, tx, "service", next.public[0], body); err != nil {
			return err
		}
		return reseal(ctx, tx, other)
	})
	if err != nil {
		return err // the file stays: an answer may be lost of what the database has stored
	}
	return s.finishRotation(path, next.public[0])
}

// keepNext writes the file of a key that is to follow, before the database knows the key: a power cut
// must not take it away. The ledger is locked, so that a file which is there already is none of
// somebody else's who is at it: unless the database knows its key, that never came about.
func (s *Service) keepNext(ctx context.Context, reads store.Reads, path string, next ledgerKey) error {
	content, err := os.ReadFile(nextOf(path))
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return writeSecret(nextOf(path), next.file())
	case err != nil:
		return err
	}
	stored, err := reads.ServiceKey(ctx)
	if err != nil {
		return err
	}
	if left, err := parseKey(string(content)); err == nil && left.public[0] == stored.PublicKey {
		return fault.New(
			fault.Conflict, fault.KeysChanged, "The ledger goes on with another key already, which is in %s.",
			nextOf(path),
		).
			Advise("Start the service, or run this again.")
	}
	if err := os.Remove(nextOf(path)); err != nil {
		return err
	}
	return writeSecret(nextOf(path), next.file())
}

// resealed makes each seal anew. Under a key that is known each has to be genuine before.
func resealed(ctx context.Context, tx *store.Tx, old, next []byte) error {
	const page = 5000
	for first := int64(0); ; {
		seals, err := tx.Seals(ctx, first, page)
		if err != nil {
			return err
		}
		for i, seal := range seals {
			if old != nil && !sealOf(seal).Genuine(old, seal.MAC) {
				return altered("%s not sealed by it", are(seal))
			}
			seals[i].MAC = sealOf(seal).MAC(next)
			first = seal.First + 1
		}
		if err := tx.SetSeals(ctx, seals); err != nil {
			return err
		}
		if len(seals) < page {
			return nil
		}
	}
}

// finishRotation puts the file of a key in its place that the database knows already.
func (s *Service) finishRotation(path, public string) error {
	content, err := os.ReadFile(nextOf(path))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	if next, err := parseKey(string(content)); err != nil || next.public[0] != public {
		return nil // one that never came about
	}
	if err := os.Rename(path, endedOf(path)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return os.Rename(nextOf(path), path)
}

// successions returns the signed form of each succession of the ledger's keys.
func (s *Service) successions(ctx context.Context) ([]string, error) {
	var out []string
	err := s.store.EachOfKinds(ctx, []ledger.Kind{ledger.KeyRotated}, 0, func(page []store.Record) error {
		for _, r := range page {
			var body recorded.KeyRotated
			if err := json.Unmarshal(r.Body, &body); err != nil {
				return fmt.Errorf("record %d cannot be read: %w", r.Position, err)
			}
			out = append(out, body.Signed)
		}
		return nil
	})
	return out, err
}
