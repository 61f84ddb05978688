package policy

import (
	"cmp"
	"context"
	"errors"
	"path"
	"slices"
	"strings"
	"time"

	"endeixis/core/judge"
	"endeixis/core/plain"
	"endeixis/internal/fault"
	"endeixis/internal/recorded"
	"endeixis/internal/store"
)

// A Waiver is one that was granted.
type Waiver struct {
	ID     int64
	Ground judge.Code
	// Publisher and Pattern say for whose files, and for which names, it was granted.
	Publisher, Pattern string
	Reason, By         string
	CreatedAt, Until   time.Time
	// Position is that of the record by which it was granted.
	Position int64
	// EndedAt is set for one that somebody has ended, with their reason.
	EndedAt            *time.Time
	EndedBy, EndReason string
	// Reassessment is the number of the one that the decision has entailed, or 0; it is set in what
	// [Service.Grant] and [Service.End] return.
	Reassessment int64
}

func waiverOf(row store.Waiver) Waiver {
	return Waiver{
		ID: row.ID, Ground: judge.Code(row.Ground), Publisher: row.Publisher, Pattern: row.Pattern,
		Reason: row.Reason, By: row.By, CreatedAt: row.CreatedAt, Until: row.Until, Position: row.Position,
		EndedAt: row.EndedAt, EndedBy: row.EndedBy, EndReason: row.EndReason,
	}
}

// Waivers lists the waivers, the newest first.
func (s *Service) Waivers(ctx context.Context) ([]Waiver, error) {
	rows, err := s.store.Waivers(ctx)
	out := make([]Waiver, len(rows))
	for i, row := range rows {
		out[i] = waiverOf(row)
	}
	return out, err
}

// A NewWaiver is an exception to be granted.
type NewWaiver struct {
	Ground    judge.Code
	Publisher string
	Pattern   string
	Until     time.Time
	Reason    string
}

// maxWaiver bounds how far ahead a waiver may end: its curator is to look
// at it again.
const maxWaiver = 2 * 366 * 24 * time.Hour

// Grant lets a ground be lifted for a publisher, for names, or for a
// publisher's files of some names, until a day.
func (s *Service) Grant(ctx context.Context, by string, n NewWaiver) (Waiver, error) {
	if !slices.Contains(judge.Waivable(), n.Ground) {
		var names []string
		for _, c := range judge.Waivable() {
			names = append(names, string(c))
		}
		return Waiver{}, fault.New(
			fault.Invalid, fault.BadGround, "The ground %s cannot be waived.", plain.Quoted(string(n.Ground)),
		).
			Advise("These can: %s.", strings.Join(names, ", ")).
			At("ground")
	}
	if n.Publisher == "" && n.Pattern == "" {
		return Waiver{}, fault.New(
			fault.Invalid, fault.WaiverTooWide, "A waiver is for a publisher, or for names of files.",
		).
			Advise("Name one of them, or both.").
			At("publisher")
	}
	if n.Publisher != "" {
		if _, err := s.publishers.Publisher(ctx, n.Publisher); err != nil {
			return Waiver{}, err
		}
	}
	if _, err := path.Match(n.Pattern, ""); err != nil || strings.ContainsRune(n.Pattern, 0) ||
		strings.Trim(n.Pattern, "*") == "" && n.Pattern != "" {
		return Waiver{}, fault.New(
			fault.Invalid, fault.BadPattern, "%s is not a pattern that narrows anything down.", plain.Quoted(n.Pattern),
		).
			Advise("Use a name with * and ?, such as lamp-ctl-*.").
			At("pattern")
	}
	now := s.now()
	if !n.Until.After(now) || n.Until.After(now.Add(maxWaiver)) {
		return Waiver{}, fault.New(fault.Invalid, fault.BadUntil, "A waiver ends on a day to come, within two years.").
			Advise("When it ends, look at it again and grant it anew if need be.").
			At("until")
	}
	if err := fault.Reason(n.Reason, "A waiver"); err != nil {
		return Waiver{}, err
	}
	n.Until = n.Until.UTC().Truncate(time.Microsecond) // as the database keeps it
	var w store.Waiver
	var asked int64
	err := s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		if err := tx.LockBasis(ctx); err != nil {
			return err
		}
		granted, err := s.records.Decide(
			ctx, tx, by, cmp.Or(n.Publisher, n.Pattern),
			recorded.WaiverGranted{
				Ground: string(n.Ground), Publisher: n.Publisher, Pattern: n.Pattern, Until: n.Until, Reason: n.Reason,
			},
		)
		if err != nil {
			return err
		}
		if w, err = tx.WaiverOf(ctx, granted.Position); err != nil {
			return err
		}
		asked, err = s.follow.RulesLoosened(ctx, tx, by, granted.At, "A waiver was granted: "+n.Reason)
		return err
	})
	out := waiverOf(w)
	out.Reassessment = asked
	return out, err
}

// End ends a waiver before its day.
func (s *Service) End(ctx context.Context, by string, id int64, reason string) (Waiver, error) {
	if err := fault.Reason(reason, "Ending a waiver"); err != nil {
		return Waiver{}, err
	}
	var w store.Waiver
	var asked int64
	err := s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		if err := tx.LockBasis(ctx); err != nil {
			return err
		}
		var err error
		if w, err = tx.LockWaiver(ctx, id); err != nil {
			return err
		}
		now := s.now()
		if w.EndedAt != nil || !w.Until.After(now) {
			return fault.New(fault.Conflict, fault.WaiverEnded, "Waiver %d has ended before.", id)
		}
		ended, err := s.records.Decide(
			ctx, tx, by, w.Publisher+w.Pattern, recorded.WaiverEnded{Waiver: id, Record: w.Position, Reason: reason},
		)
		if err != nil {
			return err
		}
		if w, err = tx.WaiverOf(ctx, w.Position); err != nil {
			return err
		}
		asked, err = s.follow.RulesChanged(ctx, tx, by, ended.At, "A waiver was ended: "+reason)
		return err
	})
	if errors.Is(err, store.ErrNotFound) {
		return Waiver{}, fault.New(fault.NotFound, fault.WaiverUnknown, "There is no waiver %d.", id).
			Advise("“endeixis waiver list” shows which there are.")
	}
	out := waiverOf(w)
	out.Reassessment = asked
	return out, err
}

// waiversAt returns the waivers that counted at a time: that had been granted, and neither ended
// nor run out.
func waiversAt(b *recorded.Basis, at time.Time) []judge.Waiver {
	var out []judge.Waiver
	for _, w := range b.Waivers {
		if w.CreatedAt.After(at) || !w.Until.After(at) || w.EndedAt != nil && !w.EndedAt.After(at) {
			continue
		}
		out = append(
			out,
			judge.Waiver{
				Record: w.Position, Ground: judge.Code(w.Ground), Publisher: w.Publisher, Pattern: w.Pattern,
				Reason: w.Reason, By: w.By, Until: w.Until,
			},
		)
	}
	return out
}
