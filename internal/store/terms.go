package store

import (
	"cmp"
	"context"
)

// The facets by which records are found beside what lists show of them.
const (
	// GroundFacet is the code of a ground, and CauseFacet that of what explains a difference.
	GroundFacet = "ground"
	CauseFacet  = "cause"
	// PublisherFacet is a slug.
	PublisherFacet = "publisher"
	// KeyFacet is a fingerprint, or what a signature names as its maker.
	KeyFacet = "key"
	// DeviceFacet is the name of a device.
	DeviceFacet = "device"
	// PlaceFacet is where bytes were read: a depot's folder, or a host with a folder or medium.
	PlaceFacet = "place"
	LabelFacet = "label"
	// WaiverFacet is the position of the record that granted a waiver.
	WaiverFacet = "waiver"
)

// A Term is something that records are found by: a facet, and its value.
type Term struct {
	Facet, Value string
}

// Compare orders terms.
func (t Term) Compare(other Term) int {
	return cmp.Or(cmp.Compare(t.Facet, other.Facet), cmp.Compare(t.Value, other.Value))
}

// RecordTerms are the terms of some records.
type RecordTerms struct {
	positions      []int64
	facets, values []string
}

// Add takes those of one record.
func (r *RecordTerms) Add(position int64, terms []Term) {
	for _, t := range terms {
		r.positions = append(r.positions, position)
		r.facets, r.values = append(r.facets, t.Facet), append(r.values, t.Value)
	}
}

// AddTerms stores what records are found by. Those that are stored already stay.
func (t *Tx) AddTerms(ctx context.Context, r RecordTerms) error {
	if len(r.positions) == 0 {
		return nil
	}
	if _, err := t.tx.ExecContext(
		ctx, `INSERT INTO terms (facet, value)
			SELECT DISTINCT n.facet, n.value FROM unnest($1::text[], $2::text[]) n (facet, value)
			WHERE NOT EXISTS (SELECT FROM terms t WHERE t.facet = n.facet AND t.value = n.value)
		ON CONFLICT DO NOTHING`, r.facets, r.values,
	); err != nil {
		return explain(err)
	}
	_, err := t.tx.ExecContext(
		ctx, `INSERT INTO record_terms (term, position)
			SELECT t.id, n.position FROM unnest($1::bigint[], $2::text[], $3::text[]) n (position, facet, value)
			JOIN terms t ON t.facet = n.facet AND t.value = n.value
		ON CONFLICT DO NOTHING`, r.positions, r.facets, r.values,
	)
	return explain(err)
}

// WithoutTerms returns below which position records have no terms yet.
func (s Reads) WithoutTerms(ctx context.Context) (below int64, err error) {
	err = s.q.GetContext(ctx, &below, `SELECT without_terms FROM ledger_state`)
	return below, explain(err)
}

// SetWithoutTerms says below which position records have no terms yet.
func (t *Tx) SetWithoutTerms(ctx context.Context, below int64) error {
	_, err := t.tx.ExecContext(ctx, `UPDATE ledger_state SET without_terms = $1`, below)
	return explain(err)
}

// A TermMatch says which values of a facet are meant.
type TermMatch string

// The ways in which values are meant.
const (
	// Exactly is the value itself, Containing what has it as a part, ignoring case, and Edge what
	// begins or ends with it.
	Exactly    TermMatch = "exactly"
	Containing TermMatch = "containing"
	Edge       TermMatch = "edge"
)

// TermNumbers returns the numbers of the terms of a facet that are meant, at most limit.
func (s Reads) TermNumbers(ctx context.Context, facet, value string, how TermMatch, limit int) ([]int64, error) {
	condition, args := `value = $2`, []any{facet, value, limit}
	switch how {
	case Exactly:
	case Containing:
		condition, args[1] = `lower(value) LIKE lower($2)`, "%"+literal(value)+"%"
	case Edge:
		condition, args[1] = `(value LIKE $2 OR value LIKE $4)`, literal(value)+"%"
		args = append(args, "%"+literal(value))
	}
	out := []int64{}
	err := s.q.SelectContext(ctx, &out, `SELECT id FROM terms WHERE facet = $1 AND `+condition+` ORDER BY id LIMIT $3`, args...)
	return out, explain(err)
}
