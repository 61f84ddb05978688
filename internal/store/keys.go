package store

import (
	"context"
	"encoding/json"
	"time"

	"github.com/jmoiron/sqlx"

	"endeixis/internal/fault"
)

// A Publisher releases artifacts.
type Publisher struct {
	ID        int64     `db:"id"`
	Slug      string    `db:"slug"`
	Name      string    `db:"name"`
	Contact   string    `db:"contact"`
	Scope     textArray `db:"scope"`
	CreatedAt time.Time `db:"created_at"`
	CreatedBy string    `db:"created_by"`
}

// textArray reads a text[] column through its JSON form.
type textArray []string

// Scan reads what to_json(column) returns.
func (a *textArray) Scan(src any) error {
	switch v := src.(type) {
	case []byte:
		return json.Unmarshal(v, (*[]string)(a))
	case string:
		return json.Unmarshal([]byte(v), (*[]string)(a))
	}
	*a = textArray{}
	return nil
}

const selectPublishers = `SELECT id, slug, name, contact, to_json(scope) AS scope, created_at, created_by FROM publishers `

// AddPublisher stores a new publisher.
func (t *Tx) AddPublisher(ctx context.Context, p Publisher) error {
	_, err := t.tx.ExecContext(ctx, `INSERT INTO publishers (slug, name, contact, scope, created_at, created_by) VALUES ($1, $2, $3, $4, $5, $6)`,
		p.Slug, p.Name, p.Contact, []string(p.Scope), p.CreatedAt, p.CreatedBy)
	if isUnique(err, "publishers_slug_key") {
		return fault.New(fault.Conflict, "publisher-exists", "There is a publisher %s already.", p.Slug).Advise("Choose another short name, or use the one that is there.").At("slug")
	}
	return err
}

// Publishers lists all publishers by slug.
func (s *Store) Publishers(ctx context.Context) ([]Publisher, error) {
	out := []Publisher{}
	err := s.db.SelectContext(ctx, &out, selectPublishers+`ORDER BY slug`)
	return out, explain(err)
}

// Publisher finds a publisher, or returns [ErrNotFound].
func (s *Store) Publisher(ctx context.Context, slug string) (Publisher, error) {
	var p Publisher
	err := s.db.GetContext(ctx, &p, selectPublishers+`WHERE slug = $1`, slug)
	return p, explain(err)
}

// A Key is a certificate of the keyring.
type Key struct {
	Fingerprint []byte    `db:"fingerprint"`
	Certificate []byte    `db:"certificate"`
	Publisher   string    `db:"publisher"`
	Role        string    `db:"role"`
	ImportedAt  time.Time `db:"imported_at"`
	ImportedBy  string    `db:"imported_by"`
	Source      string    `db:"source"`
}

const selectKeys = `SELECT k.fingerprint, k.certificate, coalesce(p.slug, '') AS publisher, k.role, k.imported_at, k.imported_by, k.source
	FROM keys k LEFT JOIN publishers p ON p.id = k.publisher_id `

// Keys lists all keys in the order of their import.
func (s *Store) Keys(ctx context.Context) ([]Key, error) {
	out := []Key{}
	err := s.db.SelectContext(ctx, &out, selectKeys+`ORDER BY k.imported_at, k.fingerprint`)
	return out, explain(err)
}

// KeyringVersion returns a text that differs after every change of publishers,
// keys and their states.
func (s *Store) KeyringVersion(ctx context.Context) (string, error) {
	var version string
	err := s.db.GetContext(ctx, &version, `SELECT (SELECT count(*) || '/' || coalesce(sum(revision), 0) FROM keys)
		|| '/' || (SELECT count(*) FROM key_changes) || '/' || (SELECT count(*) FROM publishers)`)
	return version, explain(err)
}

// Key returns one key, or [ErrNotFound].
func (s *Store) Key(ctx context.Context, fingerprint []byte) (Key, error) {
	var k Key
	err := s.db.GetContext(ctx, &k, selectKeys+`WHERE k.fingerprint = $1`, fingerprint)
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
	_, err := t.tx.ExecContext(ctx, `INSERT INTO keys (fingerprint, certificate, publisher_id, role, imported_at, imported_by, source)
		VALUES ($1, $2, (SELECT id FROM publishers WHERE slug = $3), $4, $5, $6, $7)`,
		k.Fingerprint, k.Certificate, k.Publisher, k.Role, k.ImportedAt, k.ImportedBy, k.Source)
	return err
}

// SetCertificate replaces a key's certificate by a merged one.
func (t *Tx) SetCertificate(ctx context.Context, fingerprint, certificate []byte) error {
	_, err := t.tx.ExecContext(ctx, `UPDATE keys SET certificate = $2 WHERE fingerprint = $1`, fingerprint, certificate)
	return err
}

// SetPublisher says for which publisher and in which role a key is meant.
func (t *Tx) SetPublisher(ctx context.Context, fingerprint []byte, publisher, role string) error {
	_, err := t.tx.ExecContext(ctx, `UPDATE keys SET publisher_id = (SELECT id FROM publishers WHERE slug = $2), role = $3 WHERE fingerprint = $1`, fingerprint, publisher, role)
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
}

// AddKeyChange stores a step with its record's position.
func (t *Tx) AddKeyChange(ctx context.Context, c KeyChange) error {
	_, err := t.tx.NamedExecContext(ctx, `INSERT INTO key_changes (fingerprint, at, to_state, by_name, reason, position)
		VALUES (:fingerprint, :at, :to_state, :by_name, :reason, :position)`, c)
	return err
}

// KeyChanges lists the steps of all keys, or of one, oldest first.
func (s *Store) KeyChanges(ctx context.Context, fingerprint []byte) ([]KeyChange, error) {
	return keyChanges(ctx, s.db, fingerprint)
}

// KeyChanges lists the steps of one key as this transaction sees them.
func (t *Tx) KeyChanges(ctx context.Context, fingerprint []byte) ([]KeyChange, error) {
	return keyChanges(ctx, t.tx, fingerprint)
}

func keyChanges(ctx context.Context, q sqlx.QueryerContext, fingerprint []byte) ([]KeyChange, error) {
	out := []KeyChange{}
	err := sqlx.SelectContext(ctx, q, &out, `SELECT fingerprint, at, to_state, by_name, reason, position FROM key_changes
		WHERE $1::bytea IS NULL OR fingerprint = $1 ORDER BY id`, fingerprint)
	return out, explain(err)
}

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
	Resolved    string    `db:"resolved"`
	Position    int64     `db:"position"`
}

// AddSighting stores a sighting with its record's position.
func (t *Tx) AddSighting(ctx context.Context, s Sighting) error {
	_, err := t.tx.NamedExecContext(ctx, `INSERT INTO sightings (fingerprint, read_value, channel, place, note, at, by_name, position)
		VALUES (:fingerprint, :read_value, :channel, :place, :note, :at, :by_name, :position)`, s)
	return err
}

// Sightings lists the sightings of all keys, or of one, oldest first.
func (s *Store) Sightings(ctx context.Context, fingerprint []byte) ([]Sighting, error) {
	return sightings(ctx, s.db, fingerprint)
}

// Sightings lists the sightings of one key as this transaction sees them.
func (t *Tx) Sightings(ctx context.Context, fingerprint []byte) ([]Sighting, error) {
	return sightings(ctx, t.tx, fingerprint)
}

func sightings(ctx context.Context, q sqlx.QueryerContext, fingerprint []byte) ([]Sighting, error) {
	out := []Sighting{}
	err := sqlx.SelectContext(ctx, q, &out, `SELECT * FROM sightings WHERE $1::bytea IS NULL OR fingerprint = $1 ORDER BY id`, fingerprint)
	return out, explain(err)
}

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
}

// AddPolicy stores a new version and returns its number.
func (t *Tx) AddPolicy(ctx context.Context, p Policy) (int64, error) {
	// One after another, so that what is in force as of a number stays so.
	if _, err := t.tx.ExecContext(ctx, `LOCK TABLE policies IN SHARE ROW EXCLUSIVE MODE`); err != nil {
		return 0, err
	}
	var version int64
	err := t.tx.GetContext(ctx, &version, `INSERT INTO policies (name, document, created_at, created_by, reason) VALUES ($1, $2, $3, $4, $5) RETURNING version`,
		p.Name, string(p.Document), p.CreatedAt, p.CreatedBy, p.Reason)
	return version, err
}

// PoliciesAsOf returns the newest row of each name as of a version, or as of now
// when version is 0.
func (s *Store) PoliciesAsOf(ctx context.Context, version int64) ([]Policy, error) {
	out := []Policy{}
	err := s.db.SelectContext(ctx, &out, `SELECT DISTINCT ON (name) * FROM policies WHERE $1::bigint = 0 OR version <= $1 ORDER BY name, version DESC`, version)
	return out, explain(err)
}

// Policies lists the versions of the policy, the newest first.
func (s *Store) Policies(ctx context.Context, limit int) ([]Policy, error) {
	out := []Policy{}
	err := s.db.SelectContext(ctx, &out, `SELECT * FROM policies ORDER BY version DESC LIMIT $1`, limit)
	return out, explain(err)
}
