package api

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"endeixis/core/digest"
	"endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/core/manifest"
	"endeixis/core/measure"
	"endeixis/core/openpgp"
	"endeixis/core/plain"
	"endeixis/core/survey"
	"endeixis/internal/access"
	"endeixis/internal/directories"
	"endeixis/internal/keys"
	"endeixis/internal/sources"
	"endeixis/internal/store"
	"endeixis/internal/wire"
)

func meOf(p access.Principal) wire.Me {
	return wire.Me{Name: p.Name, FullName: p.FullName, Role: string(p.Role)}
}

func tokenOf(t store.Token) wire.Token {
	return wire.Token{ID: t.ID, Owner: t.UserName, Label: t.Label, Role: t.Role, Created: t.CreatedAt, Expires: t.ExpiresAt, Revoked: t.RevokedAt}
}

func batchOf(b store.Batch) wire.Batch {
	depot, folder := sources.Source{Kind: sources.Kind(b.SourceKind), Reference: b.Source}.Folder()
	v := wire.Batch{
		ID: b.ID, Label: b.Label, Source: wire.Source{Kind: b.SourceKind, Reference: b.Source}, Depot: depot, Path: folder, Publisher: b.Publisher, RequireAll: b.RequireAll, Policy: b.PolicyVersion,
		AskedBy: b.AskedBy, Created: b.CreatedAt, Finished: b.FinishedAt, State: b.State, Verdict: b.Verdict, Note: b.Note, Record: b.Position,
		Counts:   wire.Counts{Cleared: b.Cleared, Unproven: b.Unproven, Refused: b.Refused, Absent: b.Absent},
		Progress: wire.Progress{Items: b.Items, ItemsDone: b.ItemsDone, Bytes: b.Bytes, BytesDone: b.BytesDone},
	}
	if len(b.Expected) > 0 {
		var e judge.Expectation
		if json.Unmarshal(b.Expected, &e) == nil {
			v.Expected = &e
		}
	}
	return v
}

// eventOf numbers a state of the batch; it only ever grows.
func eventOf(v wire.Batch) int {
	n := 1 + v.Progress.ItemsDone + int(v.Progress.BytesDone)
	switch v.State {
	case "measuring":
		n++
	case "done", "failed":
		n += 2
	}
	return n
}

func itemOf(row store.JudgedItem) (wire.Item, error) {
	v := wire.Item{
		N: row.N, Path: row.Path, Shown: plain.Text(row.Path), Role: row.Role, Size: row.Size, Verdict: row.Verdict, Record: row.Position,
		Grounds: []judge.Ground{}, Paths: []judge.ProofPath{}, Digests: map[string]string{},
	}
	var item survey.Item
	if err := json.Unmarshal(row.Survey, &item); err != nil {
		return v, err
	}
	v.Why = item.Why
	v.Inside, v.Holds = insideAndHolds(&item)
	if row.Position == nil {
		return v, nil
	}
	v.Settled = true
	var m measure.Measurement
	if err := errors.Join(json.Unmarshal(row.Measurement, &m), json.Unmarshal(row.Grounds, &v.Grounds), json.Unmarshal(row.Paths, &v.Paths)); err != nil {
		return v, err
	}
	v.Where = m.Where
	verdict := judge.Verdict("")
	if row.Verdict != nil {
		verdict = judge.Verdict(*row.Verdict)
	}
	if v.Deciding = judge.Deciding(verdict, v.Grounds); v.Deciding == "" && item.Role != survey.Artifact {
		v.Deciding = fmt.Sprintf("It is a %s: %s.", item.Role, item.Why)
	}
	for a, d := range m.Digests {
		v.Digests[a.String()] = d.String()
	}
	return v, nil
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

func recordOf(r store.Record) wire.Record {
	v := wire.Record{Position: r.Position, Kind: r.Kind, At: r.At, By: r.By, Subject: plain.Text(r.Subject), Verdict: r.Verdict, Batch: r.BatchID, Leaf: hex.EncodeToString(r.Leaf)}
	if r.Body != nil {
		v.Body = json.RawMessage(r.Body)
	}
	return v
}

// shownWaiting bounds the keys of an overview.
const shownWaiting = 20

func (a *API) overview(ctx context.Context) (wire.Overview, error) {
	o := wire.Overview{Candidates: []wire.Key{}, Conflicts: []wire.Key{}, Expiring: []wire.Key{}}
	seen, err := a.Query.Overview(ctx, a.Now())
	if err != nil {
		return o, err
	}
	o.Refused, o.Unproven, o.Running, o.Recent = convert(seen.Refused, batchOf), convert(seen.Unproven, batchOf), convert(seen.Running, batchOf), convert(seen.Recent, batchOf)
	o.Days = convert(seen.Days, func(d store.DayCount) wire.DayCount {
		return wire.DayCount{Day: d.Day, Verdict: d.Verdict, Count: d.Count}
	})
	o.Records = seen.Records
	waiting, _, err := a.Keys.List(ctx, keys.Filter{Waiting: true, Limit: shownWaiting})
	if err != nil {
		return o, err
	}
	for _, v := range waiting {
		k := a.keyOf(v)
		if k.Conflict {
			o.Conflicts = append(o.Conflicts, k)
		} else {
			o.Candidates = append(o.Candidates, k)
		}
	}
	expiring, _, err := a.Keys.List(ctx, keys.Filter{State: keyring.Admitted, ExpiresBefore: a.Now().AddDate(0, 0, keys.Stages()[0]), Limit: shownWaiting})
	if err != nil {
		return o, err
	}
	o.Expiring = convert(expiring, a.keyOf)
	return o, nil
}

// insideAndHolds tells what holds an item, and what it holds.
func insideAndHolds(item *survey.Item) (inside, holds string) {
	if item.Inside != nil {
		inside = plain.Text(item.Inside.Of)
	}
	if h := item.Holds; h != nil {
		holds = h.String()
		if h.Trouble == "" && h.Members > 0 {
			holds += fmt.Sprintf(", %d spoken of", h.Spoken)
		}
	}
	return inside, holds
}

func surveyOf(plan *survey.Survey) wire.Survey {
	out := wire.Survey{Items: []wire.Planned{}, Absent: []wire.Absent{}}
	for _, item := range plan.Items {
		p := wire.Planned{
			Path: item.Path, Shown: plain.Text(item.Path), Role: string(item.Role), Why: plain.Text(item.Why), Size: item.Size,
			Algorithms: []string{}, Listed: []wire.Vouched{}, Signatures: []wire.Vouched{},
		}
		p.Inside, p.Holds = insideAndHolds(&item)
		if item.Problem != nil {
			p.Problem = item.Problem.Message
		}
		for _, d := range item.Digests {
			p.Algorithms = append(p.Algorithms, d.String())
		}
		for _, l := range item.Listed {
			why := "it names this file"
			if l.Name == "" {
				why = "it holds one digest, and this is the file it is about"
			}
			if l.Doubtful {
				why = "it names this file or another of the same name; the digest will decide"
			}
			v := wire.Vouched{By: plain.Text(l.Manifest), Line: l.Line, Why: why}
			if n := len(p.Listed); n == 0 || p.Listed[n-1] != v { // a line can state several digests
				p.Listed = append(p.Listed, v)
			}
		}
		for _, o := range item.Signatures {
			p.Signatures = append(p.Signatures, wire.Vouched{By: plain.Text(o.File), Why: o.Why})
		}
		out.Items = append(out.Items, p)
	}
	for _, e := range plan.Absent {
		out.Absent = append(out.Absent, wire.Absent{Name: plain.Text(e.Name), Manifest: plain.Text(e.Manifest), Line: e.Line})
	}
	return out
}

func copyOf(row store.Copy) (wire.Copy, error) {
	out := wire.Copy{Of: plain.Text(row.Of), Channel: row.Channel, Place: plain.Text(row.Place), Differ: []wire.Change{}, Sentence: "It has not been had yet."}
	if row.Summary == nil {
		return out, nil
	}
	var read survey.CopyRead
	if err := json.Unmarshal(row.Summary, &read); err != nil {
		return out, err
	}
	out.Size, out.SHA256, out.Identical, out.Same, out.More, out.Trouble = read.Size, read.SHA256.String(), read.Identical, read.Same, read.More, read.Trouble
	for _, c := range read.Differ {
		out.Differ = append(out.Differ, wire.Change{Kind: c.Kind, Name: plain.Text(c.Name), Was: plain.Text(c.Was), Before: c.Before, After: c.After})
	}
	out.Sentence = read.String()
	return out, nil
}

func importOf(imported []keys.Imported, notes []string, rules openpgp.Rules) wire.Import {
	return wire.Import{Notes: append([]string{}, notes...), Keys: convert(imported, func(k keys.Imported) wire.Imported { return importedOf(k, rules) })}
}

func importedOf(k keys.Imported, rules openpgp.Rules) wire.Imported {
	out := wire.Imported{
		Fingerprint: string(k.Fingerprint), Result: k.Result, Changes: append([]string{}, k.Changes...), UserIDs: namesOf(k.Certificate), State: string(k.State), Publisher: k.Publisher,
		Algorithm: k.Certificate.Primary.Describe(), Created: k.Certificate.Primary.Created, Subkeys: len(k.Certificate.Subkeys), Revoked: revokedOf(k.Certificate),
	}
	out.Expires, _ = k.Certificate.Expires(rules)
	return out
}

func answersOf(answers []directories.Answer) []wire.DirectoryAnswer {
	return convert(answers, func(a directories.Answer) wire.DirectoryAnswer {
		out := wire.DirectoryAnswer{
			Directory: a.Directory.Name, Kind: string(a.Directory.Kind), URL: a.Directory.URL, Outcome: string(a.Outcome), Detail: a.Detail,
			Fingerprints: []string{}, Milliseconds: a.Took.Milliseconds(),
		}
		for _, c := range a.Certificates {
			out.Fingerprints = append(out.Fingerprints, string(c.Primary.Fingerprint))
		}
		return out
	})
}

func revokedOf(cert *openpgp.Certificate) *wire.Revocation {
	r := cert.Revocation()
	if r == nil {
		return nil
	}
	return &wire.Revocation{At: r.Time, Reason: r.Reason.String(), Text: plain.Text(r.Text)}
}

func (a *API) waiverOf(w store.Waiver) wire.Waiver {
	out := wire.Waiver{
		ID: w.ID, Ground: w.Ground, Publisher: w.Publisher, Pattern: plain.Text(w.Pattern), Reason: plain.Text(w.Reason), By: w.By, Created: w.CreatedAt, Until: w.Until,
		State: "in force", Ended: w.EndedAt, EndedBy: w.EndedBy, EndReason: plain.Text(w.EndReason), Record: w.Position,
	}
	switch {
	case w.EndedAt != nil:
		out.State = "ended"
	case !a.Now().Before(w.Until):
		out.State = "run out"
	}
	return out
}

func policyOf(v keys.PolicyVersion) wire.PolicyVersion {
	return wire.PolicyVersion{
		Version: v.Version, Publisher: v.Publisher, Reason: plain.Text(v.Reason), Created: v.CreatedAt, By: v.CreatedBy,
		Document: v.Document, Own: v.Own,
	}
}

// shownEntries bounds the entries of a manifest that are shown at once.
const shownEntries = 5000

func readingOf(m *manifest.Manifest) wire.Reading {
	out := wire.Reading{Format: string(m.Format), Entries: []wire.ReadEntry{}, Problems: []wire.ReadProblem{}, MoreProblems: m.MoreProblems, Cut: len(m.Entries) > shownEntries}
	for _, e := range m.Entries[:min(len(m.Entries), shownEntries)] {
		entry := wire.ReadEntry{Name: plain.Text(e.Name), Candidates: []string{}, Digest: e.Digest.String(), Size: e.Size, Line: e.Line}
		if e.Algorithm != digest.Unknown {
			name := e.Algorithm.String()
			entry.Algorithm = &name
		}
		for _, c := range e.Candidates {
			entry.Candidates = append(entry.Candidates, c.String())
		}
		out.Entries = append(out.Entries, entry)
	}
	for _, p := range m.Problems {
		out.Problems = append(out.Problems, wire.ReadProblem{Line: p.Line, Code: string(p.Code), Message: plain.Text(p.Message)})
	}
	return out
}
