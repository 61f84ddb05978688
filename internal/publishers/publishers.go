// Package publishers keeps whose releases are verified: their names, how they
// are reached, and which files they may sign.
package publishers

import (
	"context"
	"errors"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"endeixis/core/plain"
	"endeixis/internal/fault"
	"endeixis/internal/recorded"
	"endeixis/internal/records"
	"endeixis/internal/store"
)

// Details are what is known about a publisher.
type Details = recorded.Publisher

// A Publisher is one of them, as it was decided last.
type Publisher struct {
	Details
	CreatedAt time.Time
	CreatedBy string
	// Position is that of the record of the last change.
	Position int64
}

func publisherOf(row store.Publisher) Publisher {
	return Publisher{
		Details: recorded.PublisherOf(row), CreatedAt: row.CreatedAt, CreatedBy: row.CreatedBy, Position: row.Position,
	}
}

// Service keeps them.
type Service struct {
	store   *store.Store
	records *records.Service
}

// New returns a Service.
func New(s *store.Store, r *records.Service) *Service {
	return &Service{s, r}
}

var slugForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,63}$`)

// Add adds a publisher.
func (s *Service) Add(ctx context.Context, by string, p Details) (Publisher, error) {
	if !slugForm.MatchString(p.Slug) {
		return Publisher{}, fault.New(
			fault.Invalid, fault.BadSlug, "The short name of a publisher has small letters, digits and hyphens only.",
		).
			At("slug")
	}
	if err := check(&p); err != nil {
		return Publisher{}, err
	}
	var row store.Publisher
	err := s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		if err := tx.LockBasis(ctx); err != nil {
			return err
		}
		_, err := s.records.Decide(ctx, tx, by, p.Slug, recorded.PublisherAdded(p))
		if err != nil {
			return err
		}
		row, err = tx.Publisher(ctx, p.Slug)
		return err
	})
	return publisherOf(row), err
}

// A Change holds what is to change about a publisher; what is nil
// stays.
type Change struct {
	Name    *string
	Contact *string
	Scope   []string
	// Seen is the version that was looked at, or empty.
	Seen string
}

// VersionOf names the state of a publisher; it is another with every change.
func VersionOf(p Publisher) string { return strconv.FormatInt(p.Position, 10) }

// Change changes what is known about a publisher. A new scope counts for
// batches that are asked for from then on.
func (s *Service) Change(ctx context.Context, by, slug string, change Change) (Publisher, error) {
	if _, err := s.Publisher(ctx, slug); err != nil {
		return Publisher{}, err
	}
	var row store.Publisher
	err := s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		err := tx.LockBasis(ctx)
		if err != nil {
			return err
		}
		if row, err = tx.LockPublisher(ctx, slug); err != nil {
			return err
		}
		if err := fault.Changed(change.Seen, VersionOf(publisherOf(row)), "the publisher "+slug); err != nil {
			return err
		}
		before := recorded.PublisherOf(row)
		after := before
		if change.Name != nil {
			after.Name = *change.Name
		}
		if change.Contact != nil {
			after.Contact = *change.Contact
		}
		if change.Scope != nil {
			after.Scope = change.Scope
		}
		if err := check(&after); err != nil {
			return err
		}
		if after.Name == before.Name && after.Contact == before.Contact && slices.Equal(after.Scope, before.Scope) {
			return fault.New(fault.Conflict, fault.PublisherUnchanged, "That is what is known about %s already.", slug)
		}
		if _, err = s.records.Decide(
			ctx, tx, by, slug, recorded.PublisherChanged{Before: before, After: after},
		); err != nil {
			return err
		}
		row, err = tx.Publisher(ctx, slug)
		return err
	})
	return publisherOf(row), err
}

// check refuses details that make no sense.
func check(p *Details) error {
	if strings.TrimSpace(p.Name) == "" || strings.ContainsRune(p.Name+p.Contact, 0) || len(p.Name) > 200 ||
		len(p.Contact) > 2000 {
		return fault.New(fault.Invalid, fault.BadName, "A publisher needs a name of at most 200 characters.").At("name")
	}
	for _, pattern := range p.Scope {
		if _, err := path.Match(pattern, ""); err != nil || pattern == "" || strings.ContainsRune(pattern, 0) {
			return fault.New(fault.Invalid, fault.BadScope, "%s is not a name pattern.", plain.Quoted(pattern)).
				Advise("Use a name with * and ?, such as gauge-*.").
				At("scope")
		}
	}
	if p.Scope == nil {
		p.Scope = []string{}
	}
	return nil
}

// All lists the publishers, by their short names.
func (s *Service) All(ctx context.Context) ([]Publisher, error) {
	rows, err := s.store.Publishers(ctx)
	out := make([]Publisher, len(rows))
	for i, row := range rows {
		out[i] = publisherOf(row)
	}
	return out, err
}

// Publisher returns one publisher.
func (s *Service) Publisher(ctx context.Context, slug string) (Publisher, error) {
	row, err := s.store.Publisher(ctx, slug)
	if errors.Is(err, store.ErrNotFound) {
		return Publisher{}, fault.New(fault.NotFound, fault.PublisherUnknown, "There is no publisher %s.", plain.Quoted(slug)).
			Advise("“endeixis publisher list” shows which there are.").
			At("publisher")
	}
	return publisherOf(row), err
}
