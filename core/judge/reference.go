package judge

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"endeixis/core/digest"
	"endeixis/core/measure"
	"endeixis/core/plain"
	"endeixis/core/survey"
)

// A Reference is a file with the bytes of one that is judged, which is cleared elsewhere.
type Reference struct {
	// Arrived is set for the very file of the same place, verified again later with evidence that was not there
	// before: that counts for it whatever the policy says of files that are known again.
	Arrived bool
	// Record is that of its verdict, in the ledger.
	Record int64
	Batch  int64
	At     time.Time
	// File is its path.
	File string
	// Outcome is what it comes to today, by its own evidence and by the basis of what is judged.
	Outcome Outcome
}

// ReferencesClear reports whether the policy lets files of any publisher be known again.
func (b Basis) ReferencesClear() bool {
	if b.Policy.ReferenceClears {
		return true
	}
	for _, own := range b.Own {
		if own.ReferenceClears {
			return true
		}
	}
	return false
}

// byReference follows the path through a file with the same bytes that is cleared elsewhere, where the policy for its
// publisher says that files are known again or it is this very file, and nothing else clears this one. It reports
// whether it does.
func (b Basis) byReference(item *survey.Item, m *measure.Measurement, same []Reference, out *Outcome) bool {
	sum := m.Digests[digest.SHA256]
	if sum == nil || item.Inside != nil || item.Against != nil ||
		slices.ContainsFunc(out.Paths, func(p ProofPath) bool { return p.Complete }) {
		return false
	}
	var best *Reference
	var support Support
	expected := b.expectedOf(item.Path)
	for i := range same {
		own, ok := b.knownBy(&same[i])
		if !ok {
			continue
		}
		its := SupportOf(own.Outcome.Grounds, own.Outcome.Paths)
		fits := own.fits(expected, its.Publisher)
		if best == nil || fits {
			best, support = &own, its
		}
		if fits {
			break
		}
	}
	if best == nil {
		return false
	}
	publisher, named := plain.Text(support.Publisher), plain.Text(best.File)
	g := Ground{
		Code: KnownReference, Effect: Supports, Algorithm: digest.SHA256, Expected: sum, Computed: sum,
		Earlier: &EarlierFacts{Record: best.Record, Batch: best.Batch, File: best.File, At: best.At},
		Sentence: fmt.Sprintf(
			"These are the bytes of %s of batch %d (record %d), which is cleared by a signature of %s.", named, best.Batch,
			best.Record, publisher,
		),
	}
	if best.Arrived {
		g.Sentence = fmt.Sprintf(
			"What vouches for it came later: in batch %d this file has the same bytes, and is cleared by a signature of %s (record %d).",
			best.Batch, publisher, best.Record,
		)
	}
	first := artifactLink(item, m)
	reference := Link{Kind: "reference", Label: named, Detail: "SHA-256 " + sum.String(), Ref: fmt.Sprint(best.Record)}
	if best.fits(expected, support.Publisher) {
		restOn(ByReference, &best.Outcome, first, reference, g, named, "this file", out)
		return true
	}
	g.Effect = Notes
	reference.State = Holds
	from := Link{Kind: "publisher", State: Missing, Label: publisher, Detail: "nobody has said that it is expected from them"}
	missing := Ground{
		Sentence: fmt.Sprintf("It would be cleared as a file of %s, and nobody has said from whom this one is expected.", publisher),
		Advice:   "Name the publisher that you expect it from.",
	}
	if len(expected.Publishers) > 0 {
		from.State, from.Detail = Broken, "not the publisher expected here"
		missing.Sentence = fmt.Sprintf(
			"It would be cleared as a file of %s, and is expected from %s.", publisher,
			plain.Text(strings.Join(expected.Publishers, " or ")),
		)
		missing.Advice = "Find out whose file it is."
	}
	out.Grounds = append(out.Grounds, g)
	out.Paths = append(out.Paths, pathOf(ByReference, []Link{first, reference, from}, missing))
	return false
}

// fits reports whether a file that is expected from some publishers can be known by a reference of one.
func (r *Reference) fits(expected Expectation, publisher string) bool {
	return slices.Contains(expected.Publishers, publisher) || r.Arrived && expected.allows(publisher)
}

// knownBy returns a reference with those of its paths alone by which other files can be known again: of a
// signature, that needs no waiver and is as strong as the policy of its publisher asks.
func (b Basis) knownBy(r *Reference) (Reference, bool) {
	own := *r
	own.Outcome.Paths = nil
	if r.Outcome.Verdict != Cleared {
		return own, false
	}
	for _, p := range r.Outcome.Paths {
		s := SupportOf(nil, []ProofPath{p})
		policy := b.policyOf(s.Publisher)
		waived := slices.ContainsFunc(p.Links, func(l Link) bool { return l.State == Waived })
		if p.Complete && !waived && len(s.Keys) > 0 && s.Publisher != "" &&
			(policy.ReferenceClears || r.Arrived) &&
			digest.SHA256.CollisionBits() >= policy.DigestBits {
			own.Outcome.Paths = append(own.Outcome.Paths, p)
		}
	}
	return own, len(own.Outcome.Paths) > 0
}
