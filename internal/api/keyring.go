package api

import (
	"context"
	"encoding/base64"
	"errors"
	"net/http"
	"time"

	"endeixis/core/keyring"
	"endeixis/core/openpgp"
	"endeixis/core/plain"
	"endeixis/internal/access"
	"endeixis/internal/fault"
	"endeixis/internal/keys"
	"endeixis/internal/store"
	"endeixis/internal/wire"
)

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

func publisherOf(p store.Publisher) wire.Publisher {
	return wire.Publisher{Slug: p.Slug, Name: plain.Text(p.Name), Contact: p.Contact, Scope: append([]string{}, p.Scope...), Created: p.CreatedAt, By: p.CreatedBy}
}

func (a *API) keyOf(v keys.View) wire.Key {
	cert := v.Key.Certificate
	fp := cert.Primary.Fingerprint
	now := a.Now()
	out := wire.Key{
		Fingerprint: string(fp), Grouped: plain.Grouped(string(fp)), State: string(v.Key.StateAt(now)), Publisher: v.Key.Publisher, Role: string(v.Key.Role),
		UserIDs: namesOf(cert), Algorithm: cert.Primary.Describe(), Created: cert.Primary.Created, Conflict: v.Key.Conflict,
		Subkeys: []wire.Subkey{}, Uses: append([]string{}, cert.Uses(cert.Primary, v.Rules)...), Sightings: []wire.Sighting{}, History: []wire.KeyStep{},
		ChannelsAsked: v.Policy.SightingChannels, Obstacles: append([]keyring.Obstacle{}, v.Obstacles...),
		Paths: []wire.Path{}, AnchorAdmits: v.Policy.AnchorAdmits, TwoCurators: v.Policy.TwoCurators, Revokers: []string{}, Attributes: cert.Attributes(),
		Imported: v.Row.ImportedAt, ImportedBy: v.Row.ImportedBy, Source: plain.Text(v.Row.Source),
	}
	out.Expires, _ = cert.Expires(v.Rules)
	out.Expired = out.Expires != nil && !now.Before(*out.Expires)
	if out.Expires != nil && !out.Expired {
		days := int(out.Expires.Sub(now).Hours() / 24)
		out.ExpiresInDays = &days
	}
	out.Revoked = revokedOf(cert)
	for _, s := range cert.Subkeys {
		out.Subkeys = append(out.Subkeys, wire.Subkey{Fingerprint: string(s.Key.Fingerprint), Algorithm: s.Key.Describe(), Created: s.Key.Created, Uses: append([]string{}, cert.Uses(s.Key, v.Rules)...)})
	}
	channels := map[string]bool{}
	for _, s := range v.Sightings {
		read := openpgp.NewFingerprint(s.Read)
		if read == fp {
			channels[s.Channel] = true
		}
		out.Sightings = append(out.Sightings, wire.Sighting{
			Channel: s.Channel, Place: plain.Text(s.Place), Note: plain.Text(s.Note), Read: plain.Grouped(string(read)), Agrees: read == fp,
			Differs: append([]int{}, keyring.Differences(read, fp)...), At: s.At, By: s.By, Record: s.Position,
			Resolved: plain.Text(s.Resolved), ResolvedBy: s.ResolvedBy,
		})
	}
	out.ChannelsSeen = len(channels)
	out.Timeline = convert(cert.Timeline(v.Rules), func(e openpgp.Event) wire.KeyEvent { return wire.KeyEvent{At: e.At, Kind: e.Kind, Detail: e.Detail} })
	for _, r := range cert.Revokers(v.Rules) {
		out.Revokers = append(out.Revokers, plain.Grouped(string(r.Fingerprint)))
	}
	out.Certified, out.Namesakes, out.UnknownCertifiers = []wire.Statement{}, []string{}, v.UnknownCertifiers
	for _, c := range v.Certifiers {
		out.Certified = append(out.Certified, wire.Statement{
			By: string(c.By.Certificate.Primary.Fingerprint), ByID: firstID(c.By.Certificate), UserID: plain.Text(c.UserID), Made: c.Made, Status: string(c.Status), Reason: c.Reason,
		})
	}
	for _, k := range v.Namesakes {
		out.Namesakes = append(out.Namesakes, string(k.Certificate.Primary.Fingerprint))
	}
	for _, p := range v.Paths {
		out.Paths = append(out.Paths, pathOf(p, now))
	}
	if p := v.Proposal; p != nil {
		out.Proposal = &wire.Proposal{Publisher: p.Publisher, Role: p.Role, Reason: plain.Text(p.Reason), By: p.By, At: p.At, Record: p.Position}
	}
	for _, c := range v.Changes {
		out.History = append(out.History, wire.KeyStep{At: c.At, To: c.To, By: c.By, Reason: plain.Text(c.Reason), Record: c.Position})
	}
	return out
}

// firstID returns the first valid user ID, safe to show, or the empty string.
func firstID(cert *openpgp.Certificate) string {
	if names := namesOf(cert); len(names) > 0 {
		return names[0]
	}
	return ""
}

// namesOf returns the valid user IDs, safe to show, the primary one first.
func namesOf(cert *openpgp.Certificate) []string { return convert(cert.Names(), plain.Text) }

func pathOf(p keyring.Path, now time.Time) wire.Path {
	cert := p.Anchor.Certificate
	out := wire.Path{Anchor: string(cert.Primary.Fingerprint), AnchorState: string(p.Anchor.StateAt(now)), Certified: "missing", Holds: p.Holds, Reason: p.Reason}
	out.AnchorID = firstID(cert)
	if c := p.Certification; c != nil {
		out.UserID, out.Made, out.Certified = plain.Text(c.UserID), &c.Made, string(c.Status)
	}
	return out
}

func revokedOf(cert *openpgp.Certificate) *wire.Revocation {
	r := cert.Revocation()
	if r == nil {
		return nil
	}
	return &wire.Revocation{At: r.Time, Reason: r.Reason.String(), Text: plain.Text(r.Text)}
}
