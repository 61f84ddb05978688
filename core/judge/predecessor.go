package judge

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"endeixis/core/digest"
	"endeixis/core/measure"
	"endeixis/core/openpgp"
	"endeixis/core/plain"
	"endeixis/core/release"
	"endeixis/core/survey"
)

// A Predecessor is a file that was cleared before, with the name of one that is judged or with its
// stem, and is cleared still.
type Predecessor struct {
	// Record is that of its verdict, in the ledger.
	Record int64
	Batch  int64
	At     time.Time
	// File is the last part of its path.
	File   string
	SHA256 digest.Value
	Support
}

// A Support is what a cleared file rests on.
type Support struct {
	// Publisher is a slug; it is empty where no signature has to do with it.
	Publisher string
	// Keys are the primary keys of those who signed it, or a list that has it.
	Keys []openpgp.Fingerprint
	// Signed is when the newest of these signatures was made, or nil.
	Signed *time.Time
	// Algorithms are those of the digests that lists state of it.
	Algorithms []digest.Algorithm
}

// SupportOf returns what an outcome rests on. It has no keys unless a path is complete that passes
// through a signature.
func SupportOf(grounds []Ground, paths []ProofPath) Support {
	var s Support
	for _, p := range paths {
		if !p.Complete {
			continue
		}
		for _, l := range p.Links {
			switch {
			case l.Ref == "":
			case l.Kind == "key" && !slices.Contains(s.Keys, openpgp.Fingerprint(l.Ref)):
				s.Keys = append(s.Keys, openpgp.Fingerprint(l.Ref))
			case l.Kind == "publisher" && s.Publisher == "":
				s.Publisher = l.Ref
			}
		}
	}
	slices.Sort(s.Keys)
	for i := range grounds {
		g := &grounds[i]
		if g.Code == DigestMatch && g.Source != "" && !slices.Contains(s.Algorithms, g.Algorithm) {
			s.Algorithms = append(s.Algorithms, g.Algorithm)
		}
		f := g.Signature
		if f == nil || f.Created == nil || f.Status != openpgp.Valid || !slices.Contains(s.Keys, f.Key) {
			continue
		}
		if s.Signed == nil || f.Created.After(*s.Signed) {
			s.Signed = f.Created
		}
	}
	slices.Sort(s.Algorithms)
	return s
}

// Remembered reports whether an artifact with an outcome is one by which others are known again: it is
// cleared, is no medium or slot that holds another, and is not known again itself.
func Remembered(verdict Verdict, paths []ProofPath) bool {
	return verdict == Cleared && slices.ContainsFunc(paths, func(p ProofPath) bool {
		return p.Complete && p.Kind != Readback && p.Kind != ByReference
	})
}

// A Before is what is known of the time before a file.
type Before struct {
	// Files are its predecessors, the newest first.
	Files []Predecessor
	// Missing are the names of files that came with all its predecessors, and did not this time.
	Missing []Companionship
}

// A Companionship is a file that came with others, each time.
type Companionship struct {
	// File is its name the last time, in batch Batch, by the record Record of the time At.
	File   string
	Batch  int64
	Record int64
	At     time.Time
	// Times is in how many batches it came.
	Times int
}

// EarlierFacts say which record a ground holds against the one that it stands in.
type EarlierFacts struct {
	Record int64     `json:"record"`
	Batch  int64     `json:"batch"`
	File   string    `json:"file"`
	At     time.Time `json:"at"`
}

// byPredecessors tells what is weaker, older or otherwise than it was before. What it rests on is
// a guess, that by their names files are the same thing in several releases: so it notes, and
// withholds where a person has set the policy to that. It never refuses, and never clears.
func (b Basis) byPredecessors(
	item *survey.Item, m *measure.Measurement, listings []comparedEntry, before *Before, out *Outcome,
) {
	sum := m.Digests[digest.SHA256]
	if before == nil || sum == nil || item.Inside != nil || item.Against != nil {
		return
	}
	files := b.ofItsPublisher(item, before.Files, out)
	if len(files) == 0 {
		return
	}
	policy, effect := b.policyOn(item.Path), Notes
	if publisher := files[0].Publisher; publisher != "" {
		policy = b.policyOf(publisher)
	}
	if policy.WeakerThanBefore == Withholds {
		effect = Withholds
	}
	c := contrast{
		name: path.Base(item.Path), sum: sum, files: files, today: SupportOf(out.Grounds, out.Paths),
		bits: policy.DigestBits, made: makersOf(listings, out.Grounds),
	}
	found := slices.Concat(
		c.reused(), c.older(), c.signers(), c.lists(), missing(before.Missing),
	)
	if len(found) == 0 {
		return
	}
	for i := range found {
		found[i].Effect = effect
		if effect == Withholds {
			found[i].Sentence += " By the policy that clears nothing."
		}
	}
	if effect == Withholds {
		out.breakPaths(found[0])
	}
	out.Grounds = append(out.Grounds, found...)
}

// breakPaths has no path hold, for what a ground says of the artifact itself.
func (o *Outcome) breakPaths(g Ground) {
	for i := range o.Paths {
		p := &o.Paths[i]
		if p.Complete {
			p.Complete, p.Missing = false, strings.TrimSpace(g.Sentence+" "+g.Advice)
		}
		if len(p.Links) > 0 && p.Links[0].State == Holds {
			p.Links[0].State = Broken
		}
	}
}

// ofItsPublisher returns those of some predecessors that are by the publisher of a file: whoever
// has signed it in a way that counts, or else from whom it is expected. Where nothing says whose it
// is, they are all taken if they are of one publisher.
func (b Basis) ofItsPublisher(item *survey.Item, files []Predecessor, out *Outcome) []Predecessor {
	of := func(publishers []string, anybody bool) []Predecessor {
		return slices.DeleteFunc(slices.Clone(files), func(p Predecessor) bool {
			return !slices.Contains(publishers, p.Publisher) && (!anybody || p.Publisher != "")
		})
	}
	var signed, all []string
	for i := range out.Grounds {
		if g := &out.Grounds[i]; g.Signature != nil && g.Effect == Supports {
			signed = append(signed, g.Signature.Publisher)
		}
	}
	if own := of(signed, false); len(own) > 0 {
		return own
	}
	if expected := b.expectedOf(item.Path).Publishers; len(expected) > 0 {
		return of(expected, true)
	}
	for _, p := range files {
		if p.Publisher != "" && !slices.Contains(all, p.Publisher) {
			all = append(all, p.Publisher)
		}
	}
	if len(all) > 1 {
		return nil
	}
	return files
}

// A contrast holds one file against its predecessors.
type contrast struct {
	name  string
	sum   digest.Value
	files []Predecessor
	today Support
	// bits is the least strength of a digest that can clear.
	bits int
	// made are those of the signatures over it, and over lists that have it.
	made []string
}

func (p *Predecessor) facts() *EarlierFacts {
	return &EarlierFacts{Record: p.Record, Batch: p.Batch, File: p.File, At: p.At}
}

// where names a predecessor in a sentence.
func (p *Predecessor) where() string {
	return fmt.Sprintf(
		"%s, cleared in batch %d on %s (record %d)", plain.Quoted(p.File), p.Batch, p.At.UTC().Format(time.DateOnly),
		p.Record,
	)
}

// reused tells that the name stood for other bytes the last time.
func (c *contrast) reused() []Ground {
	at := slices.IndexFunc(c.files, func(p Predecessor) bool { return p.File == c.name })
	if at < 0 || slices.Equal(c.files[at].SHA256, c.sum) {
		return nil
	}
	last := &c.files[at]
	return []Ground{{
		Code: NameReused, Earlier: last.facts(),
		Sentence: fmt.Sprintf("The last time, this name stood for other bytes: %s.", last.where()),
		Advice:   "If its publisher gives each release the same name, nothing is wrong. If not, ask what was changed.",
	}}
}

// older tells that something newer was cleared before, or this very file as another release.
func (c *contrast) older() []Ground {
	own := release.Of(c.name)
	for i := range c.files {
		p := &c.files[i]
		was := release.Of(p.File)
		if slices.Equal(p.SHA256, c.sum) && was.Stem == own.Stem && was.Release != "" && was.Release != own.Release {
			return []Ground{{
				Code: OlderThanCleared, Earlier: p.facts(),
				Sentence: fmt.Sprintf(
					"By its name it is release %s, and its bytes are those of another: %s.", plain.Quoted(own.Release),
					p.where(),
				),
				Advice: "Do not take it for a new release. Get the one that its name says from the publisher.",
			}}
		}
	}
	if c.today.Signed == nil {
		return nil
	}
	newest := -1
	for i := range c.files {
		p := &c.files[i]
		if p.Signed == nil || !p.Signed.After(*c.today.Signed) || slices.Equal(p.SHA256, c.sum) || c.cameWith(p.Batch) {
			continue
		}
		if p.File != c.name && release.Of(p.File).Release == own.Release {
			continue // another part of the same release
		}
		if newest < 0 || p.Signed.After(*c.files[newest].Signed) {
			newest = i
		}
	}
	if newest < 0 {
		return nil
	}
	p := &c.files[newest]
	return []Ground{{
		Code: OlderThanCleared, Earlier: p.facts(),
		Sentence: fmt.Sprintf(
			"It was signed on %s, and what was cleared before was signed later, on %s: %s. This may be a step back to an older release.",
			signedOn(c.today.Signed, p.Signed), signedOn(p.Signed, c.today.Signed), p.where(),
		),
		Advice: "If the older release is meant, nothing is wrong. Whoever offers it as the newest may want its old faults used.",
	}}
}

// signedOn writes the day of a time, and the time where another is on the same day.
func signedOn(t, other *time.Time) string {
	day := t.UTC().Format(time.DateOnly)
	if day == other.UTC().Format(time.DateOnly) {
		return t.UTC().Format("2006-01-02 15:04:05 UTC")
	}
	return day
}

// cameWith reports whether the very file came in a batch too: what was newer there was beside it.
func (c *contrast) cameWith(batch int64) bool {
	return slices.ContainsFunc(c.files, func(p Predecessor) bool {
		return p.Batch == batch && slices.Equal(p.SHA256, c.sum)
	})
}

// distinct counts the predecessors, of which some may have come several times.
func (c *contrast) distinct() int {
	var sums []string
	for i := range c.files {
		sums = append(sums, c.files[i].SHA256.String())
	}
	slices.Sort(sums)
	return len(slices.Compact(sums))
}

// signers tells that what was always signed is not, or by nobody who has signed it before.
func (c *contrast) signers() []Ground {
	if slices.ContainsFunc(c.files, func(p Predecessor) bool { return len(p.Keys) == 0 }) {
		return nil
	}
	last := &c.files[0]
	before := "the one that was cleared before"
	if n := c.distinct(); n > 1 {
		before = fmt.Sprintf("each of the %d that were cleared before", n)
	}
	made := slices.Concat(c.made, names(c.today.Keys))
	if len(made) == 0 {
		return []Ground{{
			Code: WeakerThanBefore, Earlier: last.facts(),
			Sentence: fmt.Sprintf("It is not signed, and %s was: the last was %s.", before, last.where()),
			Advice:   "Look for the signature where the publisher keeps it. If there is none any more, ask the publisher why.",
		}}
	}
	for i := range c.files {
		for _, known := range names(c.files[i].Keys) {
			if slices.Contains(made, known) {
				return nil
			}
		}
	}
	return []Ground{{
		Code: WeakerThanBefore, Earlier: last.facts(),
		Sentence: fmt.Sprintf(
			"Its signature names %s, and %s was signed by another: the last was %s.", made[0], before, last.where(),
		),
		Advice: "Ask the publisher whether the key was changed, by a way that you have used before.",
	}}
}

// makersOf are the primary keys of signatures over a file, or over lists that have it, or what these
// name as their maker where nobody here knows that; for people. It does not matter whether they hold.
func makersOf(listings []comparedEntry, grounds []Ground) []string {
	var out []string
	add := func(f *SignatureFacts) {
		maker := "no key"
		switch {
		case f.Key != "":
			maker = plain.Grouped(string(f.Key))
		case f.Issuer != "":
			maker = plain.Grouped(f.Issuer)
		}
		if !slices.Contains(out, maker) {
			out = append(out, maker)
		}
	}
	for i := range grounds {
		if g := &grounds[i]; g.Signature != nil && !g.ruledOut() {
			add(g.Signature)
		}
	}
	for i := range listings {
		l := &listings[i]
		if l.ruledOut() || l.voucher == nil {
			continue
		}
		for k := range l.voucher.signatures {
			if f := &l.voucher.signatures[k]; !f.ruledOut() {
				add(f.ground.Signature)
			}
		}
	}
	return out
}

func names(keys []openpgp.Fingerprint) []string {
	out := make([]string, len(keys))
	for i, k := range keys {
		out[i] = plain.Grouped(string(k))
	}
	return out
}

// lists tells that what lists state of the file is weaker, or less, than it always was.
func (c *contrast) lists() []Ground {
	if len(c.today.Algorithms) == 0 {
		return nil
	}
	strong := func(of []digest.Algorithm) bool { return digest.Strongest(of).CollisionBits() >= c.bits }
	var always []digest.Algorithm
	var last *Predecessor
	allStrong := true
	for i := range c.files {
		p := &c.files[i]
		switch {
		case len(p.Algorithms) == 0:
			continue
		case last == nil:
			last, always = p, slices.Clone(p.Algorithms)
		}
		always = slices.DeleteFunc(always, func(a digest.Algorithm) bool { return !slices.Contains(p.Algorithms, a) })
		allStrong = allStrong && strong(p.Algorithms)
	}
	if last == nil {
		return nil
	}
	g := Ground{
		Code: WeakerThanBefore, Earlier: last.facts(),
		Advice: "Ask the publisher for a list like those before.",
	}
	gone := slices.DeleteFunc(always, func(a digest.Algorithm) bool { return slices.Contains(c.today.Algorithms, a) })
	switch {
	case allStrong && !strong(c.today.Algorithms):
		g.Sentence = fmt.Sprintf(
			"The list states %s of it, and before it was always something stronger: the last time %s, for %s.",
			algorithms(c.today.Algorithms), algorithms(last.Algorithms), last.where(),
		)
	case len(gone) > 0:
		g.Sentence = fmt.Sprintf(
			"The list states no %s of it, as it always did before: the last time %s, for %s.", algorithms(gone),
			algorithms(last.Algorithms), last.where(),
		)
	default:
		return nil
	}
	return []Ground{g}
}

// algorithms joins names of algorithms in a sentence.
func algorithms(list []digest.Algorithm) string {
	out := make([]string, len(list))
	for i, a := range list {
		out[i] = a.String()
	}
	return strings.Join(out, " and ")
}

// maxMissing bounds how many files are named that did not come.
const maxMissing = 3

// missing tells which files came each time before, and did not this time.
func missing(gone []Companionship) []Ground {
	if len(gone) == 0 {
		return nil
	}
	var called []string
	for _, c := range gone[:min(len(gone), maxMissing)] {
		called = append(called, plain.Quoted(c.File))
	}
	what := strings.Join(called, ", ")
	if more := len(gone) - len(called); more > 0 {
		what += fmt.Sprintf(" and %d more", more)
	}
	first := gone[0]
	return []Ground{{
		Code:    WeakerThanBefore,
		Earlier: &EarlierFacts{Record: first.Record, Batch: first.Batch, File: first.File, At: first.At},
		Sentence: fmt.Sprintf(
			"Nothing like %s came with it, as it did each of the %d times before, the last time in batch %d (record %d).",
			what, first.Times, first.Batch, first.Record,
		),
		Advice: "Look whether the download is whole.",
	}}
}
