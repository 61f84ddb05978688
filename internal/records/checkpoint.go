package records

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"endeixis/core/ledger"
	"endeixis/internal/fault"
	"endeixis/internal/recorded"
	"endeixis/internal/store"
	"endeixis/internal/wholefile"
)

// A held checkpoint is the newest that this process has signed, or found beside its key: what
// is stored has to go on from it.
type held struct {
	ledger.Checkpoint
	signed string
	// stored is set when it is in the database too.
	stored bool
}

// newest returns the newest checkpoint that this process has signed, or found beside its key.
func (s *Service) newest() ledger.Checkpoint {
	s.signing.Lock()
	defer s.signing.Unlock()
	return s.held.Checkpoint
}

// checkpointOf names the file beside a key in which the newest checkpoint is kept.
func checkpointOf(keyFile string) string { return keyFile + ".checkpoint" }

// signedAtOnce bounds how many records are taken into a tree at a time.
const signedAtOnce = 50_000

// Sign signs a checkpoint of the ledger as it is now, unless the newest one covers it, and
// returns the newest. It signs nothing but what goes on from that, of records that this program
// has written: for anything else it returns a fault “ledger-altered”.
func (s *Service) Sign(ctx context.Context) (ledger.Checkpoint, string, error) {
	s.signing.Lock()
	defer s.signing.Unlock()
	signer, _, err := s.Seal()
	if err != nil {
		return ledger.Checkpoint{}, "", err
	}
	next := s.held.Checkpoint
	err = s.store.Look(ctx, func(ctx context.Context, reads store.Reads) error {
		size, err := reads.LedgerSize(ctx)
		if err != nil {
			return err
		}
		if size < next.Size {
			return altered("it has %d records, and %d were there before", size, next.Size)
		}
		for first := true; first || next.Size < size; first = false {
			if next, err = s.grown(ctx, reads, next, min(size, next.Size+signedAtOnce)); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return ledger.Checkpoint{}, "", err
	}
	// The one before is in the database first, for this one says that it follows it.
	if err := s.storeHeld(ctx); err != nil {
		return ledger.Checkpoint{}, "", err
	}
	if next.Size == s.held.Size && s.held.signed != "" {
		return s.held.Checkpoint, s.held.signed, nil
	}
	next.Origin, next.Follows = originOf(signer.Name()), s.held.Size
	signed, err := next.Sign(signer)
	if err != nil {
		return ledger.Checkpoint{}, "", err
	}
	// It is kept beside the key before anybody is shown it.
	if err := s.hold(held{next, signed, false}); err != nil {
		return ledger.Checkpoint{}, "", err
	}
	return next, signed, s.storeHeld(ctx)
}

// storeHeld stores the newest checkpoint, unless it is there.
func (s *Service) storeHeld(ctx context.Context) error {
	if s.held.stored || s.held.signed == "" {
		return nil
	}
	err := s.store.AddCheckpoint(ctx, store.StoredCheckpoint{Size: s.held.Size, Signed: s.held.signed, At: s.now()})
	s.held.stored = err == nil
	return err
}

// grown returns the tree that the records up to a size make of an older one: each has to be
// sealed, and the stored hashes to be those of the records.
func (s *Service) grown(
	ctx context.Context, reads store.Reads, older ledger.Checkpoint, size int64,
) (ledger.Checkpoint, error) {
	leaves, err := s.sealedLeaves(ctx, reads, older.Size, size)
	if err != nil {
		return older, err
	}
	stored := reads.Hashes(ctx)
	root, added, err := ledger.Extend(older, leaves, stored)
	if untrusted := (*ledger.CheckpointError)(nil); errors.As(err, &untrusted) {
		return older, altered("%s", untrusted.Reason)
	}
	if err != nil {
		return older, err
	}
	if position, same, err := sameHashes(older.Size, added, stored); err != nil || !same {
		return older, cmp.Or(
			err, altered("the stored hashes of the tree are not those of the records from %d on", position),
		)
	}
	return ledger.Checkpoint{Size: older.Size + int64(len(leaves)), Root: root}, nil
}

// altered says that nothing is signed.
func altered(format string, args ...any) error {
	return fault.New(
		fault.Altered, fault.LedgerAltered,
		"The ledger is not what this program has written. %s. Nothing is signed, recorded or judged by it.",
		capitalised(fmt.Sprintf(format, args...)),
	).
		Advise(
			"Keep the database as it is. Have the administrator audit the ledger, find out who changed the database, and restore it; “endeixisd serve --after-restore” goes on from a backup.",
		)
}

// capitalised begins a sentence.
func capitalised(s string) string {
	return strings.ToUpper(s[:1]) + s[1:]
}

// hold keeps a checkpoint in memory and beside the key.
func (s *Service) hold(h held) error {
	if err := wholefile.Write(s.checkpointFile, h.signed); err != nil {
		return fmt.Errorf("the newest checkpoint cannot be kept beside the ledger's key: %w", err)
	}
	s.held = h
	return nil
}

// Resume holds the stored ledger against the checkpoint that is kept beside the key, and
// returns a fault “ledger-older” where it does not go on from that: the database was restored
// from a backup, cut, or written anew. Either this or [Service.ResumeRestored] is to be called
// once, before anything is appended.
func (s *Service) Resume(ctx context.Context) error {
	return s.resume(ctx, func(_ context.Context, kept ledger.Checkpoint, now *departure) error {
		return fault.New(
			fault.Conflict,
			fault.LedgerOlder,
			"The ledger in the database does not go on from what it was: %d records are known beside its key, in %s, and %s.",
			kept.Size, s.checkpointFile, now.why,
		).
			Advise(
				"Restore the newest backup. If this is the newest there is, start once with “endeixisd serve --after-restore”: that is put on record, and everybody who has seen the newer ledger is told.",
			)
	})
}

// ResumeRestored does what [Service.Resume] does, and goes on from an older ledger where it finds
// one. The record of that says what is missing.
func (s *Service) ResumeRestored(ctx context.Context) error { return s.resume(ctx, s.goOnFromOlder) }

// resume calls departed where the stored ledger does not go on from the checkpoint beside the key.
func (s *Service) resume(
	ctx context.Context, departed func(context.Context, ledger.Checkpoint, *departure) error,
) error {
	s.signing.Lock()
	defer s.signing.Unlock()
	if _, _, err := s.Seal(); err != nil {
		return err
	}
	text, err := os.ReadFile(s.checkpointFile)
	if errors.Is(err, os.ErrNotExist) {
		return s.begin(ctx)
	}
	if err != nil {
		return fmt.Errorf("reading the checkpoint beside the ledger's key: %w", err)
	}
	kept, err := ledger.OpenCheckpoint(string(text), s.known())
	if err != nil {
		return fault.New(
			fault.Conflict, fault.CheckpointStray, "The file %s does not hold a checkpoint of this ledger.",
			s.checkpointFile,
		).
			Advise("Restore it, with the key beside it, from your backup.")
	}
	now, err := s.goesOn(ctx, kept)
	if err != nil {
		return err
	}
	if now == nil {
		s.held = held{kept, string(text), false}
		return nil
	}
	return departed(ctx, kept, now)
}

// goOnFromOlder puts on record that the ledger goes on from an older one, before it does.
func (s *Service) goOnFromOlder(ctx context.Context, kept ledger.Checkpoint, now *departure) error {
	if err := s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		_, err := s.Decide(
			ctx, tx, "service", fmt.Sprintf("%d of %d records", now.Size, kept.Size),
			recorded.LedgerRestored{
				Before: recorded.Tree{Size: kept.Size, Root: kept.Root.String()}, After: now.Tree,
			},
		)
		return err
	}); err != nil {
		return err
	}
	// What audits have proven of the newer ledger says nothing of this one.
	if err := os.Remove(s.auditFile); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return s.begin(ctx)
}

// FromEarlier reports whether [Service.Resume] has found what an earlier version has left, and
// sealed it.
func (s *Service) FromEarlier() bool { return s.earlier }

// A departure says how a stored ledger differs from one that was known.
type departure struct {
	recorded.Tree
	why string
}

// goesOn returns nil where the stored ledger begins with the one that a checkpoint was signed
// over.
func (s *Service) goesOn(ctx context.Context, kept ledger.Checkpoint) (*departure, error) {
	var out *departure
	err := s.store.Look(ctx, func(ctx context.Context, reads store.Reads) error {
		size, err := reads.LedgerSize(ctx)
		if err != nil {
			return err
		}
		root, err := ledger.Root(size, reads.Hashes(ctx))
		if err != nil {
			return err
		}
		if size < kept.Size {
			out = &departure{recorded.Tree{Size: size, Root: root.String()}, fmt.Sprintf("it has %d", size)}
			return nil
		}
		older, err := ledger.Root(kept.Size, reads.Hashes(ctx))
		if err == nil && older != kept.Root {
			out = &departure{recorded.Tree{Size: size, Root: root.String()}, "its first records are others"}
		}
		return err
	})
	return out, err
}

// begin goes on from the newest checkpoint that is stored. Records that an earlier version has
// appended are sealed first; without a file beside the key there may be such.
func (s *Service) begin(ctx context.Context) error {
	earlier, err := s.sealEarlier(ctx)
	if err != nil {
		return err
	}
	s.earlier = earlier
	size, err := s.store.LedgerSize(ctx)
	if err != nil {
		return err
	}
	last, err := s.store.LastCheckpoint(ctx)
	if errors.Is(err, store.ErrNotFound) || err == nil && last.Size > size {
		s.held = held{}
		return nil
	}
	if err != nil {
		return err
	}
	opened, err := ledger.OpenCheckpoint(last.Signed, s.known())
	if err != nil {
		return altered("%s", err)
	}
	return s.hold(held{opened, last.Signed, true})
}

// Growth is the newest checkpoint, with what shows that it goes on from an older one.
type Growth struct {
	ledger.Checkpoint
	Signed string
	// Consistency is the proof from the older size, if that is not greater, and Succession what
	// the keys have signed that the ledger had before.
	Consistency, Succession []string
}

// ProveGrowth proves that the newest checkpoint goes on from the ledger of an older size, to
// the holder of the older checkpoint.
func (s *Service) ProveGrowth(ctx context.Context, older int64) (Growth, error) {
	var out Growth
	var err error
	if out.Checkpoint, out.Signed, err = s.Sign(ctx); err != nil {
		return out, err
	}
	if out.Succession, err = s.successions(ctx); err != nil || older > out.Size {
		return out, err
	}
	out.Consistency, err = ledger.ProveGrowth(older, out.Size, s.store.Hashes(ctx))
	return out, err
}
