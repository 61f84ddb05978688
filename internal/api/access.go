package api

import (
	"context"
	"net/http"
	"time"

	"endeixis/internal/access"
	"endeixis/internal/store"
	"endeixis/internal/version"
	"endeixis/internal/wire"
)

func (a *API) registerAccess() {
	type signIn struct {
		Body struct {
			Name     string `json:"name" maxLength:"64"`
			Password string `json:"password" maxLength:"1000"`
		}
	}
	type signedIn struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
		Body      wire.Me
	}
	handle(a, op(http.MethodPost, "/sessions", "sign-in", "Sign in with name and password", ""), func(ctx context.Context, in *signIn) (*signedIn, error) {
		p, err := a.Access.SignIn(ctx, in.Body.Name, in.Body.Password)
		if err != nil {
			return nil, err
		}
		session, err := a.sessions.Load(ctx, "")
		if err != nil {
			return nil, err
		}
		a.sessions.Put(session, "user", p.Name)
		token, expires, err := a.sessions.Commit(session)
		if err != nil {
			return nil, err
		}
		return &signedIn{SetCookie: a.cookie(token, expires), Body: meOf(p)}, nil
	})
	type signedOut struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
	}
	type withCookie struct {
		Session string `cookie:"endeixis_session"`
	}
	handle(a, op(http.MethodDelete, "/sessions/current", "sign-out", "End this session", access.Auditor), func(ctx context.Context, in *withCookie) (*signedOut, error) {
		if in.Session != "" {
			if err := (store.Sessions{Store: a.Store}).DeleteCtx(ctx, in.Session); err != nil {
				return nil, err
			}
		}
		return &signedOut{SetCookie: a.cookie("", time.Unix(1, 0))}, nil
	})
	handle(a, op(http.MethodGet, "/me", "who-am-i", "Who is signed in", access.Auditor), func(ctx context.Context, _ *struct{}) (*body[wire.Me], error) {
		p, _ := principal(ctx)
		return answer(meOf(p), nil)
	})
	handle(a, op(http.MethodGet, "/status", "status", "Version, ledger and depots of the service", access.Auditor), func(ctx context.Context, _ *struct{}) (*body[wire.Status], error) {
		size, err := a.Store.LedgerSize(ctx)
		if err != nil {
			return nil, err
		}
		policies, err := a.Keys.Policies(ctx, 0)
		return answer(wire.Status{Version: version.Full(), Records: size, PublicKey: a.Records.PublicKey(), Depots: a.Depots.Names(), Policy: policies.Version}, err)
	})
	type newUser struct {
		Body struct {
			Name     string      `json:"name"`
			FullName string      `json:"full_name" maxLength:"200"`
			Role     access.Role `json:"role" enum:"auditor,operator,curator,administrator"`
			Password string      `json:"password"`
		}
	}
	handle(a, op(http.MethodPost, "/users", "add-user", "Add a person", access.Administrator), func(ctx context.Context, in *newUser) (*body[wire.User], error) {
		p, _ := principal(ctx)
		err := a.Access.AddUser(ctx, p.Name, access.NewUser{Name: in.Body.Name, FullName: in.Body.FullName, Role: in.Body.Role, Password: in.Body.Password})
		return answer(wire.User{Name: in.Body.Name, FullName: in.Body.FullName, Role: string(in.Body.Role)}, err)
	})
	handle(a, op(http.MethodGet, "/users", "list-users", "List people", access.Administrator), func(ctx context.Context, _ *struct{}) (*body[wire.Page[wire.User]], error) {
		users, err := a.Store.Users(ctx)
		out := wire.Page[wire.User]{Items: []wire.User{}}
		for _, u := range users {
			out.Items = append(out.Items, wire.User{Name: u.Name, FullName: u.FullName, Role: u.Role})
		}
		return answer(out, err)
	})
	type newToken struct {
		Body struct {
			Label string      `json:"label" maxLength:"200"`
			Role  access.Role `json:"role,omitempty" enum:"auditor,operator,curator,administrator" doc:"At most one's own role, which is the default."`
			Days  int         `json:"days" minimum:"1" maximum:"366"`
		}
	}
	handle(a, op(http.MethodPost, "/tokens", "issue-token", "Make a token; its text is shown this once", access.Auditor), func(ctx context.Context, in *newToken) (*body[wire.IssuedToken], error) {
		p, _ := principal(ctx)
		text, token, err := a.Access.IssueToken(ctx, p, in.Body.Label, in.Body.Role, time.Duration(in.Body.Days)*24*time.Hour)
		return answer(wire.IssuedToken{Token: tokenOf(token), Text: text}, err)
	})
	handle(a, op(http.MethodGet, "/tokens", "list-tokens", "List one's tokens, or everybody's for an administrator", access.Auditor), func(ctx context.Context, _ *struct{}) (*body[wire.Page[wire.Token]], error) {
		p, _ := principal(ctx)
		owner := p.UserID
		if p.Role.May(access.Administrator) {
			owner = 0
		}
		tokens, err := a.Store.Tokens(ctx, owner)
		out := wire.Page[wire.Token]{Items: []wire.Token{}}
		for _, t := range tokens {
			out.Items = append(out.Items, tokenOf(t))
		}
		return answer(out, err)
	})
	type byID struct {
		ID int64 `path:"id"`
	}
	handle(a, op(http.MethodDelete, "/tokens/current", "revoke-own-token", "End the token that this request carries", access.Auditor), func(ctx context.Context, _ *struct{}) (*struct{}, error) {
		p, _ := principal(ctx)
		return nil, a.Access.RevokeToken(ctx, p, p.Token)
	})
	handle(a, op(http.MethodDelete, "/tokens/{id}", "revoke-token", "End a token", access.Auditor), func(ctx context.Context, in *byID) (*struct{}, error) {
		p, _ := principal(ctx)
		return nil, a.Access.RevokeToken(ctx, p, in.ID)
	})
}

func (a *API) cookie(value string, expires time.Time) http.Cookie {
	return http.Cookie{
		Name: sessionCookie, Value: value, Path: "/", Expires: expires,
		HttpOnly: true, Secure: a.SecureCookies, SameSite: http.SameSiteStrictMode,
	}
}

func meOf(p access.Principal) wire.Me {
	return wire.Me{Name: p.Name, FullName: p.FullName, Role: string(p.Role)}
}

func tokenOf(t store.Token) wire.Token {
	return wire.Token{ID: t.ID, Owner: t.UserName, Label: t.Label, Role: t.Role, Created: t.CreatedAt, Expires: t.ExpiresAt, Revoked: t.RevokedAt}
}
