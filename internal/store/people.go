package store

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
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
}

// AddUser stores a new person.
func (t *Tx) AddUser(ctx context.Context, u User) error {
	_, err := t.tx.NamedExecContext(ctx, `INSERT INTO users (name, full_name, role, password_hash, created_at)
		VALUES (:name, :full_name, :role, :password_hash, :created_at)`, u)
	if isUnique(err, "users_name_key") {
		return fault.New(fault.Conflict, "user-exists", "There is somebody called %s already.", u.Name).Advise("Choose another name.").At("name")
	}
	return err
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
}

const selectTokens = `SELECT t.*, u.name AS user_name, u.role AS user_role, u.full_name FROM tokens t JOIN users u ON u.id = t.user_id `

// AddToken stores a token and returns its ID.
func (t *Tx) AddToken(ctx context.Context, token Token) (int64, error) {
	var id int64
	err := t.tx.GetContext(ctx, &id, `INSERT INTO tokens (user_id, label, role, hash, created_at, expires_at)
		VALUES ($1, $2, $3, $4, $5, $6) RETURNING id`, token.UserID, token.Label, token.Role, token.Hash, token.CreatedAt, token.ExpiresAt)
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

// RevokeToken ends a token of a person, or of anybody when userID is 0. It
// returns [ErrNotFound] when there is no such token in force.
func (t *Tx) RevokeToken(ctx context.Context, id, userID int64, at time.Time) error {
	var got int64
	return explain(t.tx.GetContext(ctx, &got, `UPDATE tokens SET revoked_at = $3
		WHERE id = $1 AND $2::bigint IN (0, user_id) AND revoked_at IS NULL RETURNING id`, id, userID, at))
}

// Sessions keeps the console's sessions, in the shape that scs asks for. Tokens
// are stored hashed: whoever reads the database can sign in as nobody.
type Sessions struct{ Store *Store }

// FindCtx returns the session with this token that has not expired.
func (s Sessions) FindCtx(ctx context.Context, token string) ([]byte, bool, error) {
	var data []byte
	err := explain(s.Store.db.GetContext(ctx, &data, `SELECT data FROM sessions WHERE token = $1 AND expiry > now()`, hashed(token)))
	if errors.Is(err, ErrNotFound) {
		return nil, false, nil
	}
	return data, err == nil, err
}

// CommitCtx stores a session, and clears out those that have expired.
func (s Sessions) CommitCtx(ctx context.Context, token string, data []byte, expiry time.Time) error {
	if _, err := s.Store.db.ExecContext(ctx, `DELETE FROM sessions WHERE expiry < now()`); err != nil {
		return explain(err)
	}
	_, err := s.Store.db.ExecContext(ctx, `INSERT INTO sessions (token, data, expiry) VALUES ($1, $2, $3)
		ON CONFLICT (token) DO UPDATE SET data = excluded.data, expiry = excluded.expiry`, hashed(token), data, expiry)
	return explain(err)
}

// DeleteCtx ends a session.
func (s Sessions) DeleteCtx(ctx context.Context, token string) error {
	_, err := s.Store.db.ExecContext(ctx, `DELETE FROM sessions WHERE token = $1`, hashed(token))
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

func hashed(token string) string {
	sum := sha256.Sum256([]byte(token))
	return hex.EncodeToString(sum[:])
}
