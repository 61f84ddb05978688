package store

import (
	"context"
)

// A Copy is a copy of a manifest, from elsewhere.
type Copy struct {
	N       int    `db:"n"`
	Of      string `db:"of_path"`
	Channel string `db:"channel"`
	Place   string `db:"place"`
	// Origin and Path say where it is to be fetched from, or are empty.
	Origin  string `db:"origin"`
	Path    string `db:"path"`
	Content []byte `db:"content"`
	Summary []byte `db:"summary"`
}

// AddCopies stores the copies of a new batch.
func (t *Tx) AddCopies(ctx context.Context, batch int64, copies []Copy) error {
	for _, c := range copies {
		if _, err := t.tx.ExecContext(
			ctx,
			`INSERT INTO copies (batch_id, n, of_path, channel, place, origin, path, content)
				VALUES ($1, $2, $3, $4, $5, $6, $7, $8)`,
			batch,
			c.N,
			c.Of,
			c.Channel,
			c.Place,
			c.Origin,
			c.Path,
			c.Content,
		); err != nil {
			return err
		}
	}
	return nil
}

// Copies lists the copies of a batch with their content.
func (s Reads) Copies(ctx context.Context, batch int64) ([]Copy, error) {
	out := []Copy{}
	err := s.q.SelectContext(
		ctx, &out,
		`SELECT n, of_path, channel, place, origin, path, content, summary FROM copies WHERE batch_id = $1 ORDER BY n`,
		batch,
	)
	return out, explain(err)
}

// CopyRead stores what was had of a copy, and how it compares.
func (t *Tx) CopyRead(ctx context.Context, batch int64, n int, content, summary []byte) error {
	_, err := t.tx.ExecContext(
		ctx, `UPDATE copies SET content = $3, summary = $4 WHERE batch_id = $1 AND n = $2`, batch, n, content,
		string(summary),
	)
	return err
}
