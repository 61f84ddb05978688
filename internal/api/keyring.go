package api

import (
	"context"
	"encoding/base64"
	"errors"
	"time"

	"endeixis/core/keyring"
	"endeixis/core/openpgp"
	"endeixis/core/plain"
	"endeixis/internal/fault"
	"endeixis/internal/keys"
	"endeixis/internal/wire"
)

func (a *API) registerKeyring() {
	handle(a, wire.ListKeys, a.listKeys)
	handle(a, wire.ImportKeys, a.importSentKeys)
	handle(a, wire.PreviewImport, a.previewSentKeys)
	loading(
		a, wire.LoadKeyFile,
		func(ctx context.Context, in *wire.LoadKeyFileRequest, progress keys.Progress) (wire.Import, error) {
			return a.importKeys(ctx, in.Publisher, in.Source, in.RawBody, progress)
		},
	)
	loading(
		a, wire.ReadKeyFile,
		func(ctx context.Context, in *wire.ReadKeyFileRequest, progress keys.Progress) (wire.Import, error) {
			return a.previewImport(ctx, in.RawBody, progress)
		},
	)
	handle(a, wire.LookUpKeys, a.lookUpKeys)
	handle(a, wire.ImportFoundKey, a.importFoundKey)
	handle(a, wire.LookUpKnown, a.lookUpKnown)
	handle(a, wire.InspectOpenPGP, a.inspectOpenPGP)
	handle(a, wire.ShowKey, a.showKey)
	handle(a, wire.SightKey, a.sightKey)
	a.registerDecisions()
}

func (a *API) listKeys(ctx context.Context, in *wire.ListKeysRequest) (*wire.Page[wire.Key], error) {
	views, more, err := a.Keys.List(ctx, keys.Filter{
		State:     in.State,
		Publisher: in.Publisher,
		Text:      in.Text,
		Waiting:   in.Waiting,
		After:     openpgp.Fingerprint(in.Cursor),
		Limit:     in.Limit,
	})
	out := wire.Page[wire.Key]{Items: convert(views, a.keyOf)}
	if more {
		out.Next = out.Items[len(out.Items)-1].Fingerprint
	}
	return answer(out, err)
}

func (a *API) importSentKeys(ctx context.Context, in *wire.ImportKeysRequest) (*wire.Import, error) {
	data, err := decoded(in.Body.Data, "key")
	if err != nil {
		return nil, err
	}
	return answer(a.importKeys(ctx, in.Body.Publisher, in.Body.Source, data, nil))
}

func (a *API) previewSentKeys(ctx context.Context, in *wire.ReadKeysRequest) (*wire.Import, error) {
	data, err := decoded(in.Body.Data, "key")
	if err != nil {
		return nil, err
	}
	return answer(a.previewImport(ctx, data, nil))
}

func (a *API) lookUpKeys(ctx context.Context, in *wire.LookUpRequest) (*wire.LookUp, error) {
	l, err := a.Keys.LookUp(ctx, in.Body.Query)
	if err != nil {
		return nil, err
	}
	rules, err := a.rules(ctx)
	return answer(
		wire.LookUp{
			Answers: answersOf(l.Answers), Notes: l.Notes,
			Keys: convert(l.Keys, func(f keys.FoundKey) wire.FoundKey {
				return wire.FoundKey{Imported: importedOf(f.Imported, rules), Directories: f.Directories}
			}),
		},
		err,
	)
}

func (a *API) importFoundKey(ctx context.Context, in *wire.ImportFoundRequest) (*wire.Imported, error) {
	p, _ := principal(ctx)
	imported, err := a.Keys.ImportFound(ctx, p.Name, in.Body.Publisher, in.Body.Query, in.Body.Fingerprint)
	if err != nil {
		return nil, err
	}
	rules, err := a.rules(ctx)
	return answer(importedOf(imported, rules), err)
}

func (a *API) lookUpKnown(ctx context.Context, in *wire.LookUpKnownRequest) (*wire.Page[wire.LookedUp], error) {
	p, _ := principal(ctx)
	done, err := a.Keys.LookUpKnown(ctx, p.Name, in.Body.Fingerprints)
	if err != nil {
		return nil, err
	}
	rules, err := a.rules(ctx)
	return answer(wire.Page[wire.LookedUp]{Items: convert(done, func(r keys.LookedUp) wire.LookedUp {
		return wire.LookedUp{Imported: importedOf(r.Imported, rules), Answers: answersOf(r.Asked)}
	})}, err)
}

func (a *API) inspectOpenPGP(ctx context.Context, in *wire.ReadKeysRequest) (*openpgp.Inspection, error) {
	data, err := decoded(in.Body.Data, "file")
	if err != nil {
		return nil, err
	}
	rules, err := a.rules(ctx)
	if err != nil {
		return nil, err
	}
	inspection, err := openpgp.Inspect(data, rules)
	var empty *openpgp.EmptyError
	if errors.As(err, &empty) {
		return nil, fault.New(fault.Invalid, fault.NoOpenPGP, "This is no OpenPGP file: %v.", empty).At("data")
	}
	if err != nil {
		return nil, err
	}
	return answer(*inspection, nil)
}

func (a *API) showKey(ctx context.Context, in *wire.KeyAt) (*wire.Key, error) {
	v, err := a.Keys.Show(ctx, in.Fingerprint)
	if err != nil {
		return nil, err
	}
	return answer(a.keyOf(v), nil)
}

func (a *API) sightKey(ctx context.Context, in *wire.SightKeyRequest) (*wire.Sight, error) {
	p, _ := principal(ctx)
	v, agrees, err := a.Keys.Sight(
		ctx, p.Name, in.Fingerprint,
		keys.NewSighting{Read: in.Body.Read, Channel: in.Body.Channel, Place: in.Body.Place, Note: in.Body.Note},
	)
	if err != nil {
		return nil, err
	}
	return answer(wire.Sight{Agrees: agrees, Key: a.followed(v)}, nil)
}

// decoded returns what a request carries in base64.
func decoded(data, what string) ([]byte, error) {
	out, err := base64.StdEncoding.DecodeString(data)
	if err != nil {
		return nil, fault.New(fault.Invalid, fault.NotBase64, "The %s is not sent in base64.", what).At("data")
	}
	return out, nil
}

// rules returns the limits of the policy in force that concern OpenPGP.
func (a *API) rules(ctx context.Context) (openpgp.Rules, error) {
	policies, err := a.Policy.InForce(ctx, 0)
	return policies.Rules(a.Now()), err
}

func (a *API) keyOf(v keys.View) wire.Key {
	cert := v.Key.Certificate
	fp := cert.Primary.Fingerprint
	now := a.Now()
	out := wire.Key{
		Fingerprint: string(fp),
		Grouped:     plain.Grouped(string(fp)), State: v.Key.StateAt(now), Publisher: v.Key.Publisher, Role: v.Key.Role,
		UserIDs:   namesOf(cert),
		Algorithm: cert.Primary.Describe(), Created: cert.Primary.Created, Conflict: v.Key.Conflict,
		Subkeys: []wire.Subkey{}, Uses: append([]string{}, cert.Uses(cert.Primary, v.Rules)...),
		Sightings: []wire.Sighting{}, History: []wire.KeyStep{}, ChannelsSeen: v.Sighted,
		ChannelsAsked: v.Policy.SightingChannels, Obstacles: append([]keyring.Obstacle{}, v.Obstacles...),
		Paths: []wire.Path{}, AnchorAdmits: v.Policy.AnchorAdmits, TwoCurators: v.Policy.TwoCurators,
		Revokers: []string{}, Attributes: cert.Attributes(), Imported: v.Imported.At, ImportedBy: v.Imported.By,
		Source: plain.Text(v.Imported.Source),
	}
	out.Until = v.Key.LastAt(now).Until
	out.Expires, _ = cert.Expires(v.Rules)
	out.Expired = out.Expires != nil && !now.Before(*out.Expires)
	if out.Expires != nil && !out.Expired {
		days := int(out.Expires.Sub(now).Hours() / 24)
		out.ExpiresInDays = &days
	}
	out.Revoked = revokedOf(cert)
	for _, s := range cert.Subkeys {
		out.Subkeys = append(
			out.Subkeys,
			wire.Subkey{
				Fingerprint: string(s.Key.Fingerprint), Algorithm: s.Key.Describe(), Created: s.Key.Created,
				Uses: append([]string{}, cert.Uses(s.Key, v.Rules)...),
			},
		)
	}
	for _, s := range v.Sightings {
		out.Sightings = append(out.Sightings, sightingOf(s, fp))
	}
	out.Timeline = convert(
		cert.Timeline(v.Rules),
		func(e openpgp.Event) wire.KeyEvent { return wire.KeyEvent{At: e.At, Kind: e.Kind, Detail: e.Detail} },
	)
	for _, r := range cert.Revokers(v.Rules) {
		out.Revokers = append(out.Revokers, plain.Grouped(string(r.Fingerprint)))
	}
	out.Certified, out.Namesakes, out.UnknownCertifiers = []wire.Statement{}, []string{}, v.UnknownCertifiers
	for _, c := range v.Certifiers {
		out.Certified = append(out.Certified, statementOf(c))
	}
	for _, k := range v.Namesakes {
		out.Namesakes = append(out.Namesakes, string(k.Certificate.Primary.Fingerprint))
	}
	for _, p := range v.Paths {
		out.Paths = append(out.Paths, pathOf(p, now))
	}
	out.Proposal = proposalOf(v.Proposal)
	for _, c := range v.Steps {
		out.History = append(out.History, stepOf(c))
	}
	return out
}

func statementOf(s keyring.Statement) wire.Statement {
	return wire.Statement{
		By: string(s.By.Certificate.Primary.Fingerprint), ByID: firstID(s.By.Certificate), UserID: plain.Text(s.UserID),
		Made: s.Made, Status: s.Status, Reason: s.Reason,
	}
}

// sightingOf tells of a sighting of a key.
func sightingOf(s keys.Sighting, of openpgp.Fingerprint) wire.Sighting {
	return wire.Sighting{
		Channel: s.Channel, Place: plain.Text(s.Place), Note: plain.Text(s.Note), Read: plain.Grouped(string(s.Read)),
		Agrees: s.Read == of, Differs: append([]int{}, keyring.Differences(s.Read, of)...), At: s.At, By: s.By,
		Record: s.Record, Resolved: plain.Text(s.Resolved), ResolvedBy: s.ResolvedBy,
	}
}

func proposalOf(p *keys.Proposal) *wire.Proposal {
	if p == nil {
		return nil
	}
	return &wire.Proposal{
		Publisher: p.Publisher, Role: p.Role, Reason: plain.Text(p.Reason), By: p.By, At: p.At, Record: p.Record,
		Until: p.Until,
	}
}

func stepOf(s keys.Step) wire.KeyStep {
	return wire.KeyStep{
		At: s.At, To: s.To, By: s.By, Reason: plain.Text(s.Reason), Record: s.Record, Until: s.Until,
		RestsOn: convert(s.RestsOn, plain.Grouped),
	}
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
	out := wire.Path{
		Anchor: string(cert.Primary.Fingerprint), AnchorState: p.Anchor.StateAt(now),
		Certified: openpgp.CertificationMissing, Holds: p.Holds, Reason: p.Reason, Note: p.Note,
	}
	out.AnchorID = firstID(cert)
	if c := p.Certification; c != nil {
		out.UserID, out.Made, out.Certified = plain.Text(c.UserID), &c.Made, c.Status
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
