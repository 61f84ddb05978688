package recorded

import (
	"context"

	"endeixis/core/ledger"
	"endeixis/internal/store"
)

// Publisher is what is known about a publisher.
type Publisher struct {
	Slug    string   `json:"slug"`
	Name    string   `json:"name"`
	Contact string   `json:"contact"`
	Scope   []string `json:"scope"`
}

// PublisherOf returns what a row holds about a publisher.
func PublisherOf(row store.Publisher) Publisher {
	return Publisher{Slug: row.Slug, Name: row.Name, Contact: row.Contact, Scope: row.Scope}
}

// PublisherAdded is a new publisher.
type PublisherAdded Publisher

// Kind is [ledger.PublisherAdded].
func (PublisherAdded) Kind() ledger.Kind { return ledger.PublisherAdded }

func (b PublisherAdded) row(h Head) store.Publisher {
	return store.Publisher{
		Slug: b.Slug, Name: b.Name, Contact: b.Contact, Scope: append([]string{}, b.Scope...), CreatedAt: h.At,
		CreatedBy: h.By, Position: h.Position,
	}
}

// Follow stores the publisher.
func (b PublisherAdded) Follow(ctx context.Context, tx *store.Tx, h Head) error {
	return tx.AddPublisher(ctx, b.row(h))
}

func (b PublisherAdded) add(to *Basis, h Head) { to.setPublisher(b.row(h)) }

// PublisherChanged is a publisher of whom something else is known from then on.
type PublisherChanged struct {
	Before Publisher `json:"before"`
	After  Publisher `json:"after"`
}

// Kind is [ledger.PublisherChanged].
func (PublisherChanged) Kind() ledger.Kind { return ledger.PublisherChanged }

// Follow stores what is known.
func (b PublisherChanged) Follow(ctx context.Context, tx *store.Tx, h Head) error {
	return tx.SetPublisherDetails(ctx, PublisherAdded(b.After).row(h))
}

func (b PublisherChanged) add(to *Basis, h Head) {
	now := PublisherAdded(b.After).row(h)
	before := to.Publishers[now.Slug]
	now.CreatedAt, now.CreatedBy = before.CreatedAt, before.CreatedBy
	to.setPublisher(now)
}
