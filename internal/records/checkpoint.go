package records

import (
	"context"
	"errors"

	"endeixis/core/ledger"
	"endeixis/internal/store"
)

// Sign signs a checkpoint of the ledger as it is now, unless the newest one
// covers it, and returns the newest.
func (s *Service) Sign(ctx context.Context) (ledger.Checkpoint, string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.signer == nil {
		return ledger.Checkpoint{}, "", errors.New("this process has no signing key")
	}
	size, err := s.store.LedgerSize(ctx)
	if err != nil {
		return ledger.Checkpoint{}, "", err
	}
	last, err := s.store.LastCheckpoint(ctx)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return ledger.Checkpoint{}, "", err
	}
	if err == nil && last.Size >= size {
		c, err := ledger.OpenCheckpoint(last.Signed, s.verifier)
		return c, last.Signed, err
	}
	root, err := ledger.Root(size, s.store.Hashes(ctx))
	if err != nil {
		return ledger.Checkpoint{}, "", err
	}
	c := ledger.Checkpoint{Origin: s.origin, Size: size, Root: root, Follows: last.Size}
	if last.Size > 0 {
		// Never sign a tree that is not a continuation of the last one.
		older, err := ledger.OpenCheckpoint(last.Signed, s.verifier)
		if err != nil {
			return c, "", err
		}
		if err := ledger.CheckGrowth(older, c, s.store.Hashes(ctx)); err != nil {
			return c, "", err
		}
	}
	signed, err := c.Sign(s.signer)
	if err != nil {
		return c, "", err
	}
	return c, signed, s.store.AddCheckpoint(ctx, store.StoredCheckpoint{Size: size, Signed: signed, At: s.now()})
}
