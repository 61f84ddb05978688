package batches

import (
	"context"
	"encoding/hex"
	"sync"

	"endeixis/core/digest"
	"endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/core/verify"
	"endeixis/internal/store"
)

// references find files with the same bytes that were cleared before a batch was asked for. A row of the
// library clears nothing: it says where to look, and what lies there is judged again from its record, by what
// the batch is judged by. It implements [verify.References].
type references struct {
	service *Service
	batch   store.Batch
	ring    *keyring.Keyring

	mu sync.Mutex
	// around are sessions of earlier batches.
	around map[int64]*verify.Session
}

func (s *Service) referencesOf(b store.Batch, ring *keyring.Keyring) *references {
	return &references{service: s, batch: b, ring: ring, around: map[int64]*verify.Session{}}
}

// Same returns the files with some content.
func (r *references) Same(ctx context.Context, sha256 []string) (map[string][]judge.Reference, error) {
	if r.batch.LedgerSize == nil {
		return nil, nil
	}
	rows, err := r.service.store.SameBytes(ctx, sha256, *r.batch.LedgerSize, r.batch.ID)
	if err != nil {
		return nil, err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	out := map[string][]judge.Reference{}
	for _, row := range rows {
		around, err := r.session(ctx, row.Batch)
		if err != nil {
			return nil, err
		}
		found, err := r.service.judgedIn(ctx, around, row.Batch, row.N)
		if err != nil {
			return nil, err
		}
		sum := hex.EncodeToString(row.SHA256)
		if found.Measurement.Digests[digest.SHA256].String() != sum || found.Planned.Against != nil {
			continue
		}
		out[sum] = append(out[sum], judge.Reference{
			Record: row.Position, Batch: row.Batch, At: row.At.UTC(), File: found.Planned.Path, Outcome: found.Outcome,
		})
	}
	return out, nil
}

// session returns that of an earlier batch, in which nothing is known again: so no file is cleared by
// one that another has cleared.
func (r *references) session(ctx context.Context, batch int64) (*verify.Session, error) {
	if known, ok := r.around[batch]; ok {
		return known, nil
	}
	earlier, err := r.service.batch(ctx, batch)
	if err != nil {
		return nil, err
	}
	earlier.JudgedAsOf, earlier.PolicyVersion = r.batch.JudgedAsOf, r.batch.PolicyVersion
	session, _, err := r.service.sessionWith(ctx, earlier, r.ring)
	if err == nil {
		r.around[batch] = session
	}
	return session, err
}
