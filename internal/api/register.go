package api

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"net/http"
	"path"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2/sse"

	"endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/core/ledger"
	"endeixis/core/manifest"
	"endeixis/core/openpgp"
	"endeixis/core/survey"
	"endeixis/internal/access"
	"endeixis/internal/batches"
	"endeixis/internal/depots"
	"endeixis/internal/fault"
	"endeixis/internal/keys"
	"endeixis/internal/origins"
	"endeixis/internal/query"
	"endeixis/internal/sources"
	"endeixis/internal/store"
	"endeixis/internal/version"
	"endeixis/internal/wire"
)

// register describes every operation.
func (a *API) register() {
	a.registerAccess()
	a.registerDepots()
	a.registerBatches()
	a.registerKeyring()
	a.registerRecords()
	a.registerPolicies()
	a.registerReassessments()
}

func (a *API) registerPolicies() {
	handle(a, op(http.MethodGet, "/policies", "list-policies", "List the changes of the policy and of what publishers have otherwise, the newest first", access.Auditor), func(ctx context.Context, _ *struct{}) (*body[wire.Page[wire.PolicyVersion]], error) {
		versions, err := a.Keys.PolicyHistory(ctx)
		return answer(wire.Page[wire.PolicyVersion]{Items: convert(versions, policyOf)}, err)
	})
	handle(a, op(http.MethodGet, "/policy-fields", "list-policy-fields", "Tell what each field of the policy does", access.Auditor), func(context.Context, *struct{}) (*body[wire.Page[judge.PolicyField]], error) {
		return answer(wire.Page[judge.PolicyField]{Items: judge.PolicyFields()}, nil)
	})
	type newPolicy struct {
		Body struct {
			Document judge.Policy `json:"document" doc:"The whole policy; “endeixis policy show” prints the one in force."`
			Reason   string       `json:"reason" minLength:"3" maxLength:"1000"`
		}
	}
	handle(a, op(http.MethodPost, "/policies", "set-policy", "Put a new version of the policy in force", access.Curator), func(ctx context.Context, in *newPolicy) (*body[wire.PolicyVersion], error) {
		p, _ := principal(ctx)
		version, err := a.Keys.SetPolicy(ctx, p.Name, in.Body.Document, in.Body.Reason)
		return answer(policyOf(version), err)
	})
	handle(a, op(http.MethodGet, "/waivers", "list-waivers", "List the waivers, the newest first", access.Auditor), func(ctx context.Context, _ *struct{}) (*body[wire.Page[wire.Waiver]], error) {
		rows, err := a.Store.Waivers(ctx)
		return answer(wire.Page[wire.Waiver]{Items: convert(rows, a.waiverOf)}, err)
	})
	type newWaiver struct {
		Body struct {
			Ground    judge.Code `json:"ground" doc:"weak-digest-only, manifest-unsigned, signature-weak or signer-expired."`
			Publisher string     `json:"publisher,omitempty" maxLength:"64"`
			Pattern   string     `json:"pattern,omitempty" maxLength:"500" doc:"A pattern for the names of the files that the ground is about."`
			Until     time.Time  `json:"until" doc:"The moment from which it counts no longer."`
			Reason    string     `json:"reason"`
		}
	}
	handle(a, op(http.MethodPost, "/waivers", "grant-waiver", "Grant a waiver", access.Curator), func(ctx context.Context, in *newWaiver) (*body[wire.Waiver], error) {
		p, _ := principal(ctx)
		w, err := a.Keys.GrantWaiver(ctx, p.Name, keys.NewWaiver{Ground: in.Body.Ground, Publisher: in.Body.Publisher, Pattern: in.Body.Pattern, Until: in.Body.Until, Reason: in.Body.Reason})
		return answer(a.waiverOf(w), err)
	})
	type endWaiver struct {
		ID   int64 `path:"id" minimum:"1"`
		Body struct {
			Reason string `json:"reason"`
		}
	}
	handle(a, op(http.MethodPost, "/waivers/{id}/end", "end-waiver", "End a waiver before its day", access.Curator), func(ctx context.Context, in *endWaiver) (*body[wire.Waiver], error) {
		p, _ := principal(ctx)
		w, err := a.Keys.EndWaiver(ctx, p.Name, in.ID, in.Body.Reason)
		return answer(a.waiverOf(w), err)
	})
	type ownPolicy struct {
		Slug string `path:"slug"`
		Body struct {
			Fields json.RawMessage `json:"fields" doc:"An object with the fields of the policy that this publisher has otherwise; an empty one leaves it none."`
			Reason string          `json:"reason" minLength:"3" maxLength:"1000"`
		}
	}
	handle(a, op(http.MethodPost, "/publishers/{slug}/policies", "set-own-policy", "Give a publisher fields of the policy of its own", access.Curator), func(ctx context.Context, in *ownPolicy) (*body[wire.PolicyVersion], error) {
		p, _ := principal(ctx)
		version, err := a.Keys.SetOwnPolicy(ctx, p.Name, in.Slug, in.Body.Fields, in.Body.Reason)
		return answer(policyOf(version), err)
	})
}

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
		return answer(wire.Status{Version: version.Version, Records: size, PublicKey: a.Records.PublicKey(), Depots: a.Depots.Names(), Policy: policies.Version}, err)
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

func (a *API) registerDepots() {
	handle(a, op(http.MethodGet, "/depots", "list-depots", "List the depots", access.Auditor), func(context.Context, *struct{}) (*body[wire.Page[wire.Depot]], error) {
		out := wire.Page[wire.Depot]{Items: []wire.Depot{}}
		for _, name := range a.Depots.Names() {
			out.Items = append(out.Items, wire.Depot{Name: name})
		}
		return answer(out, nil)
	})
	type folder struct {
		Depot string `path:"depot"`
		Path  string `query:"path" maxLength:"4096"`
	}
	handle(a, op(http.MethodGet, "/depots/{depot}/entries", "list-folder", "List what lies in a folder of a depot", access.Auditor), func(_ context.Context, in *folder) (*body[wire.Page[wire.Entry]], error) {
		f, err := a.Depots.Open(in.Depot, in.Path)
		if err != nil {
			return nil, err
		}
		defer f.Close()
		entries, err := f.List()
		if err != nil {
			err = fault.New(fault.Invalid, "folder-unreadable", "The service may not list this folder.").At("path")
		}
		return answer(wire.Page[wire.Entry]{Items: convert(entries, func(e depots.Entry) wire.Entry { return wire.Entry(e) })}, err)
	})
}

func (a *API) registerBatches() {
	type newBatch struct {
		Key  string `header:"Idempotency-Key" maxLength:"200" doc:"A request repeated with the same key makes no second batch."`
		Body struct {
			Depot      string `json:"depot" maxLength:"100"`
			Path       string `json:"path" maxLength:"4096" doc:"The folder, relative to the depot."`
			Label      string `json:"label,omitempty"`
			Publisher  string `json:"publisher,omitempty" doc:"The expected publisher; without it the scopes of the publishers tell."`
			RequireAll bool   `json:"require_all,omitempty" doc:"Refuse the batch when a manifest lists files that are not here."`

			Corrections []wire.Correction `json:"corrections,omitempty" maxItems:"1000" doc:"Pairs of signature and file, set by hand."`
			Origins     []wire.ComesFrom  `json:"origins,omitempty" maxItems:"1000" doc:"Where manifests of the folder come from."`
			Copies      []wire.GivenCopy  `json:"copies,omitempty" maxItems:"16" doc:"Other copies of manifests, to hold those in the folder against."`
		}
	}
	create := op(http.MethodPost, "/batches", "run-batch", "Verify a folder of a depot", access.Operator)
	create.DefaultStatus = http.StatusAccepted
	handle(a, create, func(ctx context.Context, in *newBatch) (*body[wire.Batch], error) {
		p, _ := principal(ctx)
		from := map[string]survey.Origin{}
		for _, o := range in.Body.Origins {
			from[o.Manifest] = survey.Origin{Channel: survey.Channel(o.Channel), Place: o.Place}
		}
		source, err := sources.OfDepot(in.Body.Depot, in.Body.Path)
		if err != nil {
			return nil, err
		}
		b, err := a.Batches.Create(ctx, p.Name, batches.Request{
			ComesFrom: from, Copies: convert(in.Body.Copies, func(c wire.GivenCopy) batches.Copy {
				return batches.Copy{Of: c.Of, Origin: c.Origin, Path: c.Path, From: survey.Origin{Channel: survey.Channel(c.Channel), Place: c.Place}, Text: c.Text}
			}),
			Source: source, Label: in.Body.Label, Publisher: in.Body.Publisher,
			RequireAll: in.Body.RequireAll, IdempotencyKey: in.Key, Corrections: corrections(in.Body.Corrections),
		})
		if err != nil {
			return nil, err
		}
		return answer(batchOf(b), nil)
	})
	type newSurvey struct {
		Body struct {
			Depot       string            `json:"depot" maxLength:"100"`
			Path        string            `json:"path" maxLength:"4096"`
			Corrections []wire.Correction `json:"corrections,omitempty" maxItems:"1000"`
		}
	}
	handle(a, op(http.MethodPost, "/surveys", "survey-folder", "Show what a batch would check and why, without checking it", access.Operator), func(ctx context.Context, in *newSurvey) (*body[wire.Survey], error) {
		source, err := sources.OfDepot(in.Body.Depot, in.Body.Path)
		if err != nil {
			return nil, err
		}
		plan, err := a.Batches.Plan(ctx, source, corrections(in.Body.Corrections))
		if err != nil {
			return nil, err
		}
		return answer(surveyOf(plan), nil)
	})
	type manifestText struct {
		Body struct {
			Text string `json:"text" maxLength:"4194304" doc:"The manifest, or a page or message with digests in it."`
			Name string `json:"name,omitempty" maxLength:"255" doc:"Its file name, which can tell the algorithm."`
		}
	}
	handle(a, op(http.MethodPost, "/manifest-readings", "read-manifest", "Show what is understood of a manifest, and what is not; nothing is kept", access.Auditor), func(_ context.Context, in *manifestText) (*body[wire.Reading], error) {
		m, err := manifest.Read(strings.NewReader(in.Body.Text), manifest.Options{FileName: path.Base(in.Body.Name), MaxEntries: 100_000})
		var limit *manifest.LimitError
		if errors.As(err, &limit) {
			err = fault.New(fault.Invalid, "manifest-too-large", "The manifest was not read: %v.", limit).Advise("“endeixis manifest show” reads longer ones.").At("text")
		}
		if err != nil {
			return nil, err
		}
		return answer(readingOf(m), nil)
	})
	type listBatches struct {
		State   string `query:"state" enum:"waiting,measuring,done,failed"`
		Verdict string `query:"verdict" enum:"cleared,unproven,refused"`
		Cursor  string `query:"cursor"`
		Limit   int    `query:"limit" minimum:"1" maximum:"200" default:"50"`
	}
	handle(a, op(http.MethodGet, "/batches", "list-batches", "List batches, the newest first", access.Auditor), func(ctx context.Context, in *listBatches) (*body[wire.Page[wire.Batch]], error) {
		page, err := a.Query.Batches(ctx, store.BatchFilter{State: in.State, Verdict: in.Verdict, Limit: in.Limit}, in.Cursor)
		return answer(pageOf(page, batchOf), err)
	})
	type byID struct {
		ID int64 `path:"id"`
	}
	handle(a, op(http.MethodGet, "/batches/{id}", "show-batch", "Show a batch", access.Auditor), func(ctx context.Context, in *byID) (*body[wire.Batch], error) {
		b, err := a.Batches.Get(ctx, in.ID)
		return answer(batchOf(b), err)
	})
	type listItems struct {
		ID      int64  `path:"id"`
		Verdict string `query:"verdict" enum:"cleared,unproven,refused"`
		Role    string `query:"role" enum:"artifact,manifest,signature,key,evidence" doc:"Evidence is all that is no artifact."`
		Match   string `query:"match" maxLength:"500" doc:"A pattern with * and ? for the path or its last part."`
		Cursor  string `query:"cursor"`
		Limit   int    `query:"limit" minimum:"1" maximum:"500" default:"100"`
	}
	handle(a, op(http.MethodGet, "/batches/{id}/items", "list-items", "List the items of a batch: the refused first, then those unproven, cleared and what is no artifact, each by path", access.Auditor), func(ctx context.Context, in *listItems) (*body[wire.Page[wire.Item]], error) {
		if _, err := a.Batches.Get(ctx, in.ID); err != nil {
			return nil, err
		}
		page, err := a.Query.Items(ctx, in.ID, store.ItemFilter{Verdict: in.Verdict, Role: in.Role, Match: in.Match, Limit: in.Limit}, in.Cursor)
		if err != nil {
			return nil, err
		}
		out := wire.Page[wire.Item]{Items: []wire.Item{}, Next: page.Next}
		now, err := a.nowOf(ctx, in.ID, convert(page.Rows, func(r store.JudgedItem) int { return r.N })...)
		if err != nil {
			return nil, err
		}
		for _, row := range page.Rows {
			view, err := itemOf(row)
			if err != nil {
				return nil, err
			}
			view.Now = now[row.N]
			out.Items = append(out.Items, view)
		}
		return answer(out, nil)
	})
	type oneItem struct {
		ID int64 `path:"id"`
		N  int   `path:"n" doc:"The item's number within the batch."`
	}
	handle(a, op(http.MethodGet, "/batches/{id}/items/{n}", "show-item", "Show an item with its evidence", access.Auditor), func(ctx context.Context, in *oneItem) (*body[wire.Item], error) {
		row, err := a.Store.ItemAt(ctx, in.ID, in.N)
		if errors.Is(err, store.ErrNotFound) {
			return nil, fault.New(fault.NotFound, "item-unknown", "Batch %d has no item %d.", in.ID, in.N)
		}
		if err != nil {
			return nil, err
		}
		now, err := a.nowOf(ctx, in.ID, in.N)
		if err != nil {
			return nil, err
		}
		item, err := itemOf(row)
		if err != nil {
			return nil, err
		}
		item.Now = now[in.N]
		item.Linked, err = a.Query.Linked(ctx, in.ID, item.Path, item.Paths)
		return answer(item, err)
	})
	handle(a, op(http.MethodGet, "/batches/{id}/copies", "list-copies", "Tell how copies of the batch's manifests compare", access.Auditor), func(ctx context.Context, in *byID) (*body[wire.Page[wire.Copy]], error) {
		if _, err := a.Batches.Get(ctx, in.ID); err != nil {
			return nil, err
		}
		rows, err := a.Store.Copies(ctx, in.ID)
		out := wire.Page[wire.Copy]{Items: []wire.Copy{}}
		for _, row := range rows {
			c, err := copyOf(row)
			if err != nil {
				return nil, err
			}
			out.Items = append(out.Items, c)
		}
		return answer(out, err)
	})
	handle(a, op(http.MethodGet, "/origins", "list-origins", "List the places from which copies of manifests can be fetched", access.Auditor), func(context.Context, *struct{}) (*body[wire.Page[wire.Origin]], error) {
		return answer(wire.Page[wire.Origin]{Items: convert(a.Origins.All(), func(o origins.Origin) wire.Origin {
			return wire.Origin{Name: o.Name, URL: o.URL, Channel: string(o.Channel)}
		})}, nil)
	})
	type listAbsent struct {
		ID     int64  `path:"id"`
		Cursor string `query:"cursor"`
		Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"1000"`
	}
	handle(a, op(http.MethodGet, "/batches/{id}/absent", "list-absent", "List the manifest entries of a batch whose files are not here", access.Auditor), func(ctx context.Context, in *listAbsent) (*body[wire.Page[wire.Absent]], error) {
		page, err := a.Query.Absents(ctx, in.ID, in.Cursor, in.Limit)
		return answer(pageOf(page, func(r store.Absent) wire.Absent { return wire.Absent{Name: r.Name, Manifest: r.Manifest, Line: r.Line} }), err)
	})
	type follow struct {
		ID   int64 `path:"id"`
		Last int   `header:"Last-Event-ID"`
	}
	sse.Register(a.huma, op(http.MethodGet, "/batches/{id}/events", "follow-batch", "Follow a batch; every event is the whole batch as it then stands", access.Auditor),
		map[string]any{"batch": wire.Batch{}, "problem": Problem{}}, func(ctx context.Context, in *follow, send sse.Sender) {
			a.follow(ctx, in.ID, in.Last, send)
		})
	handle(a, op(http.MethodGet, "/overview", "overview", "What needs attention", access.Auditor), func(ctx context.Context, _ *struct{}) (*body[wire.Overview], error) {
		return answer(a.overview(ctx))
	})
}

// follow sends the batch whenever it has moved, until it is closed. Every
// event holds everything, so one that was missed is made up for by the next;
// the event ID counts settled items and bytes only to let a client that comes
// back be told nothing twice.
func (a *API) follow(ctx context.Context, id int64, last int, send sse.Sender) {
	moved, end := a.Hub.Watch(id)
	defer end()
	// A look now and then makes up for announcements that were lost.
	tick := time.NewTicker(2 * time.Second)
	defer tick.Stop()
	sent := last
	for {
		b, err := a.Batches.Get(ctx, id)
		if err != nil {
			p := problemOf(ctx, a.Log, err)
			send(sse.Message{Data: *p}) //nolint:errcheck // the other side is gone
			return
		}
		view := batchOf(b)
		if event := eventOf(view); event != sent {
			if err := send(sse.Message{ID: event, Data: view}); err != nil {
				return
			}
			sent = event
		}
		if view.Closed() {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-moved:
		case <-tick.C:
		}
	}
}

func (a *API) registerKeyring() {
	handle(a, op(http.MethodGet, "/publishers", "list-publishers", "List publishers", access.Auditor), func(ctx context.Context, _ *struct{}) (*body[wire.Page[wire.Publisher]], error) {
		rows, err := a.Store.Publishers(ctx)
		out := wire.Page[wire.Publisher]{Items: []wire.Publisher{}}
		for _, p := range rows {
			out.Items = append(out.Items, publisherOf(p))
		}
		return answer(out, err)
	})
	type newPublisher struct {
		Body struct {
			Slug    string   `json:"slug" maxLength:"64"`
			Name    string   `json:"name" maxLength:"200"`
			Contact string   `json:"contact,omitempty" maxLength:"2000"`
			Scope   []string `json:"scope,omitempty" maxItems:"100" doc:"Patterns of the file names that this publisher may sign."`
		}
	}
	handle(a, op(http.MethodPost, "/publishers", "add-publisher", "Add a publisher", access.Curator), func(ctx context.Context, in *newPublisher) (*body[wire.Publisher], error) {
		p, _ := principal(ctx)
		row, err := a.Keys.AddPublisher(ctx, p.Name, keys.NewPublisher{Slug: in.Body.Slug, Name: in.Body.Name, Contact: in.Body.Contact, Scope: in.Body.Scope})
		return answer(publisherOf(row), err)
	})
	type bySlug struct {
		Slug string `path:"slug"`
	}
	handle(a, op(http.MethodGet, "/publishers/{slug}", "show-publisher", "Show a publisher", access.Auditor), func(ctx context.Context, in *bySlug) (*body[wire.Publisher], error) {
		row, err := a.Keys.Publisher(ctx, in.Slug)
		return answer(publisherOf(row), err)
	})
	type listKeys struct {
		State     string `query:"state" enum:"candidate,admitted,withdrawn"`
		Publisher string `query:"publisher" maxLength:"64"`
		Text      string `query:"text" maxLength:"500" doc:"A part of a user ID or of the fingerprint, ignoring case."`
		Waiting   bool   `query:"waiting" doc:"Only what waits for a curator: candidates, and keys that a sighting contradicts."`
		Cursor    string `query:"cursor" maxLength:"64"`
		Limit     int    `query:"limit" minimum:"1" maximum:"500" default:"100"`
	}
	handle(a, op(http.MethodGet, "/keys", "list-keys", "List the keyring in the order of import", access.Auditor), func(ctx context.Context, in *listKeys) (*body[wire.Page[wire.Key]], error) {
		views, more, err := a.Keys.List(ctx, keys.Filter{
			State: keyring.State(in.State), Publisher: in.Publisher, Text: in.Text, Waiting: in.Waiting, After: openpgp.Fingerprint(in.Cursor), Limit: in.Limit,
		})
		out := wire.Page[wire.Key]{Items: convert(views, a.keyOf)}
		if more {
			out.Next = out.Items[len(out.Items)-1].Fingerprint
		}
		return answer(out, err)
	})
	type importKeys struct {
		Body struct {
			Data      string `json:"data" doc:"The key file, armored or binary, in base64."`
			Source    string `json:"source" maxLength:"1000" doc:"Where it comes from, such as a file name."`
			Publisher string `json:"publisher,omitempty" doc:"The publisher it is said to belong to."`
		}
	}
	importing := op(http.MethodPost, "/keys", "import-keys", "Import keys as candidates", access.Operator)
	importing.MaxBodyBytes = 24 << 20
	handle(a, importing, func(ctx context.Context, in *importKeys) (*body[wire.Import], error) {
		p, _ := principal(ctx)
		data, err := decoded(in.Body.Data, "key")
		if err != nil {
			return nil, err
		}
		imported, notes, err := a.Keys.Import(ctx, p.Name, in.Body.Publisher, in.Body.Source, data)
		if err != nil {
			return nil, err
		}
		rules, err := a.rules(ctx)
		return answer(importOf(imported, notes, rules), err)
	})
	type preview struct {
		Body struct {
			Data string `json:"data" doc:"The key file, armored or binary, in base64."`
		}
	}
	previewing := op(http.MethodPost, "/key-readings", "preview-import", "Show what importing a key file would do; nothing is kept", access.Auditor)
	previewing.MaxBodyBytes = 24 << 20
	handle(a, previewing, func(ctx context.Context, in *preview) (*body[wire.Import], error) {
		data, err := decoded(in.Body.Data, "key")
		if err != nil {
			return nil, err
		}
		imported, notes, err := a.Keys.Preview(ctx, data)
		if err != nil {
			return nil, err
		}
		rules, err := a.rules(ctx)
		if err != nil {
			return nil, err
		}
		out := importOf(imported, notes, rules)
		for i, k := range imported {
			if k.Result == "updated" && k.State == keyring.Admitted {
				if out.Keys[i].Reach, err = a.reach(ctx, string(k.Fingerprint), k.Certificate); err != nil {
					return nil, err
				}
			}
		}
		return answer(out, nil)
	})
	type lookUp struct {
		Body struct {
			Query string `json:"query" maxLength:"300" doc:"A full fingerprint, a key ID of 16 digits, or a mail address."`
		}
	}
	handle(a, op(http.MethodPost, "/key-look-ups", "look-up-keys", "Ask the configured key directories; nothing is kept", access.Operator), func(ctx context.Context, in *lookUp) (*body[wire.LookUp], error) {
		l, err := a.Keys.LookUp(ctx, in.Body.Query)
		if err != nil {
			return nil, err
		}
		rules, err := a.rules(ctx)
		return answer(wire.LookUp{Answers: answersOf(l.Answers), Notes: l.Notes, Keys: convert(l.Keys, func(f keys.FoundKey) wire.FoundKey {
			return wire.FoundKey{Imported: importedOf(f.Imported, rules), Directories: f.Directories}
		})}, err)
	})
	type importFound struct {
		Body struct {
			Query       string `json:"query" maxLength:"300"`
			Fingerprint string `json:"fingerprint" maxLength:"200" doc:"Which of the keys that were found."`
			Publisher   string `json:"publisher,omitempty" doc:"The publisher it is said to belong to."`
		}
	}
	handle(a, op(http.MethodPost, "/key-look-ups/imports", "import-found-key", "Look a key up again and import it as a candidate", access.Operator), func(ctx context.Context, in *importFound) (*body[wire.Imported], error) {
		p, _ := principal(ctx)
		one, err := a.Keys.ImportFound(ctx, p.Name, in.Body.Publisher, in.Body.Query, in.Body.Fingerprint)
		if err != nil {
			return nil, err
		}
		rules, err := a.rules(ctx)
		return answer(importedOf(one, rules), err)
	})
	type refresh struct {
		Body struct {
			Fingerprints []string `json:"fingerprints,omitempty" maxItems:"1000" doc:"Which keys; without any, all of them."`
		}
	}
	handle(a, op(http.MethodPost, "/key-refreshes", "refresh-keys", "Look keys up again and add what is new about them", access.Operator), func(ctx context.Context, in *refresh) (*body[wire.Page[wire.Refreshed]], error) {
		p, _ := principal(ctx)
		done, err := a.Keys.Refresh(ctx, p.Name, in.Body.Fingerprints)
		if err != nil {
			return nil, err
		}
		rules, err := a.rules(ctx)
		return answer(wire.Page[wire.Refreshed]{Items: convert(done, func(r keys.Refreshed) wire.Refreshed {
			return wire.Refreshed{Imported: importedOf(r.Imported, rules), Answers: answersOf(r.Asked)}
		})}, err)
	})
	type inspection struct {
		Body struct {
			Data string `json:"data" doc:"The file, armored or binary, in base64."`
		}
	}
	inspecting := op(http.MethodPost, "/openpgp-readings", "inspect-openpgp", "Show what an OpenPGP file is made of; nothing is kept", access.Auditor)
	inspecting.MaxBodyBytes = 6 << 20
	handle(a, inspecting, func(ctx context.Context, in *inspection) (*body[openpgp.Account], error) {
		data, err := decoded(in.Body.Data, "file")
		if err != nil {
			return nil, err
		}
		rules, err := a.rules(ctx)
		if err != nil {
			return nil, err
		}
		account, err := openpgp.Inspect(data, rules)
		var empty *openpgp.EmptyError
		if errors.As(err, &empty) {
			return nil, fault.New(fault.Invalid, "no-openpgp", "This is no OpenPGP file: %v.", empty).At("data")
		}
		if err != nil {
			return nil, err
		}
		return answer(*account, nil)
	})
	type byFingerprint struct {
		Fingerprint string `path:"fingerprint" maxLength:"200"`
	}
	handle(a, op(http.MethodGet, "/keys/{fingerprint}", "show-key", "Show a key", access.Auditor), func(ctx context.Context, in *byFingerprint) (*body[wire.Key], error) {
		v, err := a.Keys.Show(ctx, in.Fingerprint)
		if err != nil {
			return nil, err
		}
		return answer(a.keyOf(v), nil)
	})
	type sight struct {
		Fingerprint string `path:"fingerprint" maxLength:"200"`
		Body        struct {
			Read    string          `json:"read" maxLength:"500" doc:"The fingerprint as it was read, in any case and spacing."`
			Channel keyring.Channel `json:"channel" doc:"vendor-site, mirror, mailing-list, letter, phone, in-person, conference-slide, colleague-elsewhere, key-directory or other."`
			Place   string          `json:"place" doc:"Where exactly."`
			Note    string          `json:"note,omitempty"`
		}
	}
	handle(a, op(http.MethodPost, "/keys/{fingerprint}/sightings", "sight-key", "Note that a fingerprint was read somewhere", access.Operator), func(ctx context.Context, in *sight) (*body[wire.Sight], error) {
		p, _ := principal(ctx)
		v, agrees, err := a.Keys.Sight(ctx, p.Name, in.Fingerprint, keys.NewSighting{Read: in.Body.Read, Channel: in.Body.Channel, Place: in.Body.Place, Note: in.Body.Note})
		if err != nil {
			return nil, err
		}
		return answer(wire.Sight{Agrees: agrees, Key: a.keyOf(v)}, nil)
	})
	a.registerDecisions()
}

// decoded returns what a request carries in base64.
func decoded(data, what string) ([]byte, error) {
	out, err := base64.StdEncoding.DecodeString(data)
	if err != nil {
		return nil, fault.New(fault.Invalid, "not-base64", "The %s is not sent in base64.", what).At("data")
	}
	return out, nil
}

// rules returns the limits of the policy in force that concern OpenPGP.
func (a *API) rules(ctx context.Context) (openpgp.Rules, error) {
	policies, err := a.Keys.Policies(ctx, 0)
	return policies.Rules(a.Now()), err
}

// registerDecisions makes the steps of a key's life.
func (a *API) registerDecisions() {
	decided := func(v keys.View, err error) (*body[wire.Key], error) {
		if err != nil {
			return nil, err
		}
		return answer(a.keyOf(v), nil)
	}
	type admit struct {
		Fingerprint string `path:"fingerprint" maxLength:"200"`
		Body        struct {
			Typed     string `json:"typed" maxLength:"500" doc:"The fingerprint as the curator read and typed it."`
			Publisher string `json:"publisher" maxLength:"64"`
			Role      string `json:"role,omitempty" enum:"release,anchor" doc:"What the key is for: releases, or certifying other keys."`
			Reason    string `json:"reason"`
		}
	}
	handle(a, op(http.MethodPost, "/keys/{fingerprint}/admission", "admit-key", "Admit a candidate for a publisher, or propose it where two curators decide", access.Curator), func(ctx context.Context, in *admit) (*body[wire.Key], error) {
		p, _ := principal(ctx)
		return decided(a.Keys.Admit(ctx, p.Name, keys.Admission{Fingerprint: in.Fingerprint, Typed: in.Body.Typed, Publisher: in.Body.Publisher, Role: keyring.Role(in.Body.Role), Reason: in.Body.Reason}))
	})
	type step struct {
		Fingerprint string `path:"fingerprint" maxLength:"200"`
		Body        struct {
			Reason string `json:"reason"`
		}
	}
	for _, d := range []struct {
		path, id, does string
		do             func(ctx context.Context, by, fingerprint, reason string) (keys.View, error)
	}{
		{"decline", "decline-proposal", "Decline what another curator proposed, or take it back", a.Keys.Decline},
		{"reconsideration", "reconsider-key", "Make a withdrawn key a candidate again", a.Keys.Reconsider},
	} {
		handle(a, op(http.MethodPost, "/keys/{fingerprint}/"+d.path, d.id, d.does, access.Curator), func(ctx context.Context, in *step) (*body[wire.Key], error) {
			p, _ := principal(ctx)
			return decided(d.do(ctx, p.Name, in.Fingerprint, in.Body.Reason))
		})
	}
	handle(a, op(http.MethodPost, "/keys/{fingerprint}/withdrawal", "withdraw-key", "Withdraw an admitted key, and judge again what rests on it", access.Curator), func(ctx context.Context, in *step) (*body[wire.Key], error) {
		p, _ := principal(ctx)
		v, err := a.Keys.Withdraw(ctx, p.Name, in.Fingerprint, in.Body.Reason)
		if err != nil {
			return nil, err
		}
		out := a.keyOf(v)
		if v.Reassessment != 0 {
			out.Reassessment = &v.Reassessment
		}
		return answer(out, nil)
	})
	type resolution struct {
		Record int64 `path:"record" minimum:"0"`
		Body   struct {
			Reason string `json:"reason"`
		}
	}
	handle(a, op(http.MethodPost, "/sightings/{record}/resolution", "resolve-conflict", "Explain a sighting that contradicts its key", access.Curator), func(ctx context.Context, in *resolution) (*body[wire.Key], error) {
		p, _ := principal(ctx)
		return decided(a.Keys.Resolve(ctx, p.Name, in.Record, in.Body.Reason))
	})
	type changePublisher struct {
		Slug string `path:"slug"`
		Body struct {
			Name    *string  `json:"name,omitempty" maxLength:"200"`
			Contact *string  `json:"contact,omitempty" maxLength:"2000"`
			Scope   []string `json:"scope,omitempty" maxItems:"100" doc:"In place of the patterns there are."`
		}
	}
	handle(a, op(http.MethodPatch, "/publishers/{slug}", "set-publisher", "Change what is known about a publisher", access.Curator), func(ctx context.Context, in *changePublisher) (*body[wire.Publisher], error) {
		p, _ := principal(ctx)
		row, err := a.Keys.SetPublisher(ctx, p.Name, in.Slug, keys.PublisherChange{Name: in.Body.Name, Contact: in.Body.Contact, Scope: in.Body.Scope})
		return answer(publisherOf(row), err)
	})
}

func (a *API) registerRecords() {
	type list struct {
		Kind    string `query:"kind"`
		Verdict string `query:"verdict" enum:"cleared,unproven,refused"`
		Batch   int64  `query:"batch"`
		Name    string `query:"name" maxLength:"500" doc:"A part of the subject, ignoring case."`
		Cursor  string `query:"cursor"`
		Limit   int    `query:"limit" minimum:"1" maximum:"200" default:"50"`
	}
	handle(a, op(http.MethodGet, "/records", "list-records", "List records, the newest first", access.Auditor), func(ctx context.Context, in *list) (*body[wire.Page[wire.Record]], error) {
		page, err := a.Query.Records(ctx, store.RecordFilter{Kind: in.Kind, Verdict: in.Verdict, BatchID: in.Batch, Name: in.Name, Limit: in.Limit}, in.Cursor)
		return answer(pageOf(page, recordOf), err)
	})
	type byPosition struct {
		Position int64 `path:"position" minimum:"0"`
	}
	handle(a, op(http.MethodGet, "/records/{position}", "show-record", "Show a record", access.Auditor), func(ctx context.Context, in *byPosition) (*body[wire.Record], error) {
		r, err := a.Records.Get(ctx, in.Position)
		return answer(recordOf(r), err)
	})
	handle(a, op(http.MethodGet, "/records/{position}/receipt", "make-receipt", "Hand out the receipt of a record", access.Auditor), func(ctx context.Context, in *byPosition) (*body[ledger.Receipt], error) {
		return answer(a.Records.Receipt(ctx, in.Position))
	})
	handle(a, op(http.MethodGet, "/ledger/checkpoint", "show-checkpoint", "Sign and show the ledger's size and root", access.Auditor), func(ctx context.Context, _ *struct{}) (*body[wire.Checkpoint], error) {
		c, signed, err := a.Records.Sign(ctx)
		return answer(wire.Checkpoint{Size: c.Size, Root: c.Root.String(), Signed: signed, PublicKey: a.Records.PublicKey()}, err)
	})
	type auditIn struct {
		Body struct {
			Checkpoint string `json:"checkpoint,omitempty" doc:"A signed checkpoint that was kept outside, to be checked too."`
		}
	}
	handle(a, op(http.MethodPost, "/ledger/audits", "audit-ledger", "Recompute the whole ledger", access.Auditor), func(ctx context.Context, in *auditIn) (*body[wire.Audit], error) {
		if _, _, err := a.Records.Sign(ctx); err != nil {
			a.Log.Error("signing before an audit", "error", err) // the audit itself will say why
		}
		report, err := a.Records.Audit(ctx, in.Body.Checkpoint)
		return answer(wire.Audit(report), err)
	})
}

// pageOf makes a page of the API from one of the read side.
func pageOf[A, B any](page query.Page[A], f func(A) B) wire.Page[B] {
	return wire.Page[B]{Items: convert(page.Rows, f), Next: page.Next}
}

// convert makes a list of one kind from a list of another; never nil, so that
// it becomes [] in JSON.
func convert[A, B any](in []A, f func(A) B) []B {
	out := make([]B, len(in))
	for i, v := range in {
		out[i] = f(v)
	}
	return out
}

func corrections(in []wire.Correction) []survey.Correction {
	return convert(in, func(c wire.Correction) survey.Correction { return survey.Correction(c) })
}
