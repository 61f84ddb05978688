package store

import (
	"context"
	"time"
)

// A Policy is one version of the policy, or of what a publisher has otherwise.
// Versions count through all of them, so that a number says what was in force
// for everybody.
type Policy struct {
	Version int64 `db:"version"`
	// Name is "default", or "publisher/" and a slug; then the document holds
	// only the fields that differ.
	Name      string    `db:"name"`
	Document  []byte    `db:"document"`
	Reason    string    `db:"reason"`
	CreatedAt time.Time `db:"created_at"`
	CreatedBy string    `db:"created_by"`
	// Position is that of its record, where the row comes from one.
	Position int64 `db:"-"`
}

// NextPolicyVersion returns the number of a version that is to be stored, and has others who want
// to store one wait until the transaction ends.
func (t *Tx) NextPolicyVersion(ctx context.Context) (int64, error) {
	// One after another, so that what is in force as of a number stays so.
	// (The table cannot be locked by who may only add to it.)
	const turn = 7474002
	if _, err := t.tx.ExecContext(ctx, `SELECT pg_advisory_xact_lock($1)`, turn); err != nil {
		return 0, err
	}
	var version int64
	err := t.tx.GetContext(ctx, &version, `SELECT nextval(pg_get_serial_sequence('policies', 'version'))`)
	return version, explain(err)
}

// AddPolicy stores a new version.
func (t *Tx) AddPolicy(ctx context.Context, p Policy) error {
	_, err := t.tx.ExecContext(
		ctx,
		`INSERT INTO policies (version, name, document, created_at, created_by, reason) OVERRIDING SYSTEM VALUE
			VALUES ($1, $2, $3, $4, $5, $6)`,
		p.Version,
		p.Name,
		string(p.Document),
		p.CreatedAt,
		p.CreatedBy,
		p.Reason,
	)
	return explain(err)
}

// PolicyVersion returns the number of the newest version, or 0 where there is
// none yet.
func (s Reads) PolicyVersion(ctx context.Context) (int64, error) {
	var version int64
	err := s.q.GetContext(ctx, &version, `SELECT coalesce(max(version), 0) FROM policies`)
	return version, explain(err)
}

// PolicyBefore returns the number of the version before another, or 0.
func (s Reads) PolicyBefore(ctx context.Context, version int64) (int64, error) {
	var before int64
	err := s.q.GetContext(ctx, &before, `SELECT coalesce(max(version), 0) FROM policies WHERE version < $1`, version)
	return before, explain(err)
}

// Policies lists the versions of the policy, the newest first.
func (s Reads) Policies(ctx context.Context, limit int) ([]Policy, error) {
	out := []Policy{}
	err := s.q.SelectContext(ctx, &out, `SELECT * FROM policies ORDER BY version DESC LIMIT $1`, limit)
	return out, explain(err)
}
