package store

import (
	"context"
	"math"
	"time"

	"endeixis/internal/fault"
)

// A Satchel is one that was packed.
type Satchel struct {
	ID string `db:"id"`
	// Digest is the SHA-256 digest of its content in hexadecimal, and Document what is
	// told about it.
	Digest   string    `db:"digest"`
	Document []byte    `db:"document"`
	By       string    `db:"by_name"`
	At       time.Time `db:"at"`
	Until    time.Time `db:"until"`
	Position int64     `db:"position"`
	// Returned is how many outcomes came back.
	Returned int `db:"returned"`
}

const selectSatchels = `SELECT id, digest, document, by_name, at, until, position, (SELECT count(*) FROM visits v
	WHERE v.satchel_id = s.id) AS returned FROM satchels s `

// AddSatchel stores a satchel that was packed.
func (t *Tx) AddSatchel(ctx context.Context, s Satchel) error {
	_, err := t.tx.ExecContext(
		ctx,
		`INSERT INTO satchels (id, digest, document, by_name, at, until, position)
			VALUES ($1, $2, $3::jsonb, $4, $5, $6, $7)`,
		s.ID,
		s.Digest,
		string(s.Document),
		s.By,
		s.At,
		s.Until,
		s.Position,
	)
	return explain(err)
}

// Satchels lists those that were packed, the newest first.
func (s Reads) Satchels(ctx context.Context, limit int) ([]Satchel, error) {
	out := []Satchel{}
	err := s.q.SelectContext(ctx, &out, selectSatchels+`ORDER BY position DESC LIMIT $1`, limit)
	return out, explain(err)
}

// Satchel returns one, or [ErrNotFound].
func (s Reads) Satchel(ctx context.Context, id string) (Satchel, error) {
	var out Satchel
	err := s.q.GetContext(ctx, &out, selectSatchels+`WHERE id = $1`, id)
	return out, explain(err)
}

// A Visit is an outcome that was sealed on site.
type Visit struct {
	Batch    int64  `db:"batch_id"`
	Satchel  string `db:"satchel_id"`
	SealedBy string `db:"sealed_by"`
	N        int    `db:"n"`
	// Content is the entry, as it was sealed, where that was asked for, and Digest its SHA-256
	// in hexadecimal.
	Content  []byte `db:"content"`
	Digest   string `db:"digest"`
	Position int64  `db:"position"`
}

const selectVisits = `SELECT batch_id, satchel_id, sealed_by, n, content, encode(sha256(content), 'hex') AS digest,
	position FROM visits `

// AddVisit stores an outcome that was sealed on site.
func (t *Tx) AddVisit(ctx context.Context, v Visit) error {
	_, err := t.tx.ExecContext(
		ctx,
		`INSERT INTO visits (batch_id, satchel_id, sealed_by, n, content, position) VALUES ($1, $2, $3, $4, $5, $6)`,
		v.Batch, v.Satchel, v.SealedBy, v.N, v.Content, v.Position,
	)
	if isUnique(err, "visits_once") {
		return fault.New(fault.Conflict, fault.BeingReturned, "Outcome %d is being taken back already.", v.N).
			Advise("Look at what came of that.").
			At("outcomes")
	}
	return explain(err)
}

// Visits lists what came back of a satchel, in the order in which it did, without the contents:
// one can have megabytes.
func (s Reads) Visits(ctx context.Context, satchel string) ([]Visit, error) {
	out := []Visit{}
	err := s.q.SelectContext(
		ctx,
		&out,
		`SELECT batch_id, satchel_id, sealed_by, n, ''::bytea AS content, encode(sha256(content), 'hex') AS digest,
			position FROM visits WHERE satchel_id = $1 ORDER BY batch_id`,
		satchel,
	)
	return out, explain(err)
}

// Visit returns what was sealed on site of a batch, or [ErrNotFound].
func (s Reads) Visit(ctx context.Context, batch int64) (Visit, error) {
	var v Visit
	err := s.q.GetContext(ctx, &v, selectVisits+`WHERE batch_id = $1`, batch)
	return v, explain(err)
}

// LockSatchel keeps others from returning outcomes of a satchel until the transaction ends.
func (t *Tx) LockSatchel(ctx context.Context, id string) error {
	_, err := t.tx.ExecContext(ctx, `SELECT pg_advisory_xact_lock(hashtext('satchel ' || $1))`, id)
	return explain(err)
}

// A Standing is an artifact of a batch as it counts now.
type Standing struct {
	N        int     `db:"n"`
	Path     string  `db:"path"`
	Verdict  *string `db:"verdict"`
	Now      *string `db:"now"`
	Deciding string  `db:"deciding"`
}

// Standings lists the artifacts of a batch as they count now.
func (s Reads) Standings(ctx context.Context, batch int64) ([]Standing, error) {
	out := []Standing{}
	err := s.q.SelectContext(ctx, &out, `SELECT i.n, i.path, o.verdict, coalesce(o.deciding, '') AS deciding,
			`+newest("after", "i")+` AS now
		FROM items i `+withOutcome+`WHERE i.batch_id = $1 AND i.role = 'artifact' ORDER BY i.n`, batch)
	return out, explain(err)
}

// A Clearance is a file that is cleared, with what cleared it.
type Clearance struct {
	Batch    int64  `db:"batch_id"`
	N        int    `db:"n"`
	Path     string `db:"path"`
	Position int64  `db:"position"`
	// Now is the record of the newest reassessment that changed its verdict, or nil.
	Now      *int64   `db:"now"`
	Evidence Evidence `db:"-"`
	// Later is what that record says.
	Later Evidence `db:"-"`
}

// Paths are those by which it counts as cleared now.
func (c *Clearance) Paths() []byte {
	if c.Now != nil {
		return c.Later.Paths
	}
	return c.Evidence.Paths
}

// Records are those that say so.
func (c *Clearance) Records() []Record {
	if c.Now != nil {
		return []Record{c.Evidence.Record, c.Later.Record}
	}
	return []Record{c.Evidence.Record}
}

// A ClearancePlace is where a file stands among the newest that are cleared.
type ClearancePlace struct {
	Batch int64
	N     int
}

// ClearancesOf lists the newest files that count as cleared now and may be by what some publishers
// vouch for: files that were expected from them, and files with signatures by their keys, of which
// signers are the fingerprints. They come behind a place, or from the newest on for its zero value.
func (s Reads) ClearancesOf(
	ctx context.Context, publishers, signers []string, after ClearancePlace, limit int,
) ([]Clearance, error) {
	out := []Clearance{}
	if after.Batch == 0 {
		after.Batch = math.MaxInt64
	}
	if err := s.q.SelectContext(ctx, &out, `WITH may AS (
			(SELECT batch_id, n FROM outcome_signers
				WHERE issuer = ANY($2) AND (batch_id < $3 OR batch_id = $3 AND n > $4)
				GROUP BY batch_id, n ORDER BY batch_id DESC, n LIMIT 4 * $5)
			UNION
			SELECT i.batch_id, i.n FROM (SELECT id FROM batches WHERE expected -> 'publishers' ?| $1
			AND state = 'done' AND total_cleared > 0 ORDER BY id DESC LIMIT 500) b
				JOIN items i ON i.batch_id = b.id WHERE (i.batch_id < $3 OR i.batch_id = $3 AND i.n > $4))
		SELECT i.batch_id, i.n, i.path, o.position, now.position AS now
		FROM may JOIN items i ON i.batch_id = may.batch_id AND i.n = may.n `+withOutcome+`
		LEFT JOIN LATERAL (SELECT r.after, r.position FROM rejudged r WHERE r.batch_id = i.batch_id AND r.n = i.n
		ORDER BY r.reassessment_id DESC LIMIT 1) now ON true
		WHERE coalesce(now.after, o.verdict) = 'cleared' AND i.role = 'artifact' AND NOT i.survey ? 'against'
		ORDER BY i.batch_id DESC, i.n LIMIT $5`, publishers, signers, after.Batch, after.N, limit); err != nil {
		return nil, explain(err)
	}
	if err := told(
		ctx, s, out, func(c *Clearance) about { return about{c.Batch, c.Path, &c.Position, &c.Evidence} },
	); err != nil {
		return nil, err
	}
	return out, told(ctx, s, out, func(c *Clearance) about { return about{c.Batch, c.Path, c.Now, &c.Later} })
}
