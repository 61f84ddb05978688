package store

import (
	"context"
	"time"
)

// A Proposal is what one curator wants and another has to decide.
type Proposal struct {
	ID          int64     `db:"id"`
	Fingerprint []byte    `db:"fingerprint"`
	Publisher   string    `db:"publisher"`
	Role        string    `db:"role"`
	Reason      string    `db:"reason"`
	By          string    `db:"by_name"`
	At          time.Time `db:"at"`
	Position    int64     `db:"position"`
	// Decided is empty while it waits; then "admitted", "declined" or
	// "replaced".
	Decided string `db:"decided"`
	// Until is set for an admission for the past.
	Until *time.Time `db:"until"`
}

// AddProposal stores a proposal.
func (t *Tx) AddProposal(ctx context.Context, p Proposal) error {
	_, err := t.tx.NamedExecContext(
		ctx,
		`INSERT INTO proposals (fingerprint, publisher, role, reason, by_name, at, position, until)
		VALUES (:fingerprint, :publisher, :role, :reason, :by_name, :at, :position, :until)`,
		p,
	)
	return err
}

// DecideProposal says what became of the proposal that waits for a key, if any.
func (t *Tx) DecideProposal(ctx context.Context, fingerprint []byte, decided string) error {
	_, err := t.tx.ExecContext(
		ctx, `UPDATE proposals SET decided = $2 WHERE fingerprint = $1 AND decided = ''`, fingerprint, decided,
	)
	return err
}
