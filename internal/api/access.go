package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"endeixis/core/plain"
	"endeixis/internal/access"
	"endeixis/internal/fault"
	"endeixis/internal/roles"
	"endeixis/internal/version"
	"endeixis/internal/wire"
)

func (a *API) registerAccess() {
	// Signing in and out set a cookie, so that their answers have more than a
	// body.
	type signedIn struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
		Body      wire.Me
	}
	huma.Register(a.huma, describe(wire.SignIn), func(ctx context.Context, in *wire.SignInRequest) (*signedIn, error) {
		p, cookie, err := a.signIn(ctx, in.Body)
		if err != nil {
			return nil, problemOf(ctx, a.Log, err)
		}
		return &signedIn{SetCookie: cookie, Body: meOf(p)}, nil
	})
	type signedOut struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
	}
	huma.Register(
		a.huma, describe(wire.SignOut),
		func(ctx context.Context, in *wire.SignOutRequest) (*signedOut, error) {
			if in.Session != "" {
				if err := a.Access.Sessions().DeleteCtx(ctx, in.Session); err != nil {
					return nil, problemOf(ctx, a.Log, err)
				}
			}
			return &signedOut{SetCookie: a.cookie("", time.Unix(1, 0))}, nil
		},
	)
	handle(a, wire.WhoAmI, func(ctx context.Context, _ *wire.Nothing) (*wire.Me, error) {
		p, _ := principal(ctx)
		return answer(meOf(p), nil)
	})
	handle(a, wire.ShowStatus, a.showStatus)
	handle(a, wire.AddUser, func(ctx context.Context, in *wire.AddUserRequest) (*wire.User, error) {
		p, _ := principal(ctx)
		u, err := a.Access.AddUser(ctx, p.Name, access.NewUser(in.Body))
		return answer(userOf(u), err)
	})
	handle(a, wire.ChangeUser, a.changeUser)
	handle(a, wire.ChangePassword, a.changePassword)
	handle(a, wire.ListUsers, func(ctx context.Context, _ *wire.Nothing) (*wire.Page[wire.User], error) {
		users, err := a.Access.Users(ctx)
		return answer(wire.Page[wire.User]{Items: convert(users, userOf)}, err)
	})
	handle(a, wire.IssueToken, a.issueToken)
	handle(a, wire.ListTokens, func(ctx context.Context, _ *wire.Nothing) (*wire.Page[wire.Token], error) {
		p, _ := principal(ctx)
		tokens, err := a.Access.Tokens(ctx, p)
		return answer(wire.Page[wire.Token]{Items: convert(tokens, tokenOf)}, err)
	})
	handle(a, wire.RevokeOwnToken, func(ctx context.Context, _ *wire.Nothing) (*wire.Nothing, error) {
		p, _ := principal(ctx)
		return nil, a.Access.RevokeToken(ctx, p, p.Token)
	})
	handle(a, wire.RevokeToken, func(ctx context.Context, in *wire.TokenAt) (*wire.Nothing, error) {
		p, _ := principal(ctx)
		return nil, a.Access.RevokeToken(ctx, p, in.ID)
	})
}

func (a *API) showStatus(ctx context.Context, _ *wire.Nothing) (*wire.Status, error) {
	size, err := a.Query.Size(ctx)
	if err != nil {
		return answer(wire.Status{}, err)
	}
	out := wire.Status{
		Version: version.Full(), Records: size, PublicKey: a.Records.PublicKey(), Depots: a.Depots.Names(),
	}
	out.Trouble = plain.Text(a.Records.Trouble(ctx))
	policies, err := a.Policy.InForce(ctx, 0)
	if fault.Is(err, fault.LedgerAltered) {
		return &out, nil // administrators have to be told
	}
	out.Policy = policies.Version
	return answer(out, err)
}

func (a *API) changeUser(ctx context.Context, in *wire.ChangeUserRequest) (*wire.User, error) {
	p, _ := principal(ctx)
	u, err := a.Access.ChangeUser(ctx, p.Name, in.Name, access.Change{
		FullName: in.Body.FullName,
		Role:     in.Body.Role,
		Disabled: in.Body.Disabled,
		Password: in.Body.Password,
		Reason:   in.Body.Reason,
		Seen:     seen(in.IfMatch),
	})
	return answer(userOf(u), err)
}

func (a *API) changePassword(ctx context.Context, in *wire.PasswordRequest) (*wire.Nothing, error) {
	p, _ := principal(ctx)
	if err := a.Access.ChangePassword(ctx, p, addressOf(ctx), in.Body.Old, in.Body.Password); err != nil {
		return nil, err
	}
	if p.Token != 0 {
		return nil, nil
	}
	return nil, a.renew(ctx, in.Session, p.Name)
}

func (a *API) issueToken(ctx context.Context, in *wire.IssueTokenRequest) (*wire.IssuedToken, error) {
	p, _ := principal(ctx)
	text, token, err := a.Access.IssueToken(ctx, p, access.NewToken{
		Label: in.Body.Label, Role: in.Body.Role, Life: time.Duration(in.Body.Days) * 24 * time.Hour,
		Depots: in.Body.Depots, Publishers: in.Body.Publishers,
	})
	return answer(wire.IssuedToken{Token: tokenOf(token), Text: text}, err)
}

// signIn checks a password and begins a session.
func (a *API) signIn(ctx context.Context, c wire.Credentials) (access.Principal, http.Cookie, error) {
	p, err := a.Access.SignIn(ctx, addressOf(ctx), c.Name, c.Password)
	if err != nil {
		a.Log.Warn("sign-in refused", "name", c.Name, "from", addressOf(ctx), "why", err)
		return p, http.Cookie{}, err
	}
	a.Log.Info("signed in", "name", p.Name, "from", addressOf(ctx))
	session, err := a.sessions.Load(ctx, "")
	if err != nil {
		return p, http.Cookie{}, err
	}
	a.sessions.Put(session, sessionUser, p.Name)
	a.sessions.Put(session, sessionBegun, a.Now().UnixMicro())
	token, expires, err := a.sessions.Commit(session)
	return p, a.cookie(token, expires), err
}

// What a session holds.
const (
	sessionUser  = "user"
	sessionBegun = "begun" // in microseconds of Unix time
)

// renew lets a session go on after its owner has changed their password.
func (a *API) renew(ctx context.Context, cookie, name string) error {
	session, err := a.sessions.Load(ctx, cookie)
	if err != nil || a.sessions.GetString(session, sessionUser) != name {
		return err
	}
	a.sessions.Put(session, sessionBegun, a.Now().UnixMicro())
	_, _, err = a.sessions.Commit(session)
	return err
}

func (a *API) cookie(value string, expires time.Time) http.Cookie {
	return http.Cookie{
		Name: sessionCookie, Value: value, Path: "/", Expires: expires,
		HttpOnly: true, Secure: a.SecureCookies, SameSite: http.SameSiteStrictMode,
	}
}

func meOf(p access.Principal) wire.Me {
	return wire.Me{Name: p.Name, FullName: p.FullName, Role: p.Role}
}

func userOf(u access.User) wire.User {
	return wire.User{
		Name: u.Name, FullName: u.FullName, Role: roles.Role(u.Role), Disabled: u.Disabled, Added: u.CreatedAt,
		Changed: u.ChangedAt, Version: access.VersionOf(u),
	}
}

func tokenOf(t access.Token) wire.Token {
	return wire.Token{
		ID:      t.ID,
		Owner:   t.UserName,
		Label:   t.Label,
		Role:    roles.Role(t.Role),
		Created: t.CreatedAt,
		Expires: t.ExpiresAt,
		Revoked: t.RevokedAt,
		Used:    t.UsedAt,
		Limits:  wire.Limits{Depots: t.Depots, Publishers: t.Publishers},
	}
}
