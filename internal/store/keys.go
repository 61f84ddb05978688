package store

import (
	"context"
	"strings"
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

const (
	selectKeys = `SELECT k.fingerprint, k.certificate, ` + aboutKeys
	// selectKeyRows leaves the certificates out: one can have megabytes.
	selectKeyRows = `SELECT k.fingerprint, ''::bytea AS certificate, ` + aboutKeys
	aboutKeys     = `coalesce(p.slug, '') AS publisher, k.role, k.imported_at, k.imported_by, k.source, k.position, k.revision
	FROM keys k LEFT JOIN publishers p ON p.id = k.publisher_id `
)

// Keys lists keys in the order of their import: those with the fingerprints, or
// all for nil.
func (s Reads) Keys(ctx context.Context, fingerprints [][]byte) ([]Key, error) {
	return s.keys(ctx, selectKeys, fingerprints)
}

// KeyRows is Keys without the certificates.
func (s Reads) KeyRows(ctx context.Context, fingerprints [][]byte) ([]Key, error) {
	return s.keys(ctx, selectKeyRows, fingerprints)
}

func (s Reads) keys(ctx context.Context, selected string, fingerprints [][]byte) ([]Key, error) {
	out := []Key{}
	err := s.q.SelectContext(ctx, &out, selected+`WHERE $1::bytea[] IS NULL OR k.fingerprint = ANY($1) ORDER BY k.imported_at, k.fingerprint`, fingerprints)
	return out, explain(err)
}

// KeyringVersion returns a text that differs after every change of publishers,
// keys, their states and sightings.
func (s Reads) KeyringVersion(ctx context.Context) (string, error) {
	var version string
	err := s.q.GetContext(ctx, &version, `SELECT (SELECT count(*) || '/' || coalesce(sum(revision), 0) FROM keys)
		|| '/' || (SELECT count(*) FROM key_changes) || '/' || (SELECT count(*) || '/' || coalesce(sum(revision), 0) FROM publishers)
		|| '/' || (SELECT count(*) || '/' || count(resolved_at) FROM sightings)`)
	return version, explain(err)
}

// KeyringChanged returns the position of the newest record that changed keys,
// their states or publishers, or -1.
func (s Reads) KeyringChanged(ctx context.Context) (int64, error) {
	var position int64
	err := s.q.GetContext(ctx, &position, `SELECT greatest((SELECT max(position) FROM keys), (SELECT max(position) FROM publishers), (SELECT max(position) FROM key_changes), -1)`)
	return position, explain(err)
}

// BasisChanged reports whether a record at a position or behind it has changed what
// items are judged by: keys, their states, publishers, policy or waivers.
func (s Reads) BasisChanged(ctx context.Context, since int64) (bool, error) {
	keyring, err := s.KeyringChanged(ctx)
	if err != nil || keyring >= since {
		return err == nil, err
	}
	var changed bool
	err = s.q.GetContext(ctx, &changed, `SELECT EXISTS (SELECT FROM ledger_records WHERE position >= $1 AND kind IN ('policy-set', 'waiver-granted', 'waiver-ended'))`, since)
	return changed, explain(err)
}

// KeysAsOf lists the keys as they were when the ledger had a size, in the order
// of their import.
func (s Reads) KeysAsOf(ctx context.Context, size int64) ([]Key, error) {
	out := []Key{}
	err := s.q.SelectContext(ctx, &out, `SELECT * FROM (
			SELECT DISTINCT ON (v.fingerprint) v.fingerprint, v.certificate, coalesce(p.slug, '') AS publisher, v.role, k.imported_at, k.imported_by, k.source, v.position, v.revision
			FROM key_versions v JOIN keys k USING (fingerprint) LEFT JOIN publishers p ON p.id = v.publisher_id
			WHERE v.position < $1 ORDER BY v.fingerprint, v.revision DESC) was
		ORDER BY imported_at, fingerprint`, size)
	return out, explain(err)
}

// Key returns one key, or [ErrNotFound].
func (s Reads) Key(ctx context.Context, fingerprint []byte) (Key, error) {
	var k Key
	err := s.q.GetContext(ctx, &k, selectKeys+`WHERE k.fingerprint = $1`, fingerprint)
	return k, explain(err)
}

// LockKey returns a key and keeps others from changing it until the
// transaction ends. It returns [ErrNotFound] when the key is not there.
func (t *Tx) LockKey(ctx context.Context, fingerprint []byte) (Key, error) {
	var k Key
	err := t.tx.GetContext(ctx, &k, selectKeys+`WHERE k.fingerprint = $1 FOR UPDATE OF k`, fingerprint)
	return k, explain(err)
}

// AddKey stores a new key.
func (t *Tx) AddKey(ctx context.Context, k Key) error {
	_, err := t.tx.ExecContext(ctx, `INSERT INTO keys (fingerprint, certificate, publisher_id, role, imported_at, imported_by, source, position)
		VALUES ($1, $2, (SELECT id FROM publishers WHERE slug = $3), $4, $5, $6, $7, $8)`,
		k.Fingerprint, k.Certificate, k.Publisher, k.Role, k.ImportedAt, k.ImportedBy, k.Source, k.Position)
	return err
}

// SetCertificate replaces a key's certificate by a merged one, as a record says.
func (t *Tx) SetCertificate(ctx context.Context, fingerprint, certificate []byte, position int64) error {
	_, err := t.tx.ExecContext(ctx, `UPDATE keys SET certificate = $2, position = $3 WHERE fingerprint = $1`, fingerprint, certificate, position)
	return err
}

// SetPublisher says for which publisher and in which role a key is meant, as a
// record says.
func (t *Tx) SetPublisher(ctx context.Context, fingerprint []byte, publisher, role string, position int64) error {
	_, err := t.tx.ExecContext(ctx, `UPDATE keys SET publisher_id = (SELECT id FROM publishers WHERE slug = $2), role = $3, position = $4 WHERE fingerprint = $1`,
		fingerprint, publisher, role, position)
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
	_, err := t.tx.ExecContext(ctx, `INSERT INTO key_changes (fingerprint, at, to_state, by_name, reason, position, until, rests_on)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8)`, c.Fingerprint, c.At, c.To, c.By, c.Reason, c.Position, c.Until, append([]string{}, c.RestsOn...))
	return err
}

// KeyChanges lists the steps of all keys, or of one, oldest first.
func (s Reads) KeyChanges(ctx context.Context, fingerprints [][]byte) ([]KeyChange, error) {
	rows := []struct {
		KeyChange
		Anchors string `db:"anchors"`
	}{}
	err := s.q.SelectContext(ctx, &rows, `SELECT fingerprint, at, to_state, by_name, reason, position, until, array_to_string(rests_on, ' ') AS anchors FROM key_changes
		WHERE $1::bytea[] IS NULL OR fingerprint = ANY($1) ORDER BY id`, fingerprints)
	out := make([]KeyChange, len(rows))
	for i, row := range rows {
		out[i] = row.KeyChange
		out[i].RestsOn = strings.Fields(row.Anchors)
	}
	return out, explain(err)
}

// LockBasis lets decisions about what is judged by happen one after another, keys,
// policy and waivers: what one rests on, such as an anchor, does not change before it
// is recorded, and no batch ends while it does.
func (t *Tx) LockBasis(ctx context.Context) error {
	_, err := t.tx.ExecContext(ctx, `SELECT pg_advisory_xact_lock(hashtext('endeixis keyring'))`)
	return err
}
