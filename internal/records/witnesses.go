package records

import (
	"context"
	"errors"

	"golang.org/x/mod/sumdb/tlog"

	"endeixis/core/ledger"
	"endeixis/internal/fault"
	"endeixis/internal/store"
)

// A Witness is asked to countersign checkpoints; [witness.Asker] does.
type Witness interface {
	Name() string
	// Ask returns the line of the countersignature of a checkpoint of a size.
	Ask(ctx context.Context, size int64, signed string, prove func(older int64) ([]string, error)) (string, error)
}

// WitnessedBy says who countersigns. It is to be called before anything is signed.
func (s *Service) WitnessedBy(witnesses []Witness) { s.witnesses = witnesses }

// Countersign has every witness countersign the newest checkpoint. One that does not answer keeps
// none of the others from it; the errors of all are returned together.
func (s *Service) Countersign(ctx context.Context) error {
	if len(s.witnesses) == 0 {
		return nil
	}
	c, signed, err := s.Sign(ctx)
	if err != nil || c.Size == 0 {
		return err
	}
	prove := func(older int64) ([]string, error) {
		if older > c.Size {
			return nil, nil
		}
		return ledger.ProveGrowth(older, c.Size, s.store.Hashes(ctx))
	}
	var problems []error
	for _, w := range s.witnesses {
		line, err := w.Ask(ctx, c.Size, signed, prove)
		if err == nil {
			err = s.store.AddCosignature(ctx, c.Size, w.Name(), line)
		}
		problems = append(problems, err)
	}
	return errors.Join(problems...)
}

// cosigned returns the newest checkpoint over more records than a position that as many witnesses
// as possible have countersigned, or the newest at all.
func (s *Service) cosigned(ctx context.Context, position int64) (ledger.Checkpoint, string, error) {
	c, signed, err := s.Sign(ctx)
	if err != nil {
		return c, signed, err
	}
	var names []string
	for _, w := range s.witnesses {
		names = append(names, w.Name())
	}
	for enough := len(names); enough > 0; enough-- {
		found, err := s.store.LastCosigned(ctx, position, names, enough)
		if errors.Is(err, store.ErrNotFound) {
			continue
		}
		if err != nil {
			return c, signed, err
		}
		// It was signed by this service: what stands in the database says no more than that.
		opened, err := ledger.OpenCheckpoint(found.Signed+found.Lines, s.known())
		if err != nil || opened.Size != found.Size {
			break
		}
		return opened, found.Signed + found.Lines, nil
	}
	return c, signed, nil
}

// Cosigned returns the newest checkpoint with what witnesses have countersigned, as a note.
func (s *Service) Cosigned(ctx context.Context) (string, error) {
	_, signed, err := s.cosigned(ctx, -1)
	return signed, err
}

// Hashes reads the hashes that are stored for the ledger's tree.
func (s *Service) Hashes(ctx context.Context) tlog.HashReader { return s.store.Hashes(ctx) }

// Texts returns the records at positions first to end-1, byte for byte.
func (s *Service) Texts(ctx context.Context, first, end int64) ([][]byte, error) {
	var out [][]byte
	err := s.store.RecordsFrom(ctx, first, end, func(r store.Record) error {
		out = append(out, r.Body)
		return nil
	})
	if err == nil && int64(len(out)) != end-first {
		err = fault.New(fault.Altered, fault.LedgerAltered, "Of the records %d to %d some are missing.", first, end-1).
			Advise("Have the administrator audit the ledger.")
	}
	return out, err
}
