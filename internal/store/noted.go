package store

import (
	"context"
	"fmt"
	"time"
)

// A NotedReference is a digest that somebody has read somewhere.
type NotedReference struct {
	Position  int64  `db:"position"`
	Publisher string `db:"publisher"`
	Name      string `db:"name"`
	// Algorithm is what was stated, or empty.
	Algorithm string    `db:"algorithm"`
	Digest    []byte    `db:"digest"`
	Size      *int64    `db:"size"`
	Channel   string    `db:"channel"`
	Place     string    `db:"place"`
	Note      string    `db:"note"`
	By        string    `db:"by_name"`
	At        time.Time `db:"at"`
}

// AddNotedReference stores one.
func (t *Tx) AddNotedReference(ctx context.Context, r NotedReference) error {
	_, err := t.tx.ExecContext(
		ctx, `INSERT INTO noted_references
			(position, publisher, name, algorithm, digest, size, channel, place, note, by_name, at)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11)`,
		r.Position, r.Publisher, r.Name, r.Algorithm, r.Digest, r.Size, r.Channel, r.Place, r.Note, r.By, r.At,
	)
	return explain(err)
}

// NotedReferences lists digests that were noted, the newest first: those with one of some digests, where these are
// given, and else as the filter says.
func (s Reads) NotedReferences(ctx context.Context, digests [][]byte, f ReferenceFilter) ([]NotedReference, error) {
	var where conditions
	var args []any
	where.add(&args, digests != nil, "digest = ANY($%d)", digests)
	where.add(&args, f.Publisher != "", "publisher = $%d", f.Publisher)
	where.add(&args, f.Match != "", `lower(name) LIKE lower($%d)`, "%"+literal(f.Match)+"%")
	where.add(&args, f.Before > 0, "position < $%d", f.Before)
	out := []NotedReference{}
	err := s.q.SelectContext(
		ctx, &out,
		fmt.Sprintf(`SELECT * FROM noted_references %sORDER BY position DESC LIMIT %d`, where.clause(), f.Limit), args...,
	)
	return out, explain(err)
}
