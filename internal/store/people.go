package store

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"strconv"
	"time"

	"endeixis/internal/fault"
)

// A User is a person with an account.
type User struct {
	ID           int64     `db:"id"`
	Name         string    `db:"name"`
	FullName     string    `db:"full_name"`
	Role         string    `db:"role"`
	PasswordHash string    `db:"password_hash"`
	CreatedAt    time.Time `db:"created_at"`
	// Disabled shuts the person out.
	Disabled bool `db:"disabled"`
	// ChangedAt is when the row was last changed; sessions begun before are over.
	ChangedAt *time.Time `db:"changed_at"`
	// MAC is over the row, by the process that changed it.
	MAC []byte `db:"mac"`
}

// AddUser stores a new person.
func (t *Tx) AddUser(ctx context.Context, u User) error {
	_, err := t.tx.NamedExecContext(ctx, `INSERT INTO users (name, full_name, role, password_hash, created_at, mac)
		VALUES (:name, :full_name, :role, :password_hash, :created_at, :mac)`, u)
	if isUnique(err, "users_name_key") {
		return fault.New(fault.Conflict, fault.UserExists, "There is somebody called %s already.", u.Name).
			Advise("Choose another name.").
			At("name")
	}
	return err
}

// UserToChange finds a person by name and makes every other change of people wait until
// the transaction ends. It returns [ErrNotFound] when there is none.
func (t *Tx) UserToChange(ctx context.Context, name string) (User, error) {
	if _, err := t.tx.ExecContext(ctx, `LOCK TABLE users IN SHARE ROW EXCLUSIVE MODE`); err != nil {
		return User{}, explain(err)
	}
	return t.User(ctx, name)
}

// ChangeUser stores what may change about a person.
func (t *Tx) ChangeUser(ctx context.Context, u User) error {
	_, err := t.tx.NamedExecContext(
		ctx,
		`UPDATE users SET full_name = :full_name, role = :role, password_hash = :password_hash,
		disabled = :disabled, changed_at = :changed_at, mac = :mac WHERE id = :id`,
		u,
	)
	return err
}

// SealUser stores the MAC of a person's row.
func (t *Tx) SealUser(ctx context.Context, id int64, mac []byte) error {
	_, err := t.tx.ExecContext(ctx, `UPDATE users SET mac = $2 WHERE id = $1`, id, mac)
	return explain(err)
}

// EndSessions ends those of everybody.
func (t *Tx) EndSessions(ctx context.Context) error {
	_, err := t.tx.ExecContext(ctx, `DELETE FROM sessions`)
	return explain(err)
}

// SealToken stores the MAC of a token's row.
func (t *Tx) SealToken(ctx context.Context, id int64, mac []byte) error {
	_, err := t.tx.ExecContext(ctx, `UPDATE tokens SET mac = $2 WHERE id = $1`, id, mac)
	return explain(err)
}

// Active counts the people with a role who are not disabled.
func (t *Tx) Active(ctx context.Context, role string) (int, error) {
	var n int
	err := t.tx.GetContext(ctx, &n, `SELECT count(*) FROM users WHERE role = $1 AND NOT disabled`, role)
	return n, explain(err)
}

// User finds a person by name, or returns [ErrNotFound].
func (s Reads) User(ctx context.Context, name string) (User, error) {
	var u User
	err := s.q.GetContext(ctx, &u, `SELECT * FROM users WHERE name = $1`, name)
	return u, explain(err)
}

// Users lists everybody by name.
func (s Reads) Users(ctx context.Context) ([]User, error) {
	out := []User{}
	err := s.q.SelectContext(ctx, &out, `SELECT * FROM users ORDER BY name`)
	return out, explain(err)
}

// A Token lets a program act for a person.
type Token struct {
	ID        int64      `db:"id"`
	UserID    int64      `db:"user_id"`
	UserName  string     `db:"user_name"`
	Label     string     `db:"label"`
	Role      string     `db:"role"`
	Hash      []byte     `db:"hash"`
	CreatedAt time.Time  `db:"created_at"`
	ExpiresAt time.Time  `db:"expires_at"`
	RevokedAt *time.Time `db:"revoked_at"`
	UserRole  string     `db:"user_role"`
	FullName  string     `db:"full_name"`
	// Disabled is that of the person.
	Disabled bool `db:"disabled"`
	// MadeWith is the token that this one was asked for with.
	MadeWith *int64 `db:"made_with"`
	// Depots and Publishers are all that it is good for; none is no limit.
	Depots     textArray `db:"depots"`
	Publishers textArray `db:"publishers"`
	// UsedAt is when it was last used, to the minute.
	UsedAt *time.Time `db:"used_at"`
	// MAC is over the row, and User is the row of the person.
	MAC  []byte `db:"mac"`
	User User   `db:"person"`
}

const selectTokens = `SELECT t.id, t.user_id, t.label, t.role, t.hash, t.created_at, t.expires_at, t.revoked_at,
	t.made_with, t.used_at,
	to_json(t.depots) AS depots, to_json(t.publishers) AS publishers,
	t.mac, u.name AS user_name, u.role AS user_role, u.full_name, u.disabled, u.id AS "person.id", u.name AS "person.name", u.full_name AS "person.full_name",
	u.role AS "person.role", u.password_hash AS "person.password_hash", u.disabled AS "person.disabled", u.changed_at AS "person.changed_at", u.mac AS "person.mac" FROM tokens t JOIN users u ON u.id = t.user_id `

// AddToken stores a token and returns its ID.
func (t *Tx) AddToken(ctx context.Context, token Token) (int64, error) {
	var id int64
	err := t.tx.GetContext(
		ctx,
		&id,
		`INSERT INTO tokens (user_id, label, role, hash, created_at, expires_at, made_with, depots, publishers, mac)
		VALUES ($1, $2, $3, $4, $5, $6, $7, coalesce($8, '{}'::text[]), coalesce($9, '{}'::text[]), $10) RETURNING id`,
		token.UserID,
		token.Label,
		token.Role,
		token.Hash,
		token.CreatedAt,
		token.ExpiresAt,
		token.MadeWith,
		[]string(token.Depots),
		[]string(token.Publishers),
		token.MAC,
	)
	return id, err
}

// TokenByHash finds a token by the hash of its text, or returns [ErrNotFound].
func (s Reads) TokenByHash(ctx context.Context, hash []byte) (Token, error) {
	var token Token
	err := s.q.GetContext(ctx, &token, selectTokens+`WHERE t.hash = $1`, hash)
	return token, explain(err)
}

// Tokens lists the tokens of a person, or of everybody when userID is 0.
func (s Reads) Tokens(ctx context.Context, userID int64) ([]Token, error) {
	out := []Token{}
	err := s.q.SelectContext(ctx, &out, selectTokens+`WHERE $1::bigint IN (0, t.user_id) ORDER BY t.id`, userID)
	return out, explain(err)
}

// TokenUsed notes that a token was used.
func (s *Store) TokenUsed(ctx context.Context, id int64, at time.Time) error {
	_, err := s.db.ExecContext(ctx, `UPDATE tokens SET used_at = $2 WHERE id = $1`, id, at)
	return explain(err)
}

// An EndedToken is a token that was ended, and whose.
type EndedToken struct {
	ID    int64  `db:"id"`
	Owner string `db:"owner"`
}

// RevokeToken ends a token of a person, or of anybody when userID is 0, and what
// was made with it, and returns all that ended. There is none when no such token
// is in force.
func (t *Tx) RevokeToken(ctx context.Context, id, userID int64, at time.Time) ([]EndedToken, error) {
	out := []EndedToken{}
	err := t.tx.SelectContext(ctx, &out, `WITH RECURSIVE ending (id) AS (
			SELECT id FROM tokens WHERE id = $1 AND $2::bigint IN (0, user_id) AND revoked_at IS NULL
			UNION SELECT t.id FROM tokens t JOIN ending e ON t.made_with = e.id WHERE t.revoked_at IS NULL)
		UPDATE tokens t SET revoked_at = $3, mac = '' FROM users u WHERE t.id IN (SELECT id FROM ending)
			AND u.id = t.user_id RETURNING t.id, u.name AS owner`, id, userID, at)
	return out, explain(err)
}

// RevokeTokensOf ends all tokens of a person, and returns them.
func (t *Tx) RevokeTokensOf(ctx context.Context, userID int64, at time.Time) ([]EndedToken, error) {
	out := []EndedToken{}
	err := t.tx.SelectContext(ctx, &out, `UPDATE tokens t SET revoked_at = $2, mac = '' FROM users u
		WHERE t.user_id = $1 AND t.revoked_at IS NULL AND u.id = t.user_id RETURNING t.id, u.name AS owner`, userID, at)
	return out, explain(err)
}

// Sessions keeps the console's sessions, in the shape that scs asks for. They are found by a
// MAC of their tokens, and their data has one over token, end and content: a reader of the
// database can sign in as nobody, and neither can who writes to it.
type Sessions struct {
	Store *Store
	// MAC computes one over some values, under a key that is not in the database.
	MAC func(values ...string) ([]byte, error)
}

// FindCtx returns the session with this token that has not expired.
func (s Sessions) FindCtx(ctx context.Context, token string) ([]byte, bool, error) {
	name, err := s.named(token)
	if err != nil {
		return nil, false, err
	}
	var row struct {
		Data   []byte    `db:"data"`
		Expiry time.Time `db:"expiry"`
	}
	err = explain(
		s.Store.db.GetContext(ctx, &row, `SELECT data, expiry FROM sessions WHERE token = $1 AND expiry > now()`, name),
	)
	if errors.Is(err, ErrNotFound) {
		return nil, false, nil
	}
	if err != nil {
		return nil, false, err
	}
	if len(row.Data) < sha256.Size {
		return nil, false, nil
	}
	mac, data := row.Data[:sha256.Size], row.Data[sha256.Size:]
	want, err := s.over(token, data, row.Expiry)
	if err != nil || !hmac.Equal(mac, want) {
		return nil, false, err
	}
	return data, true, nil
}

// over returns the MAC over a session.
func (s Sessions) over(token string, data []byte, expiry time.Time) ([]byte, error) {
	return s.MAC("session", token, strconv.FormatInt(expiry.UnixMicro(), 10), string(data))
}

// named returns by what a session is found.
func (s Sessions) named(token string) (string, error) {
	mac, err := s.MAC("session's name", token)
	return hex.EncodeToString(mac), err
}

// CommitCtx stores a session, and clears out those that have expired.
func (s Sessions) CommitCtx(ctx context.Context, token string, data []byte, expiry time.Time) error {
	if _, err := s.Store.db.ExecContext(ctx, `DELETE FROM sessions WHERE expiry < now()`); err != nil {
		return explain(err)
	}
	expiry = expiry.Truncate(time.Microsecond)
	name, err1 := s.named(token)
	mac, err2 := s.over(token, data, expiry)
	if err := errors.Join(err1, err2); err != nil {
		return err
	}
	_, err := s.Store.db.ExecContext(ctx, `INSERT INTO sessions (token, data, expiry) VALUES ($1, $2, $3)
		ON CONFLICT (token) DO UPDATE SET data = excluded.data,
			expiry = excluded.expiry`, name, append(mac, data...), expiry)
	return explain(err)
}

// DeleteCtx ends a session.
func (s Sessions) DeleteCtx(ctx context.Context, token string) error {
	name, err := s.named(token)
	if err == nil {
		_, err = s.Store.db.ExecContext(ctx, `DELETE FROM sessions WHERE token = $1`, name)
	}
	return explain(err)
}

// Find is FindCtx without a context, for the interface.
func (s Sessions) Find(token string) ([]byte, bool, error) {
	return s.FindCtx(context.Background(), token)
}

// Commit is CommitCtx without a context, for the interface.
func (s Sessions) Commit(token string, data []byte, expiry time.Time) error {
	return s.CommitCtx(context.Background(), token, data, expiry)
}

// Delete is DeleteCtx without a context, for the interface.
func (s Sessions) Delete(token string) error { return s.DeleteCtx(context.Background(), token) }
