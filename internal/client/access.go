package client

import (
	"context"

	"endeixis/internal/wire"
)

// SignIn signs in with a password and exchanges the session for a token, which
// the client uses from then on.
func (c *Client) SignIn(ctx context.Context, name, password, label string, days int) (wire.IssuedToken, error) {
	c.token = ""
	if _, err := call(
		ctx, c, wire.SignIn, wire.SignInRequest{Body: wire.Credentials{Name: name, Password: password}},
	); err != nil {
		return wire.IssuedToken{}, err
	}
	issued, err := c.IssueToken(ctx, wire.NewToken{Label: label, Days: days})
	if err != nil {
		return issued, err
	}
	_, err = call(ctx, c, wire.SignOut, wire.SignOutRequest{}) // the cookie jar has the session
	c.token = issued.Text
	return issued, err
}

// IssueToken makes a token; an empty role means one's own.
func (c *Client) IssueToken(ctx context.Context, t wire.NewToken) (wire.IssuedToken, error) {
	return call(ctx, c, wire.IssueToken, wire.IssueTokenRequest{Body: t})
}

// Tokens lists tokens.
func (c *Client) Tokens(ctx context.Context) ([]wire.Token, error) {
	page, err := call(ctx, c, wire.ListTokens, wire.Nothing{})
	return page.Items, err
}

// RevokeToken ends a token.
func (c *Client) RevokeToken(ctx context.Context, id int64) error {
	_, err := call(ctx, c, wire.RevokeToken, wire.TokenAt{ID: id})
	return err
}

// RevokeOwnToken ends the token that this client uses.
func (c *Client) RevokeOwnToken(ctx context.Context) error {
	_, err := call(ctx, c, wire.RevokeOwnToken, wire.Nothing{})
	return err
}

// Me tells who is signed in.
func (c *Client) Me(ctx context.Context) (wire.Me, error) {
	return call(ctx, c, wire.WhoAmI, wire.Nothing{})
}

// Status tells the state of the service.
func (c *Client) Status(ctx context.Context) (wire.Status, error) {
	return call(ctx, c, wire.ShowStatus, wire.Nothing{})
}

// AddUser adds a person.
func (c *Client) AddUser(ctx context.Context, u wire.NewUser) error {
	_, err := call(ctx, c, wire.AddUser, wire.AddUserRequest{Body: u})
	return err
}

// ChangeUser changes a person.
func (c *Client) ChangeUser(ctx context.Context, name string, change wire.UserChange) (wire.User, error) {
	return call(ctx, c, wire.ChangeUser, wire.ChangeUserRequest{Name: name, Body: change})
}

// ChangePassword changes one's own password.
func (c *Client) ChangePassword(ctx context.Context, old, password string) error {
	_, err := call(
		ctx, c, wire.ChangePassword, wire.PasswordRequest{Body: wire.NewPassword{Old: old, Password: password}},
	)
	return err
}

// Users lists people.
func (c *Client) Users(ctx context.Context) ([]wire.User, error) {
	page, err := call(ctx, c, wire.ListUsers, wire.Nothing{})
	return page.Items, err
}
