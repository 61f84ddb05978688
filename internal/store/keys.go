package store

import (
	"context"
	"encoding/json"
	"time"

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
	// Position is that of the record of its last change, -1 for those of before.
	Position int64 `db:"position"`
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

const selectPublishers = `SELECT id, slug, name, contact, to_json(scope) AS scope, created_at, created_by, position FROM publishers `

// AddPublisher stores a new publisher.
func (t *Tx) AddPublisher(ctx context.Context, p Publisher) error {
	_, err := t.tx.ExecContext(ctx, `INSERT INTO publishers (slug, name, contact, scope, created_at, created_by, position) VALUES ($1, $2, $3, $4, $5, $6, $7)`,
		p.Slug, p.Name, p.Contact, []string(p.Scope), p.CreatedAt, p.CreatedBy, p.Position)
	if isUnique(err, "publishers_slug_key") {
		return fault.New(fault.Conflict, "publisher-exists", "There is a publisher %s already.", p.Slug).Advise("Choose another short name, or use the one that is there.").At("slug")
	}
	return err
}

// SetPublisherDetails changes what is known about a publisher.
func (t *Tx) SetPublisherDetails(ctx context.Context, p Publisher) error {
	_, err := t.tx.ExecContext(ctx, `UPDATE publishers SET name = $2, contact = $3, scope = $4, position = $5 WHERE slug = $1`, p.Slug, p.Name, p.Contact, []string(p.Scope), p.Position)
	return err
}

// LockPublisher returns a publisher and keeps others from changing it until the
// transaction ends, or returns [ErrNotFound].
func (t *Tx) LockPublisher(ctx context.Context, slug string) (Publisher, error) {
	var p Publisher
	err := t.tx.GetContext(ctx, &p, selectPublishers+`WHERE slug = $1 FOR UPDATE`, slug)
	return p, explain(err)
}

// Publishers lists all publishers by slug.
func (s Reads) Publishers(ctx context.Context) ([]Publisher, error) {
	out := []Publisher{}
	err := s.q.SelectContext(ctx, &out, selectPublishers+`ORDER BY slug`)
	return out, explain(err)
}

// Publisher finds a publisher, or returns [ErrNotFound].
func (s Reads) Publisher(ctx context.Context, slug string) (Publisher, error) {
	var p Publisher
	err := s.q.GetContext(ctx, &p, selectPublishers+`WHERE slug = $1`, slug)
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
	// Position is that of the record of its last change, -1 for those of before.
	Position int64 `db:"position"`
}

const selectKeys = `SELECT k.fingerprint, k.certificate, coalesce(p.slug, '') AS publisher, k.role, k.imported_at, k.imported_by, k.source, k.position
	FROM keys k LEFT JOIN publishers p ON p.id = k.publisher_id `

// Keys lists keys in the order of their import: those with the fingerprints, or
// all for nil.
func (s Reads) Keys(ctx context.Context, fingerprints [][]byte) ([]Key, error) {
	out := []Key{}
	err := s.q.SelectContext(ctx, &out, selectKeys+`WHERE $1::bytea[] IS NULL OR k.fingerprint = ANY($1) ORDER BY k.imported_at, k.fingerprint`, fingerprints)
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

// KeysAsOf lists the keys as they were when the ledger had a size, in the order
// of their import.
func (s Reads) KeysAsOf(ctx context.Context, size int64) ([]Key, error) {
	out := []Key{}
	err := s.q.SelectContext(ctx, &out, `SELECT * FROM (
			SELECT DISTINCT ON (v.fingerprint) v.fingerprint, v.certificate, coalesce(p.slug, '') AS publisher, v.role, k.imported_at, k.imported_by, k.source, v.position
			FROM key_versions v JOIN keys k USING (fingerprint) LEFT JOIN publishers p ON p.id = v.publisher_id
			WHERE v.position < $1 ORDER BY v.fingerprint, v.revision DESC) was
		ORDER BY imported_at, fingerprint`, size)
	return out, explain(err)
}

// PublishersAsOf lists the publishers as they were when the ledger had a size, by
// slug, with their names and scopes.
func (s Reads) PublishersAsOf(ctx context.Context, size int64) ([]Publisher, error) {
	out := []Publisher{}
	err := s.q.SelectContext(ctx, &out, `SELECT * FROM (
			SELECT DISTINCT ON (v.publisher_id) p.slug, v.name, to_json(v.scope) AS scope, v.position
			FROM publisher_versions v JOIN publishers p ON p.id = v.publisher_id
			WHERE v.position < $1 ORDER BY v.publisher_id, v.revision DESC) was
		ORDER BY slug`, size)
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
}

// AddKeyChange stores a step with its record's position.
func (t *Tx) AddKeyChange(ctx context.Context, c KeyChange) error {
	_, err := t.tx.NamedExecContext(ctx, `INSERT INTO key_changes (fingerprint, at, to_state, by_name, reason, position)
		VALUES (:fingerprint, :at, :to_state, :by_name, :reason, :position)`, c)
	return err
}

// KeyChanges lists the steps of all keys, or of one, oldest first.
func (s Reads) KeyChanges(ctx context.Context, fingerprints [][]byte) ([]KeyChange, error) {
	out := []KeyChange{}
	err := s.q.SelectContext(ctx, &out, `SELECT fingerprint, at, to_state, by_name, reason, position FROM key_changes
		WHERE $1::bytea[] IS NULL OR fingerprint = ANY($1) ORDER BY id`, fingerprints)
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
	// Resolved is how a curator explained a conflict, or empty.
	Resolved   string     `db:"resolved"`
	ResolvedBy string     `db:"resolved_by"`
	ResolvedAt *time.Time `db:"resolved_at"`
	Position   int64      `db:"position"`
}

// AddSighting stores a sighting with its record's position.
func (t *Tx) AddSighting(ctx context.Context, s Sighting) error {
	_, err := t.tx.NamedExecContext(ctx, `INSERT INTO sightings (fingerprint, read_value, channel, place, note, at, by_name, position)
		VALUES (:fingerprint, :read_value, :channel, :place, :note, :at, :by_name, :position)`, s)
	return err
}

// Sighting returns the sighting of a record and keeps others from changing it
// until the transaction ends, or returns [ErrNotFound].
func (t *Tx) Sighting(ctx context.Context, position int64) (Sighting, error) {
	var s Sighting
	err := t.tx.GetContext(ctx, &s, `SELECT * FROM sightings WHERE position = $1 FOR UPDATE`, position)
	return s, explain(err)
}

// ResolveSighting notes how a conflict was explained.
func (t *Tx) ResolveSighting(ctx context.Context, position int64, reason, by string, at time.Time) error {
	_, err := t.tx.ExecContext(ctx, `UPDATE sightings SET resolved = $2, resolved_by = $3, resolved_at = $4 WHERE position = $1`, position, reason, by, at)
	return err
}

// Conflicts lists the keys that an unresolved sighting contradicts.
func (s Reads) Conflicts(ctx context.Context) ([][]byte, error) {
	out := [][]byte{}
	err := s.q.SelectContext(ctx, &out, `SELECT DISTINCT fingerprint FROM sightings WHERE read_value <> fingerprint AND resolved = ''`)
	return out, explain(err)
}

// LockKeyring lets decisions about keys happen one after another: what one rests
// on, such as an anchor, does not change before it is recorded.
func (t *Tx) LockKeyring(ctx context.Context) error {
	_, err := t.tx.ExecContext(ctx, `SELECT pg_advisory_xact_lock(hashtext('endeixis keyring'))`)
	return err
}

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
}

// AddProposal stores a proposal, in place of one that waits.
func (t *Tx) AddProposal(ctx context.Context, p Proposal) error {
	if err := t.DecideProposal(ctx, p.Fingerprint, "replaced"); err != nil {
		return err
	}
	_, err := t.tx.NamedExecContext(ctx, `INSERT INTO proposals (fingerprint, publisher, role, reason, by_name, at, position)
		VALUES (:fingerprint, :publisher, :role, :reason, :by_name, :at, :position)`, p)
	return err
}

// DecideProposal says what became of the proposal that waits for a key, if any.
func (t *Tx) DecideProposal(ctx context.Context, fingerprint []byte, decided string) error {
	_, err := t.tx.ExecContext(ctx, `UPDATE proposals SET decided = $2 WHERE fingerprint = $1 AND decided = ''`, fingerprint, decided)
	return err
}

// Proposals lists the proposals that wait, of all keys or of one.
func (s Reads) Proposals(ctx context.Context, fingerprints [][]byte) ([]Proposal, error) {
	out := []Proposal{}
	err := s.q.SelectContext(ctx, &out, `SELECT * FROM proposals WHERE decided = '' AND ($1::bytea[] IS NULL OR fingerprint = ANY($1)) ORDER BY id`, fingerprints)
	return out, explain(err)
}

// Sightings lists the sightings of all keys, or of one, oldest first.
func (s Reads) Sightings(ctx context.Context, fingerprints [][]byte) ([]Sighting, error) {
	out := []Sighting{}
	err := s.q.SelectContext(ctx, &out, `SELECT * FROM sightings WHERE $1::bytea[] IS NULL OR fingerprint = ANY($1) ORDER BY id`, fingerprints)
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

// PolicyVersion returns the number of the newest version, or 0 where there is
// none yet.
func (s Reads) PolicyVersion(ctx context.Context) (int64, error) {
	var version int64
	err := s.q.GetContext(ctx, &version, `SELECT coalesce(max(version), 0) FROM policies`)
	return version, explain(err)
}

// PoliciesAsOf returns the newest row of each name as of a version, or as of now
// when version is 0.
func (s Reads) PoliciesAsOf(ctx context.Context, version int64) ([]Policy, error) {
	out := []Policy{}
	err := s.q.SelectContext(ctx, &out, `SELECT DISTINCT ON (name) * FROM policies WHERE $1::bigint = 0 OR version <= $1 ORDER BY name, version DESC`, version)
	return out, explain(err)
}

// Policies lists the versions of the policy, the newest first.
func (s Reads) Policies(ctx context.Context, limit int) ([]Policy, error) {
	out := []Policy{}
	err := s.q.SelectContext(ctx, &out, `SELECT * FROM policies ORDER BY version DESC LIMIT $1`, limit)
	return out, explain(err)
}
