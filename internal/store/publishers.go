package store

import (
	"context"
	"encoding/json"
	"time"

	"endeixis/internal/fault"
)

// A Publisher releases artifacts.
type Publisher struct {
	ID        int64     `db:"id"`
	Slug      string    `db:"slug"`
	Name      string    `db:"name"`
	Contact   string    `db:"contact"`
	Scope     textArray `db:"scope"`
	CreatedAt time.Time `db:"created_at"`
	CreatedBy string    `db:"created_by"`
	// Position is that of the record of its last change, -1 for those of before.
	Position int64 `db:"position"`
}

// textArray reads a text[] column through its JSON form.
type textArray []string

// Scan reads what to_json(column) returns.
func (a *textArray) Scan(src any) error {
	switch v := src.(type) {
	case []byte:
		return json.Unmarshal(v, (*[]string)(a))
	case string:
		return json.Unmarshal([]byte(v), (*[]string)(a))
	}
	*a = textArray{}
	return nil
}

const selectPublishers = `SELECT id, slug, name, contact, to_json(scope) AS scope, created_at, created_by, position
	FROM publishers `

// AddPublisher stores a new publisher.
func (t *Tx) AddPublisher(ctx context.Context, p Publisher) error {
	_, err := t.tx.ExecContext(
		ctx,
		`INSERT INTO publishers (slug, name, contact, scope, created_at, created_by, position)
			VALUES ($1, $2, $3, $4, $5, $6, $7)`,
		p.Slug,
		p.Name,
		p.Contact,
		[]string(p.Scope),
		p.CreatedAt,
		p.CreatedBy,
		p.Position,
	)
	if isUnique(err, "publishers_slug_key") {
		return fault.New(fault.Conflict, fault.PublisherExists, "There is a publisher %s already.", p.Slug).
			Advise("Choose another short name, or use the one that is there.").
			At("slug")
	}
	return err
}

// SetPublisherDetails changes what is known about a publisher.
func (t *Tx) SetPublisherDetails(ctx context.Context, p Publisher) error {
	_, err := t.tx.ExecContext(
		ctx, `UPDATE publishers SET name = $2, contact = $3, scope = $4, position = $5 WHERE slug = $1`, p.Slug, p.Name,
		p.Contact, []string(p.Scope), p.Position,
	)
	return err
}

// LockPublisher returns a publisher and keeps others from changing it until the
// transaction ends, or returns [ErrNotFound].
func (t *Tx) LockPublisher(ctx context.Context, slug string) (Publisher, error) {
	var p Publisher
	err := t.tx.GetContext(ctx, &p, selectPublishers+`WHERE slug = $1 FOR UPDATE`, slug)
	return p, explain(err)
}

// Publishers lists all publishers by slug.
func (s Reads) Publishers(ctx context.Context) ([]Publisher, error) {
	out := []Publisher{}
	err := s.q.SelectContext(ctx, &out, selectPublishers+`ORDER BY slug`)
	return out, explain(err)
}

// Publisher finds a publisher, or returns [ErrNotFound].
func (s Reads) Publisher(ctx context.Context, slug string) (Publisher, error) {
	var p Publisher
	err := s.q.GetContext(ctx, &p, selectPublishers+`WHERE slug = $1`, slug)
	return p, explain(err)
}
