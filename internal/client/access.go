package client

import (
	"context"
	"fmt"
	"net/http"

	"endeixis/internal/wire"
)

// SignIn signs in with a password and exchanges the session for a token, which
// the client uses from then on.
func (c *Client) SignIn(ctx context.Context, name, password, label string, days int) (wire.IssuedToken, error) {
	c.token = ""
	if err := c.call(ctx, http.MethodPost, "/sessions", map[string]string{"name": name, "password": password}, &wire.Me{}); err != nil {
		return wire.IssuedToken{}, err
	}
	issued, err := c.IssueToken(ctx, label, "", days)
	if err != nil {
		return issued, err
	}
	err = c.call(ctx, http.MethodDelete, "/sessions/current", nil, nil)
	c.token = issued.Text
	return issued, err
}

// IssueToken makes a token; an empty role means one's own.
func (c *Client) IssueToken(ctx context.Context, label, role string, days int) (wire.IssuedToken, error) {
	in := map[string]any{"label": label, "days": days}
	if role != "" {
		in["role"] = role
	}
	var out wire.IssuedToken
	return out, c.call(ctx, http.MethodPost, "/tokens", in, &out)
}

// Tokens lists tokens.
func (c *Client) Tokens(ctx context.Context) ([]wire.Token, error) {
	return all[wire.Token](ctx, c, "/tokens", nil, 0)
}

// RevokeToken ends a token.
func (c *Client) RevokeToken(ctx context.Context, id int64) error {
	return c.call(ctx, http.MethodDelete, fmt.Sprintf("/tokens/%d", id), nil, nil)
}

// RevokeOwnToken ends the token that this client uses.
func (c *Client) RevokeOwnToken(ctx context.Context) error {
	return c.call(ctx, http.MethodDelete, "/tokens/current", nil, nil)
}

// Me tells who is signed in.
func (c *Client) Me(ctx context.Context) (wire.Me, error) {
	var out wire.Me
	return out, c.call(ctx, http.MethodGet, "/me", nil, &out)
}

// Status tells the state of the service.
func (c *Client) Status(ctx context.Context) (wire.Status, error) {
	var out wire.Status
	return out, c.call(ctx, http.MethodGet, "/status", nil, &out)
}

// AddUser adds a person.
func (c *Client) AddUser(ctx context.Context, name, fullName, role, password string) error {
	return c.call(ctx, http.MethodPost, "/users", map[string]string{"name": name, "full_name": fullName, "role": role, "password": password}, nil)
}

// Users lists people.
func (c *Client) Users(ctx context.Context) ([]wire.User, error) {
	return all[wire.User](ctx, c, "/users", nil, 0)
}
