package records

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"golang.org/x/mod/sumdb/tlog"

	"endeixis/core/ledger"
	"endeixis/internal/store"
)

// sealOf reads a stored seal. A seal that is none is genuine for nobody.
func sealOf(s store.Seal) ledger.Seal {
	out := ledger.Seal{First: s.First, Records: s.Records, Decisions: s.Decisions}
	copy(out.Over[:], s.Over)
	return out
}

// sealed makes the seal of records that were appended behind others.
func sealed(key []byte, before int64, first int64, kinds []ledger.Kind, leaves []tlog.Hash) store.Seal {
	seal := ledger.Seal{First: first, Records: int64(len(leaves)), Decisions: before, Over: ledger.OverLeaves(leaves)}
	for _, kind := range kinds {
		if kind.Decides() {
			seal.Decisions++
		}
	}
	return store.Seal{
		First: seal.First, Records: seal.Records, Decisions: seal.Decisions, Over: seal.Over[:], MAC: seal.MAC(key),
	}
}

// sealer seals what is appended. What it goes on from has to be sealed itself: nobody is to have
// decisions counted that were put in, or forgotten that were taken out.
func sealer(key []byte) store.Sealer {
	return func(last *store.Seal, first int64, records []*store.Record, leaves []tlog.Hash) (store.Seal, error) {
		before := int64(0)
		switch {
		case last == nil && first > 0:
			return store.Seal{}, altered("nobody has sealed record 0")
		case last != nil && (last.First+last.Records != first || !sealOf(*last).Genuine(key, last.MAC)):
			return store.Seal{}, altered("Nobody has sealed record %d", first-1)
		case last != nil:
			before = last.Decisions
		}
		kinds := make([]ledger.Kind, len(records))
		for i, r := range records {
			kinds[i] = ledger.Kind(r.Kind)
		}
		return sealed(key, before, first, kinds, leaves), nil
	}
}

// sealedEarlier bounds how many records of an earlier version are sealed together.
const sealedEarlier = 2000

// sealEarlier seals the records that an earlier version has appended, if there are any and none
// was sealed yet, and reports whether there were.
func (s *Service) sealEarlier(ctx context.Context) (earlier bool, err error) {
	key := s.writersKey()
	err = s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		if _, err := tx.LockLedger(ctx); err != nil {
			return err
		}
		if there, err := tx.Seals(ctx, 0, 1); err != nil || len(there) > 0 {
			return err
		}
		var kinds []ledger.Kind
		var leaves []tlog.Hash
		first, decisions := int64(0), int64(0)
		flush := func() error {
			if len(leaves) == 0 {
				return nil
			}
			seal := sealed(key, decisions, first, kinds, leaves)
			first, decisions, kinds, leaves = first+seal.Records, seal.Decisions, kinds[:0], leaves[:0]
			return tx.AddSeal(ctx, seal)
		}
		if err := tx.EachRecord(ctx, func(r store.Record) error {
			kinds, leaves = append(kinds, kindOf(r.Body)), append(leaves, ledger.Leaf(r.Body))
			if len(leaves) < sealedEarlier {
				return nil
			}
			return flush()
		}); err != nil {
			return err
		}
		earlier = first > 0 || len(leaves) > 0
		return flush()
	})
	return earlier, err
}

// kindOf reads the kind in a record's own text, or nothing.
func kindOf(body []byte) ledger.Kind {
	var said struct {
		Kind ledger.Kind `json:"kind"`
	}
	if json.Unmarshal(body, &said) != nil {
		return ""
	}
	return said.Kind
}

// sealedLeaves reads the leaves of records, of which each has to be sealed.
func (s *Service) sealedLeaves(ctx context.Context, reads store.Reads, first, end int64) ([]tlog.Hash, error) {
	if first == end {
		return nil, nil
	}
	leaves, err := reads.Leaves(ctx, first, end)
	if err != nil {
		return nil, altered("%s", err)
	}
	key := s.writersKey()
	for at := first; at < end; {
		seals, err := reads.Seals(ctx, at, 1000)
		if err != nil {
			return nil, err
		}
		if len(seals) == 0 {
			return nil, altered("Nobody has sealed record %d", at)
		}
		for _, seal := range seals {
			if at == end {
				break
			}
			if seal.First != at || seal.Records < 1 {
				return nil, altered("Nobody has sealed record %d", at)
			}
			if behind := seal.First + seal.Records; behind > end { // what a seal is over is taken whole
				more, err := reads.Leaves(ctx, end, behind)
				if err != nil {
					return nil, altered("%s", err)
				}
				leaves, end = append(leaves, more...), behind
			}
			if !holds(key, seal, leaves[at-first:at-first+seal.Records]) {
				return nil, altered("%s not sealed by it", are(seal))
			}
			at += seal.Records
		}
	}
	return leaves, nil
}

// are names the records of a seal, of which one or the other differs.
func are(s store.Seal) string {
	if s.Records == 1 {
		return fmt.Sprintf("Record %d is", s.First)
	}
	return fmt.Sprintf("The records %d to %d are", s.First, s.First+s.Records-1)
}

// holds reports whether a seal is genuine, and over the leaves.
func holds(key []byte, seal store.Seal, leaves []tlog.Hash) bool {
	s := sealOf(seal)
	return s.Genuine(key, seal.MAC) && s.Over == ledger.OverLeaves(leaves)
}

// Decided returns how many records decide, see [ledger.Kind.Decides]: as the newest seal counts
// them. It returns a fault “ledger-altered” where that is not genuine.
func (s *Service) Decided(ctx context.Context, reads store.Reads) (int64, error) {
	key := s.writersKey()
	if key == nil {
		return 0, errors.New("this process has no key to prove records with")
	}
	size, last, err := reads.LastSeal(ctx)
	switch {
	case err != nil || size == 0 && last == nil:
		return 0, err
	case last == nil || last.First+last.Records != size || !sealOf(*last).Genuine(key, last.MAC):
		return 0, altered("Nobody has sealed record %d", size-1)
	}
	return last.Decisions, nil
}

// Decisions calls f for each record that decides from a position on, in order, with its own
// text, which is sealed. known is how many there are before the position. None of them is passed
// over: it returns a fault “ledger-altered” where one is missing, was changed, or was not written
// by this program. What f is given it may keep.
func (s *Service) Decisions(
	ctx context.Context, reads store.Reads, from, known int64,
	f func(position int64, kind ledger.Kind, body []byte) error,
) error {
	decided, err := s.Decided(ctx, reads)
	if err != nil {
		return err
	}
	key := s.writersKey()
	if err := reads.EachOfKinds(ctx, ledger.Deciding(), from, func(page []store.Record) error {
		if err := genuine(ctx, reads, key, page); err != nil {
			return err
		}
		for _, r := range page {
			known++
			if err := f(r.Position, ledger.Kind(r.Kind), r.Body); err != nil {
				return altered("%s", err)
			}
		}
		return nil
	}); err != nil {
		return err
	}
	if decided != known {
		return altered("%d records decide what is judged by, and %d are there", decided, known)
	}
	return nil
}

// genuine holds records against their seals: their texts and their places.
func genuine(ctx context.Context, reads store.Reads, key []byte, page []store.Record) error {
	positions := make([]int64, len(page))
	for i, r := range page {
		positions[i] = r.Position
		if leaf := ledger.Leaf(r.Body); !slices.Equal(r.Leaf, leaf[:]) {
			return altered("record %d is not as it was written", r.Position)
		}
	}
	seals, err := reads.SealsOver(ctx, positions)
	if err != nil {
		return err
	}
	leaves, err := reads.LeavesOf(ctx, seals)
	if err != nil {
		return err
	}
	at := 0
	for _, seal := range seals {
		over := make([]tlog.Hash, 0, seal.Records)
		for p := seal.First; p < seal.First+seal.Records; p++ {
			leaf, ok := leaves[p]
			if !ok {
				return altered("record %d is not there", p)
			}
			over = append(over, leaf)
		}
		if !holds(key, seal, over) {
			return altered("%s not sealed by it", are(seal))
		}
		for at < len(positions) && positions[at] >= seal.First && positions[at] < seal.First+seal.Records {
			at++
		}
	}
	if at < len(positions) {
		return altered("Nobody has sealed record %d", positions[at])
	}
	return nil
}

// Held returns a fault “ledger-altered” where one of some records was not written by this program,
// so that nothing is judged by it.
func (s *Service) Held(ctx context.Context, reads store.Reads, part []store.Record) error {
	key := s.writersKey()
	if key == nil {
		return errors.New("this process has no key to prove records with")
	}
	slices.SortFunc(part, func(a, b store.Record) int { return cmp.Compare(a.Position, b.Position) })
	return genuine(ctx, reads, key, part)
}

// OfBatch calls f for the records of a batch in order, each with its own text, which is sealed. It
// returns a fault “ledger-altered” where one was not written by this program.
func (s *Service) OfBatch(ctx context.Context, batch int64, f func(position int64, body []byte) error) error {
	key := s.writersKey()
	return s.store.Look(ctx, func(ctx context.Context, reads store.Reads) error {
		return reads.EachOfBatch(ctx, batch, func(page []store.Record) error {
			if err := genuine(ctx, reads, key, page); err != nil {
				return err
			}
			for _, r := range page {
				var of struct {
					Batch int64 `json:"batch"`
				}
				if json.Unmarshal(r.Body, &of) != nil || of.Batch != batch {
					continue // it is listed with the batch, and its text is not of it
				}
				if err := f(r.Position, r.Body); err != nil {
					return err
				}
			}
			return nil
		})
	})
}
