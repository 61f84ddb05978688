package store

import (
	"context"
	"time"
)

// A Sighting is a fingerprint read somewhere.
type Sighting struct {
	ID          int64     `db:"id"`
	Fingerprint []byte    `db:"fingerprint"`
	Read        []byte    `db:"read_value"`
	Channel     string    `db:"channel"`
	Place       string    `db:"place"`
	Note        string    `db:"note"`
	At          time.Time `db:"at"`
	By          string    `db:"by_name"`
	// Resolved is how a curator explained a conflict, or empty.
	Resolved   string     `db:"resolved"`
	ResolvedBy string     `db:"resolved_by"`
	ResolvedAt *time.Time `db:"resolved_at"`
	Position   int64      `db:"position"`
}

// AddSighting stores a sighting with its record's position.
func (t *Tx) AddSighting(ctx context.Context, s Sighting) error {
	_, err := t.tx.NamedExecContext(
		ctx,
		`INSERT INTO sightings (fingerprint, read_value, channel, place, note, at, by_name, position)
		VALUES (:fingerprint, :read_value, :channel, :place, :note, :at, :by_name, :position)`,
		s,
	)
	return err
}

// ResolveSighting notes how a conflict was explained.
func (t *Tx) ResolveSighting(ctx context.Context, position int64, reason, by string, at time.Time) error {
	_, err := t.tx.ExecContext(
		ctx, `UPDATE sightings SET resolved = $2, resolved_by = $3, resolved_at = $4 WHERE position = $1`, position,
		reason, by, at,
	)
	return err
}
