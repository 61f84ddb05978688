// Package satchels packs what it takes to judge where there is no network, and takes back
// what was judged there: each outcome goes into the ledger as a record of its own kind, and
// is judged again with what is known now.
package satchels

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"endeixis/core/digest"
	"endeixis/core/judge"
	"endeixis/core/measure"
	"endeixis/core/plain"
	"endeixis/core/satchel"
	"endeixis/core/survey"
	"endeixis/internal/batches"
	"endeixis/internal/fault"
	"endeixis/internal/keys"
	"endeixis/internal/policy"
	"endeixis/internal/publishers"
	"endeixis/internal/query"
	"endeixis/internal/recorded"
	"endeixis/internal/records"
	"endeixis/internal/store"
)

// Service packs satchels and takes outcomes back.
type Service struct {
	store      *store.Store
	records    *records.Service
	keys       *keys.Service
	policy     *policy.Service
	publishers *publishers.Service
	batches    *batches.Service
	now        func() time.Time
	seen       seen
}

// New returns a Service.
func New(
	s *store.Store, r *records.Service, k *keys.Service, p *policy.Service, pub *publishers.Service, b *batches.Service,
	now func() time.Time,
) *Service {
	return &Service{store: s, records: r, keys: k, policy: p, publishers: pub, batches: b, now: now}
}

// Packed is what is told of a satchel.
type Packed struct {
	Publishers []string `json:"publishers"`
	// Keys are those by which it can clear something, the others those that it knows.
	Keys          []string `json:"keys"`
	OtherKeys     int      `json:"other_keys"`
	References    int      `json:"references"`
	PolicyVersion int64    `json:"policy_version"`
	LedgerSize    int64    `json:"ledger_size"`
	Label         string   `json:"label"`
}

// A Satchel is one that was packed.
type Satchel struct {
	store.Satchel
	Packed
}

// maxReferences bounds how many references a satchel has.
const maxReferences = 5000

// Pack packs a satchel for some publishers that is good for some days, and returns it with
// its file, which is not kept.
func (s *Service) Pack(
	ctx context.Context, by string, slugs []string, days int, label string,
) (Satchel, []byte, error) {
	if days < 1 || days > satchel.MaxDays {
		return Satchel{}, nil, fault.New(
			fault.Invalid, fault.BadDays, "A satchel is good for 1 to %d days.", satchel.MaxDays,
		).
			At("days")
	}
	if len(label) > 200 || strings.ContainsRune(label, 0) {
		return Satchel{}, nil, fault.New(fault.Invalid, fault.LongLabel, "A label can have at most 200 characters.").
			At("label")
	}
	slices.Sort(slugs)
	slugs = slices.Compact(slugs)
	if len(slugs) == 0 {
		return Satchel{}, nil, fault.New(
			fault.Invalid, fault.PublisherMissing, "Say whose releases are to be judged with it.",
		).
			At("publishers")
	}
	signer, verifier, err := s.records.Seal()
	if err != nil {
		return Satchel{}, nil, err
	}
	now := s.now().UTC().Truncate(time.Second)
	c := satchel.Content{
		ID: strings.ToLower(rand.Text()), Service: verifier.Name(), By: by, Packed: now, Until: now.AddDate(0, 0, days),
		Own: map[string]judge.Policy{},
	}
	if err := s.fill(ctx, &c, slugs); err != nil {
		return Satchel{}, nil, err
	}
	file, err := satchel.Pack(c, signer)
	if err != nil {
		return Satchel{}, nil, err
	}
	opened, err := satchel.Open(file, verifier)
	if err != nil {
		return Satchel{}, nil, fmt.Errorf("the satchel that was packed cannot be opened: %w", err)
	}
	out := Satchel{
		Satchel: store.Satchel{ID: c.ID, Digest: opened.Digest, By: by, At: now, Until: c.Until},
		Packed: Packed{
			Publishers: slugs, Keys: []string{}, References: len(c.References), PolicyVersion: c.PolicyVersion,
			LedgerSize: c.LedgerSize, Label: label,
		},
	}
	for _, k := range opened.ClearsWith(now) {
		out.Keys = append(out.Keys, string(k.Certificate.Primary.Fingerprint))
	}
	out.OtherKeys = len(c.Keys) - len(out.Keys)
	if out.Document, err = json.Marshal(out.Packed); err != nil {
		return Satchel{}, nil, err
	}
	err = s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		out.Position, err = s.records.Append(
			ctx, tx,
			records.Entry{By: by, At: now, Subject: c.ID, Body: recorded.SatchelPacked{
				Satchel: c.ID, Digest: opened.Digest, Until: c.Until, Packed: out.Document,
			}},
		)
		return err
	})
	return out, file, err
}

// fill puts in what is judged by now.
func (s *Service) fill(ctx context.Context, c *satchel.Content, slugs []string) error {
	var err error
	// What is recorded behind this size may be missing.
	if c.LedgerSize, err = s.store.LedgerSize(ctx); err != nil {
		return err
	}
	ring, err := s.keys.ToJudge(ctx)
	if err != nil {
		return err
	}
	newest, err := s.policy.InForce(ctx, 0)
	if err != nil {
		return err
	}
	policies, waivers, err := s.policy.ToJudge(ctx, newest.Version, c.Packed)
	if err != nil {
		return err
	}
	c.Policy, c.PolicyVersion = policies.Policy, policies.Version
	for _, slug := range slugs {
		p, known := ring.Publisher(slug)
		if !known {
			if _, err := s.publishers.Publisher(ctx, slug); err != nil {
				return err
			}
			return fault.New(
				fault.Conflict, fault.PublisherUnknown, "The publisher %s cannot be packed now.", plain.Quoted(slug),
			).
				Advise("Try again in a moment.").
				At("publishers")
		}
		c.Publishers = append(c.Publishers, p)
		if own, ok := policies.Own[slug]; ok {
			c.Own[slug] = own
		}
	}
	for _, w := range waivers {
		if w.Publisher == "" || slices.Contains(slugs, w.Publisher) {
			c.Waivers = append(c.Waivers, w)
		}
	}
	signers := []string{}
	for _, k := range ring.Keys() {
		if len(k.History) == 0 || !slices.Contains(slugs, k.Publisher) {
			continue // a candidate counts for nothing
		}
		signers = append(signers, string(k.Certificate.Primary.Fingerprint))
		history := slices.Clone(k.History)
		for i := range history {
			history[i].Reason = "" // it decides nothing, and is nobody's business elsewhere
		}
		c.Keys = append(
			c.Keys,
			satchel.Key{
				Certificate: k.Certificate.Bytes(), Publisher: k.Publisher, Role: k.Role, Conflict: k.Conflict,
				History: history,
			},
		)
	}
	for after := (store.ClearancePlace{}); len(c.References) < maxReferences; {
		rows, err := s.store.ClearancesOf(ctx, slugs, signers, after, referencesAtOnce)
		if err != nil {
			return err
		}
		if err := s.refer(ctx, c, slugs, rows); err != nil || len(rows) < referencesAtOnce {
			return err
		}
		last := rows[len(rows)-1]
		after = store.ClearancePlace{Batch: last.Batch, N: last.N}
	}
	return nil
}

// referencesAtOnce is how many files are looked at together.
const referencesAtOnce = 1000

// refer takes files that are cleared by what some publishers vouch for as references, as records of
// this program say.
func (s *Service) refer(ctx context.Context, c *satchel.Content, slugs []string, rows []store.Clearance) error {
	var from []store.Record
	for i := range rows {
		from = append(from, rows[i].Records()...)
	}
	if err := s.records.Held(ctx, s.store.Reads, from); err != nil {
		return err
	}
	for _, r := range rows {
		var m measure.Measurement
		var paths []judge.ProofPath
		if err := errors.Join(
			json.Unmarshal(r.Evidence.Measurement, &m), json.Unmarshal(r.Paths(), &paths),
		); err != nil {
			return err
		}
		at := slices.IndexFunc(paths, func(p judge.ProofPath) bool { return p.Complete && of(p, slugs) })
		if at >= 0 && len(m.Digests) > 0 && len(c.References) < maxReferences {
			c.References = append(
				c.References,
				satchel.Reference{
					Name: r.Path, Size: m.Size, Digests: m.Digests, Batch: r.Batch, N: r.N, Record: r.Position,
					Path: paths[at],
				},
			)
		}
	}
	return nil
}

// of reports whether a path ends with one of some publishers.
func of(p judge.ProofPath, slugs []string) bool {
	return slices.ContainsFunc(
		p.Links, func(l judge.Link) bool { return l.Kind == "publisher" && slices.Contains(slugs, l.Ref) },
	)
}

// maxListed bounds how many satchels are listed.
const maxListed = 500

// All lists the satchels that were packed, the newest first.
func (s *Service) All(ctx context.Context) ([]Satchel, error) {
	rows, err := s.store.Satchels(ctx, maxListed)
	out := make([]Satchel, len(rows))
	for i, r := range rows {
		out[i].Satchel = r
		if err := json.Unmarshal(r.Document, &out[i].Packed); err != nil {
			return nil, err
		}
	}
	return out, err
}

// Satchel returns one.
func (s *Service) Satchel(ctx context.Context, id string) (Satchel, error) {
	row, err := s.store.Satchel(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return Satchel{}, fault.New(
			fault.NotFound, fault.SatchelUnknown, "This service has packed no satchel %s.", plain.Quoted(id),
		).
			Advise("Return outcomes to the service that has packed their satchel.").
			At("satchel")
	}
	if err != nil {
		return Satchel{}, err
	}
	out := Satchel{Satchel: row}
	return out, json.Unmarshal(row.Document, &out.Packed)
}

// A Visit is an outcome that came back, with how it counts now.
type Visit struct {
	store.Visit
	satchel.Entry
	Key string
	// Known is set for one that was here already, and Refused says why one was not taken.
	Known   bool
	Refused string
	// Clock says what was wrong with the clock on site, or is empty.
	Clock string
	Now   query.Batch
	// Files are the artifacts as they count now, and Differs those of them that were
	// judged otherwise on site.
	Files   int
	Differs []RejudgedFile
}

// A RejudgedFile is one that counts otherwise now.
type RejudgedFile struct {
	N         int
	Path      string
	OnSite    judge.Verdict
	Now       judge.Verdict
	WhyOnSite string
	Deciding  string
}

// Visits lists what came back of a satchel.
func (s *Service) Visits(ctx context.Context, id string) ([]Visit, error) {
	packed, err := s.Satchel(ctx, id)
	if err != nil {
		return nil, err
	}
	rows, err := s.store.Visits(ctx, id)
	if err != nil {
		return nil, err
	}
	out := make([]Visit, len(rows))
	for i, r := range rows {
		if out[i], err = s.visit(ctx, packed, r); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (s *Service) visit(ctx context.Context, packed Satchel, row store.Visit) (Visit, error) {
	v := Visit{Visit: row}
	h := satchel.Header{Key: row.SealedBy}
	v.Key = h.Fingerprint()
	var err error
	if v.Entry, err = s.entry(ctx, row); err != nil {
		return v, err
	}
	if v.Now, err = s.batches.Get(ctx, row.Batch); err != nil {
		return v, err
	}
	v.Clock = clockOf(packed, &v.Entry, v.Now.CreatedAt)
	standings, err := s.store.Standings(ctx, row.Batch)
	if err != nil {
		return v, err
	}
	v.Files = len(standings)
	onSite := make(map[string]satchel.Judged, len(v.Outcomes))
	for _, o := range v.Outcomes {
		onSite[o.Path] = o
	}
	for _, now := range standings {
		if now.Verdict == nil {
			continue
		}
		was := onSite[now.Path]
		d := RejudgedFile{
			N: now.N, Path: now.Path, OnSite: was.Verdict, WhyOnSite: plain.Text(was.Deciding),
			Now: judge.Verdict(*now.Verdict), Deciding: now.Deciding,
		}
		if now.Now != nil {
			d.Now = judge.Verdict(*now.Now)
		}
		if d.OnSite != d.Now {
			v.Differs = append(v.Differs, d)
		}
	}
	return v, nil
}

// clockOf says what cannot be right about the clock on site.
func clockOf(packed Satchel, e *satchel.Entry, returned time.Time) string {
	const skew = 5 * time.Minute
	switch {
	case e.At.Before(packed.At.Add(-skew)):
		return "The clock there was before the satchel was packed."
	case e.At.After(returned.Add(skew)):
		return "The clock there was ahead of the time at which this came back."
	case !e.At.Before(packed.Until):
		return "It was judged after the satchel had ended."
	}
	return ""
}

// A Returned is a journal that is brought back.
type Returned struct {
	File []byte
	// Key is the fingerprint of the key that was made on site, or empty, and Outcomes how many
	// were noted there, or 0.
	Key      string
	Outcomes int
	// Otherwise says why the journal goes on otherwise than one that came back before, or is
	// empty.
	Otherwise string
}

// Return takes a journal back. All seals are looked at before anything is taken; what is here
// already is not taken twice. An outcome that cannot be judged here keeps no other waiting.
func (s *Service) Return(ctx context.Context, by string, r Returned) (Satchel, []Visit, error) {
	j, err := satchel.ReadJournal(r.File)
	if err != nil {
		return Satchel{}, nil, faultOf(err)
	}
	packed, err := s.ofJournal(ctx, j, r)
	if err != nil {
		return packed, nil, err
	}
	here, err := s.store.Visits(ctx, packed.ID)
	if err != nil {
		return packed, nil, err
	}
	known := returnedBefore(here, j)
	otherwise, err := known.goesOn(j, r)
	if err != nil {
		return packed, nil, err
	}
	var out []Visit
	at := map[int]int64{}
	for i := range j.Entries {
		e := &j.Entries[i]
		v, was := known.visit(e)
		if !was {
			why := ""
			if i >= otherwise {
				why = r.Otherwise
			}
			v, err = s.take(ctx, by, packed, j, e, why, at)
			var f *fault.Fault
			if errors.As(err, &f) {
				// What comes behind it may be whole all the same.
				out = append(
					out,
					Visit{
						Visit: v, Entry: e.Entry, Key: j.Fingerprint(),
						Refused: strings.TrimSpace(f.Sentence + " " + f.Advice),
					},
				)
				continue
			}
			if err != nil {
				return packed, out, err
			}
		}
		at[e.N] = v.Batch
		// A job does it too, should this be interrupted.
		if err := s.batches.Survey(ctx, v.Batch); err != nil {
			return packed, out, err
		}
		if _, err := s.batches.Finish(ctx, v.Batch); err != nil {
			return packed, out, err
		}
		back, err := s.visit(ctx, packed, v)
		if err != nil {
			return packed, out, err
		}
		back.Known = was
		out = append(out, back)
	}
	return packed, out, nil
}

// ofJournal returns the satchel that a journal was written with. It refuses one that lacks what
// was noted on site or was sealed by another key, or that another satchel wrote.
func (s *Service) ofJournal(ctx context.Context, j *satchel.Journal, r Returned) (Satchel, error) {
	if len(j.Entries) < r.Outcomes {
		return Satchel{}, fault.New(
			fault.Invalid, fault.OutcomesMissing,
			"The file has %d outcomes, and %d were noted on site: the last of them were taken away, or lost.",
			len(j.Entries), r.Outcomes,
		).
			Advise("Nothing of it is taken. If there is a copy that was made on site, return that.").
			At("outcomes")
	}
	packed, err := s.Satchel(ctx, j.Satchel)
	if err != nil {
		return Satchel{}, err
	}
	if j.Digest != packed.Digest {
		return packed, fault.New(
			fault.Invalid, fault.SatchelForeign,
			"The outcomes were judged by another satchel than the one that was packed here as %s.", packed.ID,
		).
			Advise("Nothing of it is taken.").
			At("outcomes")
	}
	if r.Key != "" && fold(r.Key) != fold(j.Fingerprint()) {
		return packed, fault.New(
			fault.Invalid, fault.OtherSeal, "The outcomes are sealed by the key %s, and not by %s.", j.Fingerprint(),
			plain.Text(r.Key),
		).
			Advise("Nothing of it is taken. Find out who has written the file.").
			At("key")
	}
	if strings.ContainsRune(r.Otherwise, 0) {
		return packed, fault.New(fault.Invalid, fault.BadReason, "The reason has a character that no text has.").
			At("otherwise")
	}
	return packed, nil
}

// A numbered outcome is one of a journal, by its number and the digest of its text.
type numbered struct {
	n      int
	digest string
}

// returned are the outcomes of a journal that came back before.
type returned struct {
	visits  map[numbered]store.Visit
	numbers map[int]bool
}

func returnedBefore(here []store.Visit, j *satchel.Journal) returned {
	out := returned{map[numbered]store.Visit{}, map[int]bool{}}
	for _, v := range here {
		if v.SealedBy == j.Key {
			out.visits[numbered{v.N, v.Digest}], out.numbers[v.N] = v, true
		}
	}
	return out
}

// visit returns what an outcome became that came back before.
func (r returned) visit(e *satchel.Sealed) (v store.Visit, was bool) {
	v, was = r.visits[numbered{e.N, e.Digest}]
	return v, was
}

// goesOn returns from which entry on a journal is another than what came back before, which is
// how many it has where it is the same. Without a reason for that it is refused.
func (r returned) goesOn(j *satchel.Journal, asked Returned) (otherwise int, err error) {
	otherwise = len(j.Entries)
	for i := range j.Entries {
		e := &j.Entries[i]
		if _, same := r.visit(e); !same && r.numbers[e.N] {
			otherwise = min(otherwise, i)
		}
		if err := checkEntry(e); err != nil {
			return 0, err
		}
	}
	if otherwise < len(j.Entries) && strings.TrimSpace(asked.Otherwise) == "" {
		return 0, fault.New(
			fault.Conflict, fault.ReturnedOtherwise, "Outcome %d came back before, and was another.",
			j.Entries[otherwise].N,
		).
			Advise(
				"Nothing of it is taken. Find out who has written the file. Where its end was lost on site and written anew, say so with --otherwise: then both are kept.",
			).
			At("outcomes")
	}
	return otherwise, nil
}

func fold(key string) string {
	return strings.ToLower(strings.NewReplacer(" ", "", "-", "", ":", "").Replace(key))
}

// checkEntry refuses what no program of ours writes.
func checkEntry(e *satchel.Sealed) error {
	bad := func(what string) error {
		return fault.New(fault.Invalid, fault.BadOutcome, "Outcome %d cannot be used: %s.", e.N, what).
			Advise("Nothing of the file is taken.").
			At("outcomes")
	}
	switch {
	case !slices.Contains(satchel.Kinds(), e.Kind):
		return bad("nothing is known of what was done")
	case (e.Kind == satchel.Readback) != (e.Against != nil):
		return bad("it does not say what a medium was read back against")
	case e.Against != nil && e.Against.Entry >= e.N:
		return bad("it rests on one that is not before it")
	case len(e.By) > 200 || strings.ContainsRune(e.By+e.Label, 0):
		return bad("it does not say who has judged")
	case e.At.IsZero() || e.At.Year() < 1970 || e.At.Year() > 9999:
		return bad("it does not say when it was judged")
	}
	return nil
}

// maxRecorded bounds how many files of an outcome stand in its record.
const maxRecorded = 1000

// take makes a batch of an outcome, with its record. otherwise is why it is another than what
// came back before, or empty.
func (s *Service) take(
	ctx context.Context, by string, packed Satchel, j *satchel.Journal, e *satchel.Sealed, otherwise string,
	at map[int]int64,
) (store.Visit, error) {
	v := store.Visit{Satchel: packed.ID, SealedBy: j.Key, N: e.N, Content: e.Content, Digest: e.Digest}
	var against *survey.Against
	var err error
	switch a := e.Against; {
	case a == nil:
	case a.Entry > 0:
		against, err = s.batches.AgainstItem(ctx, at[a.Entry], a.Path, a.Forms)
	case a.Record > 0:
		against, err = s.batches.AgainstAs(ctx, batches.GivenAgainst{Record: a.Record})
	default:
		given := batches.GivenAgainst{Digest: a.Digest.String(), Length: a.Size, Forms: a.Forms}
		if a.Algorithm != digest.Unknown {
			given.Algorithm = a.Algorithm.String()
		}
		against, err = s.batches.AgainstAs(ctx, given)
	}
	if err != nil {
		return v, err
	}
	_, err = s.batches.Visit(ctx, by, &e.Entry, against, func(ctx context.Context, tx *store.Tx, batch int64) error {
		if err := tx.LockSatchel(ctx, packed.ID); err != nil {
			return err
		}
		v.Batch = batch
		v.Position, err = s.records.Append(
			ctx, tx,
			records.Entry{By: by, Subject: packed.ID, Batch: batch, Body: recorded.VisitReturned{
				Batch: batch, Satchel: packed.ID, SealedBy: j.Key, Number: e.N, Content: e.Digest, Of: e.Kind,
				JudgedAt: e.At.UTC(), JudgedBy: plain.Text(e.By),
				Clock:  clockOf(packed, &e.Entry, s.now()),
				Policy: packed.PolicyVersion, OnSite: e.Verdict, Files: len(e.Outcomes),
				Outcomes: e.Outcomes[:min(len(e.Outcomes), maxRecorded)], Otherwise: otherwise, Sealed: e.Content,
			}},
		)
		return err
	})
	return v, err
}

// faultOf words what is wrong with a file for the API.
func faultOf(err error) error {
	var e *satchel.Error
	if errors.As(err, &e) {
		return fault.New(fault.Invalid, fault.Code("outcomes-"+string(e.Reason)), "%s", e.Sentence).
			Advise("%s", e.Advice).
			At("outcomes")
	}
	return err
}
