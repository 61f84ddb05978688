package store

import (
	"context"
	"time"
)

// A Key is a certificate of the keyring.
type Key struct {
	Fingerprint []byte    `db:"fingerprint"`
	Certificate []byte    `db:"certificate"`
	Publisher   string    `db:"publisher"`
	Role        string    `db:"role"`
	ImportedAt  time.Time `db:"imported_at"`
	ImportedBy  string    `db:"imported_by"`
	Source      string    `db:"source"`
	// Position is that of the record of its last change, -1 for those of before.
	Position int64 `db:"position"`
	// Revision grows with every change.
	Revision int64 `db:"revision"`
}

// AddKey stores a new key.
func (t *Tx) AddKey(ctx context.Context, k Key) error {
	_, err := t.tx.ExecContext(
		ctx,
		`INSERT INTO keys (fingerprint, certificate, publisher_id, role, imported_at, imported_by, source, position)
		VALUES ($1, $2, (SELECT id FROM publishers WHERE slug = $3), $4, $5, $6, $7, $8)`,
		k.Fingerprint,
		k.Certificate,
		k.Publisher,
		k.Role,
		k.ImportedAt,
		k.ImportedBy,
		k.Source,
		k.Position,
	)
	return err
}

// SetPublisher says for which publisher and in which role a key is meant, as a
// record says.
func (t *Tx) SetPublisher(ctx context.Context, fingerprint []byte, publisher, role string, position int64) error {
	_, err := t.tx.ExecContext(
		ctx,
		`UPDATE keys SET publisher_id = (SELECT id FROM publishers WHERE slug = $2), role = $3, position = $4
			WHERE fingerprint = $1`,
		fingerprint,
		publisher,
		role,
		position,
	)
	return err
}

// A KeyChange is one step of a key.
type KeyChange struct {
	Fingerprint []byte    `db:"fingerprint"`
	At          time.Time `db:"at"`
	To          string    `db:"to_state"`
	By          string    `db:"by_name"`
	Reason      string    `db:"reason"`
	Position    int64     `db:"position"`
	// Until is set for an admission for the past, and RestsOn are the anchors,
	// in hexadecimal, that one rests on.
	Until   *time.Time `db:"until"`
	RestsOn []string   `db:"-"`
}

// AddKeyChange stores a step with its record's position.
func (t *Tx) AddKeyChange(ctx context.Context, c KeyChange) error {
	_, err := t.tx.ExecContext(
		ctx,
		`INSERT INTO key_changes (fingerprint, at, to_state, by_name, reason, position, until, rests_on)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8)`,
		c.Fingerprint,
		c.At,
		c.To,
		c.By,
		c.Reason,
		c.Position,
		c.Until,
		append([]string{}, c.RestsOn...),
	)
	return err
}

// LockBasis lets decisions about what is judged by happen one after another, keys,
// policy and waivers: what one rests on, such as an anchor, does not change before it
// is recorded, and no batch ends while it does.
func (t *Tx) LockBasis(ctx context.Context) error {
	_, err := t.tx.ExecContext(ctx, `SELECT pg_advisory_xact_lock(hashtext('endeixis keyring'))`)
	return err
}

// CompleteKey replaces a key's certificate by a merged one, and says to whom the key belongs
// where that was not known, as a record says.
func (t *Tx) CompleteKey(ctx context.Context, fingerprint, certificate []byte, publisher string, position int64) error {
	_, err := t.tx.ExecContext(
		ctx,
		`UPDATE keys SET certificate = $2, position = $4, publisher_id = coalesce(publisher_id, (SELECT id
			FROM publishers WHERE slug = $3)) WHERE fingerprint = $1`,
		fingerprint,
		certificate,
		publisher,
		position,
	)
	return err
}

// An AdoptedKey is a version of a key that was adopted as it was found.
type AdoptedKey struct {
	Fingerprint []byte `db:"fingerprint"`
	Position    int64  `db:"position"`
	Publisher   string `db:"publisher"`
	Role        string `db:"role"`
	// Digest is the SHA-256 of its certificate in hexadecimal.
	Digest string `db:"digest"`
}

// AdoptedKeys lists the versions of keys that were adopted, in the order in which they came
// about.
func (s Reads) AdoptedKeys(ctx context.Context) ([]AdoptedKey, error) {
	out := []AdoptedKey{}
	err := s.q.SelectContext(
		ctx,
		&out,
		`SELECT v.fingerprint, v.position, coalesce(p.slug, '') AS publisher, v.role, encode(sha256(v.certificate),
			'hex') AS digest
		FROM key_versions v LEFT JOIN publishers p ON p.id = v.publisher_id
		WHERE `+isAdopted(
			"key_versions",
			keyVersionName("v"),
			keyVersionDigest("v"),
		)+` ORDER BY v.fingerprint, v.revision`,
	)
	return out, explain(err)
}

// CertificatesBy returns certificates as they are or were stored, by fingerprint and digest, both
// in hexadecimal: digests are the SHA-256 of those that are wanted.
func (s Reads) CertificatesBy(ctx context.Context, fingerprints [][]byte, digests [][]byte) ([][]byte, error) {
	out := [][]byte{}
	err := s.q.SelectContext(ctx, &out, `SELECT coalesce(
			(SELECT k.certificate FROM keys k WHERE k.fingerprint = w.fingerprint AND sha256(k.certificate) = w.digest),
			(SELECT v.certificate FROM key_versions v WHERE v.fingerprint = w.fingerprint
			AND sha256(v.certificate) = w.digest LIMIT 1), '')
		FROM unnest($1::bytea[], $2::bytea[]) WITH ORDINALITY w (fingerprint, digest, n)
			ORDER BY w.n`, fingerprints, digests)
	return out, explain(err)
}
