package judge

import (
	"fmt"
	"slices"

	"endeixis/core/digest"
	"endeixis/core/measure"
	"endeixis/core/plain"
	"endeixis/core/survey"
)

// A Recorded is what a receipt of a ledger says of a file of the same name: what was measured
// of it when it was verified, and how it counts by the present basis.
type Recorded struct {
	// Receipt is the path of the receipt, and Position the number of its record.
	Receipt  string
	Position int64
	Batch    int64
	// Name is the file's path in that batch, and Place is set where it is the same here,
	// seen from where the receipt lies.
	Name        string
	Place       bool
	Measurement *measure.Measurement
	Outcome     *Outcome
	// Missing is a list that it rests on and of which nothing is known here, or empty.
	Missing string
}

// byReceipt follows the path through receipts: what has the very bytes of a file that was
// verified counts as that does now. A file that stands in the place of one with other bytes
// is refused, unless something else vouches for it. It reports whether a receipt speaks of
// the file.
func byReceipt(item *survey.Item, m *measure.Measurement, recorded []Recorded, out *Outcome) bool {
	own := m.Digests[digest.SHA256]
	if len(own) == 0 {
		return false
	}
	same := func(r Recorded) bool { return slices.Equal(r.Measurement.Digests[digest.SHA256], own) }
	if at := slices.IndexFunc(recorded, same); at >= 0 {
		sameAs(item, m, recorded[at], out)
		return true
	}
	for _, r := range recorded {
		if !r.Place || len(r.Measurement.Digests[digest.SHA256]) == 0 {
			continue // a file of this name in another folder, or one that was not read
		}
		g := Ground{
			Code:      DigestMismatch,
			Effect:    Refuses,
			Source:    r.Receipt,
			Algorithm: digest.SHA256,
			Expected:  r.Measurement.Digests[digest.SHA256],
			Computed:  own,
			Sentence: fmt.Sprintf(
				"By the receipt %s it had other bytes when it was verified: it is not the file that was handed on.",
				plain.Text(r.Receipt),
			),
			Advice: "Do not use it. Have it handed on again.",
		}
		link := Link{Kind: "record", State: Broken, Label: r.said(), Detail: "is of other bytes", Ref: r.Receipt}
		if slices.ContainsFunc(out.Paths, func(p ProofPath) bool { return p.Complete }) {
			g.Effect = Notes
			g.Sentence = fmt.Sprintf(
				"By the receipt %s another file of this name was verified before. What else is here vouches for this one.",
				plain.Text(r.Receipt),
			)
			g.Advice = ""
		}
		out.Grounds = append(out.Grounds, g)
		out.Paths = append(out.Paths, pathOf(Receipted, []Link{artifactLink(item, m), link}, g))
		return true
	}
	return false
}

func (r *Recorded) said() string { return fmt.Sprintf("record %d of the ledger", r.Position) }

// sameAs has a file count as the one of which there is a receipt.
func sameAs(item *survey.Item, m *measure.Measurement, r Recorded, out *Outcome) {
	g := Ground{
		Code:      DigestMatch,
		Effect:    Supports,
		Source:    r.Receipt,
		Algorithm: digest.SHA256,
		Expected:  r.Measurement.Digests[digest.SHA256],
		Computed:  m.Digests[digest.SHA256],
		Sentence: fmt.Sprintf(
			"Its bytes are exactly those of %s of batch %d, by the receipt %s.", plain.Text(r.Name), r.Batch,
			plain.Text(r.Receipt),
		),
	}
	link := Link{Kind: "record", Label: r.said(), Ref: r.Receipt}
	if r.Missing != "" && r.Outcome.Verdict == Unproven {
		g.Effect = Notes
		gap := Ground{
			Code:   ReceiptFails,
			Effect: Withholds,
			Source: r.Receipt,
			Sentence: fmt.Sprintf(
				"By its receipt it rests on the list %s of batch %d, of which there is no receipt here.",
				plain.Text(r.Missing), r.Batch,
			),
			Advice: "Put that receipt, or the list with its signature, beside it; “endeixis batch hand-on” does both.",
		}
		link.State, link.Detail = Missing, "rests on a list that is not here"
		out.Grounds = append(out.Grounds, g, gap)
		out.Paths = append(out.Paths, pathOf(Receipted, []Link{artifactLink(item, m), link}, gap))
		return
	}
	cleared := slices.ContainsFunc(out.Paths, func(p ProofPath) bool { return p.Complete })
	var by Outcome
	restOn(
		Receipted, r.Outcome, artifactLink(item, m), link, g,
		fmt.Sprintf("%s of batch %d", plain.Text(r.Name), r.Batch), "this file", &by,
	)
	for _, o := range by.Grounds {
		// What lies here itself says the same; and what is cleared by that misses nothing.
		if !slices.ContainsFunc(out.Grounds, o.repeats) && (!cleared || o.Effect != Withholds) {
			if o.Signature != nil {
				o.Sentence = fmt.Sprintf("By record %d: %s", r.Position, o.Sentence)
			}
			out.Grounds = append(out.Grounds, o)
		}
	}
	out.Paths = append(out.Paths, by.Paths...)
}

// repeats reports whether another ground says what this one says, of the same thing.
func (g *Ground) repeats(other Ground) bool {
	if g.Code != other.Code || g.Effect != other.Effect || g.Source != other.Source && g.Sentence != other.Sentence {
		return false
	}
	return g.Line == other.Line && (g.Signature == nil) == (other.Signature == nil) &&
		(g.Signature == nil || g.Signature.Key == other.Signature.Key && g.Signature.Index == other.Signature.Index)
}
