package batches

import (
	"context"
	"maps"
	"slices"
	"sync"

	"endeixis/core/digest"
	"endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/core/verify"
	"endeixis/internal/reassess"
	"endeixis/internal/sources"
	"endeixis/internal/state"
	"endeixis/internal/store"
)

// references find files of other batches with the same bytes: those that were cleared before a batch was asked for,
// where the policy lets files be known again, and of a batch that has ended those of the same place for which
// evidence has arrived since. A row of the library clears nothing: it says where to look, and what lies there is
// judged again from its record, by what the batch is judged by. It implements [verify.References].
type references struct {
	service *Service
	batch   store.Batch
	ring    *keyring.Keyring
	clears  bool
	arrives bool

	mu sync.Mutex
	// around are sessions of other batches.
	around map[int64]*verify.Session
	// known, where it is not nil, is all that is to be told, by path: from within a transaction nothing is asked.
	known map[string][]judge.Reference
}

// know has a session know files again by what there is for a batch.
func (s *Service) know(
	ctx context.Context, session *verify.Session, b store.Batch, ring *keyring.Keyring,
) (*references, error) {
	r := &references{
		service: s, batch: b, ring: ring, around: map[int64]*verify.Session{},
		clears: session.ReferencesClear() && b.LedgerSize != nil,
	}
	// What it cleared by its own evidence waits for no other.
	if b.State == state.BatchDone && b.Unproven+b.Refused > 0 && sourceOf(b).Kind == sources.Depot {
		var err error
		if r.arrives, err = s.store.HasLater(ctx, b.ID); err != nil {
			return nil, err
		}
	}
	// Where nothing can be told, nothing is asked of each file.
	if r.clears || r.arrives {
		session.Know(r)
	}
	return r, nil
}

// fetch reads what is to be told of all items of the batch, so that it can be told within a transaction.
func (r *references) fetch(ctx context.Context) error {
	if !r.clears && !r.arrives {
		return nil
	}
	rows, err := r.service.store.ComparedItems(ctx, r.batch.ID)
	if err != nil {
		return err
	}
	var all []verify.Sought
	for _, row := range rows {
		if row.SHA256 != nil {
			all = append(all, verify.Sought{Path: row.Path, SHA256: row.SHA256})
		}
	}
	known, err := r.Same(ctx, all)
	r.known = known
	return err
}

// Same returns the files with the content of some.
func (r *references) Same(ctx context.Context, files []verify.Sought) (map[string][]judge.Reference, error) {
	if r.known != nil {
		return r.known, nil
	}
	paths, sums := make([]string, len(files)), make([]string, len(files))
	byPath, bySum := map[string]digest.Value{}, map[string][]string{}
	for i, f := range files {
		paths[i], sums[i] = f.Path, f.SHA256.String()
		byPath[f.Path] = f.SHA256
		bySum[sums[i]] = append(bySum[sums[i]], f.Path)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	out := map[string][]judge.Reference{}
	if r.arrives {
		rows, err := r.service.store.ArrivedSince(ctx, r.batch.ID, paths)
		if err != nil {
			return nil, err
		}
		rows = slices.DeleteFunc(rows, func(row store.SameFile) bool {
			return !slices.Equal(byPath[row.Path], row.SHA256)
		})
		found, err := r.judge(ctx, rows)
		if err != nil {
			return nil, err
		}
		for i, one := range found {
			if one != nil && one.File == rows[i].Path {
				one.Arrived = true
				out[one.File] = append(out[one.File], *one)
			}
		}
	}
	if !r.clears {
		return out, nil
	}
	rows, err := r.service.store.SameBytes(ctx, sums, *r.batch.LedgerSize, r.batch.ID)
	if err != nil {
		return nil, err
	}
	found, err := r.judge(ctx, rows)
	if err != nil {
		return nil, err
	}
	for i, one := range found {
		if one == nil {
			continue
		}
		for _, path := range bySum[digest.Value(rows[i].SHA256).String()] {
			out[path] = append(out[path], *one)
		}
	}
	return out, nil
}

// judge judges what rows say again, in their order; it has nil where a record says otherwise than its row.
func (r *references) judge(ctx context.Context, rows []store.SameFile) ([]*judge.Reference, error) {
	out := make([]*judge.Reference, len(rows))
	of := map[int64][]int{}
	for i, row := range rows {
		of[row.Batch] = append(of[row.Batch], i)
	}
	for _, batch := range slices.Sorted(maps.Keys(of)) {
		around, err := r.session(ctx, batch)
		if err != nil {
			return nil, err
		}
		ns := make([]int, len(of[batch]))
		for k, i := range of[batch] {
			ns[k] = rows[i].N
		}
		items, err := r.service.judgedIn(ctx, around, batch, ns...)
		if err != nil {
			return nil, err
		}
		for _, i := range of[batch] {
			row := rows[i]
			item, ok := items[row.N]
			if !ok || item.Planned.Against != nil ||
				!slices.Equal(item.Measurement.Digests[digest.SHA256], row.SHA256) {
				continue
			}
			out[i] = &judge.Reference{
				Record: row.Position, Batch: batch, At: row.At.UTC(), File: item.Planned.Path, Outcome: item.Outcome,
			}
		}
	}
	return out, nil
}

// session returns that of another batch, in which nothing is known again: so no file is cleared by one that
// another has cleared.
func (r *references) session(ctx context.Context, batch int64) (*verify.Session, error) {
	if known, ok := r.around[batch]; ok {
		return known, nil
	}
	other, err := r.service.batch(ctx, batch)
	if err != nil {
		return nil, err
	}
	other.JudgedAsOf, other.PolicyVersion = r.batch.JudgedAsOf, r.batch.PolicyVersion
	session, _, err := r.service.sessionWith(ctx, other, r.ring)
	if err == nil {
		r.around[batch] = session
	}
	return session, err
}

// maxHelped is how many of the batches before are looked at for files that a batch brings evidence for.
const maxHelped = 5

// help has earlier batches of the same place judged again in which something waited that this one clears with the
// same bytes.
func (s *Service) help(ctx context.Context, tx *store.Tx, b store.Batch) error {
	if b.Cleared == 0 {
		return nil
	}
	helped, err := tx.HelpedBy(ctx, b.ID, maxHelped)
	if err != nil {
		return err
	}
	for _, id := range helped {
		if _, err := s.orders.Place(
			ctx, tx, b.AskedBy, s.now(), reassess.Selection{Batch: id},
			"What vouches for files that waited has come, in a later batch of the same place.",
		); err != nil {
			return err
		}
	}
	return nil
}
