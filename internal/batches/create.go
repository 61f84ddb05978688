package batches

import (
	"context"
	"encoding/json"
	"errors"
	"strings"

	"endeixis/core/judge"
	"endeixis/core/plain"
	"endeixis/core/survey"
	"endeixis/internal/fault"
	"endeixis/internal/query"
	"endeixis/internal/sources"
	"endeixis/internal/store"
)

// A Request asks for a batch.
type Request struct {
	Source     sources.Source
	Label      string
	Publisher  string
	RequireAll bool
	// Companions are patterns for files that come along and need no clearing.
	Companions     []string
	IdempotencyKey string
	// Against makes it a readback: what the one file of the measurer, a medium, is read
	// back against.
	Against *GivenAgainst
	// Software is the program of the measurer, where there is one.
	Software string
	// Corrections pair signatures and files by hand.
	Corrections []survey.Correction
	// ComesFrom says where manifests of the folder come from, by path, and
	// Copies are others of them.
	ComesFrom map[string]survey.Provenance
	Copies    []GivenCopy
}

// maxOpen bounds how many batches of one person are open at a time, so that one
// who asks for too many keeps nobody else waiting for ever.
const maxOpen = 1000

// Create checks and stores a new batch, or returns the earlier one that was
// made with the same idempotency key.
func (s *Service) Create(ctx context.Context, by string, r Request) (query.Batch, error) {
	if r.Corrections == nil {
		r.Corrections = []survey.Correction{}
	}
	if r.ComesFrom == nil {
		r.ComesFrom = map[string]survey.Provenance{}
	}
	copies, given, err := s.copiesOf(r.Copies)
	if err == nil {
		err = checkOrigins(r.ComesFrom)
	}
	if err != nil {
		return query.Batch{}, err
	}
	if err := s.checkSource(ctx, by, r, given); err != nil {
		return query.Batch{}, err
	}
	var against []byte
	if r.Against != nil {
		if against, err = s.readBack(ctx, r); err != nil {
			return query.Batch{}, err
		}
	}
	again := func(ctx context.Context, tx *store.Tx, id int64) error {
		return errors.Join(
			sameCopies(ctx, tx, id, copies), sameAgainst(ctx, tx, id, against), sameMeasurer(ctx, tx, id, r),
		)
	}
	return s.create(ctx, by, r, again, func(ctx context.Context, tx *store.Tx, id int64) error {
		if err := tx.AddCopies(ctx, id, copies); err != nil {
			return err
		}
		if r.Source.HasMeasurer() {
			return tx.AddMeasurer(
				ctx, store.Measurer{Batch: id, Software: r.Software, HeardAt: s.now(), Against: against},
			)
		}
		return s.jobs.Survey(ctx, tx, id, sources.Queue(r.Source))
	})
}

// sameMeasurer looks whether a batch is measured by the program that a request names.
func sameMeasurer(ctx context.Context, tx *store.Tx, id int64, r Request) error {
	if !r.Source.HasMeasurer() {
		return nil
	}
	m, err := tx.Measurer(ctx, id)
	if err == nil && m.Software != r.Software {
		err = store.KeyReused(id)
	}
	return err
}

// create stores a new batch with what belongs to it, in one transaction; again, which may
// be nil, looks whether a request with a key that was used asks for the same.
func (s *Service) create(
	ctx context.Context, by string, r Request, again, more func(ctx context.Context, tx *store.Tx, id int64) error,
) (query.Batch, error) {
	corrections, err1 := json.Marshal(r.Corrections)
	comesFrom, err2 := json.Marshal(r.ComesFrom)
	named, err3 := json.Marshal(append([]string{}, r.Companions...))
	if err := errors.Join(err1, err2, err3); err != nil {
		return query.Batch{}, err
	}
	if err := judge.CheckCompanions(r.Companions); err != nil {
		return query.Batch{}, fault.New(fault.Invalid, fault.BadCompanion, "The batch was not asked for: %s.", err).
			Advise("Name companions by what their names have in common, such as *.txt or notes/*.").
			At("companions")
	}
	if len(r.Label) > 200 || strings.ContainsRune(r.Label, 0) || len(r.IdempotencyKey) > 200 {
		return query.Batch{}, fault.New(fault.Invalid, fault.LongLabel, "A label can have at most 200 characters.").
			At("label")
	}
	if r.Publisher != "" {
		if _, err := s.publishers.Publisher(ctx, r.Publisher); err != nil {
			return query.Batch{}, err
		}
	}
	policies, err := s.policy.InForce(ctx, 0)
	if err != nil {
		return query.Batch{}, err
	}
	open, err := s.store.OpenBatches(ctx, by)
	if err != nil {
		return query.Batch{}, err
	}
	if open >= maxOpen {
		return query.Batch{}, fault.New(fault.TooMany, fault.TooManyOpen, "%d batches of yours are still open.", open).
			Advise("Wait until some of them have ended, then ask again.")
	}
	var id int64
	err = s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		var added bool
		id, added, err = tx.AddBatch(ctx, store.Batch{
			Label:          r.Label,
			SourceKind:     string(r.Source.Kind),
			Source:         r.Source.Reference,
			Publisher:      r.Publisher,
			RequireAll:     r.RequireAll,
			PolicyVersion:  policies.Version,
			AskedBy:        by,
			IdempotencyKey: r.IdempotencyKey,
			CreatedAt:      s.now(),
			Corrections:    corrections,
			Origins:        comesFrom,
			Named:          named,
		})
		if err != nil {
			return err
		}
		switch {
		case added:
			return more(ctx, tx, id)
		case again != nil:
			return again(ctx, tx, id)
		}
		return nil
	})
	if err != nil {
		return query.Batch{}, err
	}
	return s.Get(ctx, id)
}

// checkSource finds out what can be told before a batch is made: a mistake costs nothing
// but another try then. Of the files of a measurer nothing is known yet.
func (s *Service) checkSource(ctx context.Context, by string, r Request, given []survey.Copy) error {
	if r.Source.HasMeasurer() {
		if len(r.Software) > 200 {
			return fault.New(fault.Invalid, fault.BadMeasurer, "The name of the measuring program is too long.").
				At("measurer.software")
		}
		n, err := s.store.OpenListings(ctx, by)
		if err == nil && n >= maxListings {
			err = fault.New(fault.TooMany, fault.TooManyListings, "%d batches of yours wait for their list of files.", n).
				Advise("Send the lists, or cancel those batches.")
		}
		return err
	}
	folder, err := s.sources.Open(r.Source)
	if err != nil {
		return err
	}
	defer folder.Close()
	if len(r.Corrections)+len(r.ComesFrom)+len(given) > 0 {
		if err := survey.CheckNames(
			folder.FS(), survey.Options{Corrections: r.Corrections, Provenance: r.ComesFrom, Copies: given},
		); err != nil {
			return surveyFault(err)
		}
	}
	empty, err := folder.Empty()
	if err != nil {
		return fault.New(
			fault.Invalid, fault.FolderUnreadable, "The service may not list the folder %s.",
			plain.Quoted(r.Source.Reference),
		).
			At("path")
	}
	if empty {
		return fault.New(
			fault.Invalid, fault.FolderEmpty, "The folder %s is empty: there is nothing to verify.",
			plain.Quoted(r.Source.Reference),
		).
			Advise(
				"Put the artifacts with their manifests and signatures there, under the names they were published with.",
			).
			At("path")
	}
	return nil
}
