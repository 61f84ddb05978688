package policy

import (
	"context"
	"errors"
	"path"
	"slices"
	"strings"
	"time"

	"endeixis/core/judge"
	"endeixis/core/ledger"
	"endeixis/core/plain"
	"endeixis/internal/fault"
	"endeixis/internal/records"
	"endeixis/internal/store"
)

// A Waiver is one that was granted, as stored.
type Waiver = store.Waiver

// Waivers lists the waivers, the newest first.
func (s *Service) Waivers(ctx context.Context) ([]Waiver, error) { return s.store.Waivers(ctx) }

// A NewWaiver is an exception to be granted.
type NewWaiver struct {
	Ground    judge.Code `json:"ground"`
	Publisher string     `json:"publisher,omitempty"`
	Pattern   string     `json:"pattern,omitempty"`
	Until     time.Time  `json:"until"`
	Reason    string     `json:"reason"`
}

// maxWaiver bounds how far ahead a waiver may end: whoever grants one is to look
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
		return Waiver{}, fault.New(fault.Invalid, "bad-ground", "The ground %s cannot be waived.", plain.Quoted(string(n.Ground))).
			Advise("These can: %s.", strings.Join(names, ", ")).At("ground")
	}
	if n.Publisher == "" && n.Pattern == "" {
		return Waiver{}, fault.New(fault.Invalid, "waiver-too-wide", "A waiver is for a publisher, or for names of files.").Advise("Name one of them, or both.").At("publisher")
	}
	if n.Publisher != "" {
		if _, err := s.publishers.Publisher(ctx, n.Publisher); err != nil {
			return Waiver{}, err
		}
	}
	if _, err := path.Match(n.Pattern, ""); err != nil || strings.ContainsRune(n.Pattern, 0) || strings.Trim(n.Pattern, "*") == "" && n.Pattern != "" {
		return Waiver{}, fault.New(fault.Invalid, "bad-pattern", "%s is not a pattern that narrows anything down.", plain.Quoted(n.Pattern)).Advise("Use a name with * and ?, such as lamp-ctl-*.").At("pattern")
	}
	now := s.now()
	if !n.Until.After(now) || n.Until.After(now.Add(maxWaiver)) {
		return Waiver{}, fault.New(fault.Invalid, "bad-until", "A waiver ends on a day to come, within two years.").Advise("When it ends, look at it again and grant it anew if need be.").At("until")
	}
	if err := fault.Reason(n.Reason, "A waiver"); err != nil {
		return Waiver{}, err
	}
	w := Waiver{Ground: string(n.Ground), Publisher: n.Publisher, Pattern: n.Pattern, Reason: n.Reason, By: by, CreatedAt: now, Until: n.Until.UTC()}
	subject := n.Publisher
	if subject == "" {
		subject = n.Pattern
	}
	err := s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		if err := tx.LockBasis(ctx); err != nil {
			return err
		}
		var err error
		if w.Position, err = s.records.Append(ctx, tx, records.Entry{Kind: ledger.WaiverGranted, By: by, Subject: subject, Body: n}); err != nil {
			return err
		}
		w.ID, err = tx.AddWaiver(ctx, w)
		return err
	})
	return w, err
}

// End ends a waiver before its day.
func (s *Service) End(ctx context.Context, by string, id int64, reason string) (Waiver, error) {
	if err := fault.Reason(reason, "Ending a waiver"); err != nil {
		return Waiver{}, err
	}
	var w Waiver
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
			return fault.New(fault.Conflict, "waiver-ended", "Waiver %d has ended before.", id)
		}
		if _, err := s.records.Append(ctx, tx, records.Entry{Kind: ledger.WaiverEnded, By: by, Subject: w.Publisher + w.Pattern, Body: struct {
			Waiver int64  `json:"waiver"`
			Record int64  `json:"record"`
			Reason string `json:"reason"`
		}{id, w.Position, reason}}); err != nil {
			return err
		}
		w.EndedAt, w.EndedBy, w.EndReason = &now, by, reason
		return tx.EndWaiver(ctx, id, now, by, reason)
	})
	if errors.Is(err, store.ErrNotFound) {
		return w, fault.New(fault.NotFound, "waiver-unknown", "There is no waiver %d.", id).Advise("“endeixis waiver list” shows which there are.")
	}
	return w, err
}

// waiversAsOf returns the waivers that counted at a time.
func waiversAsOf(ctx context.Context, from store.Reads, at time.Time) ([]judge.Waiver, error) {
	rows, err := from.WaiversAsOf(ctx, at)
	if err != nil {
		return nil, err
	}
	var out []judge.Waiver
	for _, w := range rows {
		out = append(out, judge.Waiver{Record: w.Position, Ground: judge.Code(w.Ground), Publisher: w.Publisher, Pattern: w.Pattern, Reason: w.Reason, By: w.By, Until: w.Until})
	}
	return out, nil
}
