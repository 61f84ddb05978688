package store

import "context"

// AddCosignature stores what a witness has countersigned of the checkpoint of a size, unless it is
// there.
func (s *Store) AddCosignature(ctx context.Context, size int64, witness, line string) error {
	_, err := s.db.ExecContext(
		ctx, `INSERT INTO cosignatures (size, witness, line) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING`, size, witness,
		line,
	)
	return explain(err)
}

// A Cosigned checkpoint is one with the lines of some witnesses, by their names.
type Cosigned struct {
	Size   int64  `db:"size"`
	Signed string `db:"signed"`
	Lines  string `db:"lines"`
}

// LastCosigned returns the newest checkpoint over more records than a position that so many of the
// witnesses have countersigned, or [ErrNotFound].
func (s Reads) LastCosigned(ctx context.Context, position int64, witnesses []string, enough int) (Cosigned, error) {
	var out Cosigned
	err := s.q.GetContext(ctx, &out, `SELECT c.size, c.signed, w.lines FROM (
			SELECT size, string_agg(line, '' ORDER BY witness) AS lines FROM cosignatures WHERE size > $1
			AND witness = ANY($2) GROUP BY size HAVING count(*) >= $3 ORDER BY size DESC LIMIT 1) w
		JOIN checkpoints c ON c.size = w.size`, position, witnesses, enough)
	return out, explain(err)
}
