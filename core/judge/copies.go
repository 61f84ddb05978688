package judge

import (
	"fmt"
	"slices"
	"strings"

	"endeixis/core/digest"
	"endeixis/core/measure"
	"endeixis/core/plain"
	"endeixis/core/survey"
)

// said is what the copies of one manifest say of an item.
type said struct {
	listing comparedEntry
	// channels and places are where the computed value was seen; each
	// channel counts once.
	channels []survey.Channel
	places   []string
}

func (s *said) agrees(o survey.Provenance) {
	if !slices.Contains(s.channels, o.Channel) {
		s.channels = append(s.channels, o.Channel)
	}
	s.places = append(s.places, placeOf(o))
}

func placeOf(o survey.Provenance) string {
	channel := strings.ReplaceAll(string(o.Channel), "-", " ")
	if o.Place == "" {
		return channel
	}
	return fmt.Sprintf("%s (%s)", channel, plain.Text(o.Place))
}

// byCopies follows the path through copies of a manifest from several channels,
// and tells where copies disagree.
func (b Basis) byCopies(item *survey.Item, m *measure.Measurement, listings []comparedEntry, out *Outcome) {
	for _, l := range listings {
		if l.ruledOut() || l.algorithm.CollisionBits() < b.policyFor(l.voucher).DigestBits {
			continue
		}
		s := said{listing: l}
		copies := 0
		if l.Origin != nil && l.holds() {
			s.agrees(*l.Origin)
		}
		for _, c := range item.Sighted {
			if c.Of != l.Manifest || !slices.Contains(c.Algorithms, l.algorithm) {
				continue
			}
			copies++
			if slices.Equal(c.Digest, m.Digests[l.algorithm]) {
				s.agrees(c.Provenance)
				if !l.matches {
					out.Grounds = append(
						out.Grounds,
						copyDiffers(
							l,
							c,
							fmt.Sprintf(
								"The copy of %s from %s states the digest that was computed, and the one here does not.",
								plain.Text(l.Manifest),
								placeOf(c.Provenance),
							),
							"The list here was altered, or is of another day. Find out which of the two is the publisher's.",
						),
					)
				}
				continue
			}
			if !slices.Equal(c.Digest, l.Digest) {
				out.Grounds = append(out.Grounds, b.contradiction(l, c))
			}
		}
		if l.holds() && (copies > 0 || l.Origin != nil) {
			b.corroborate(item, m, &s, out)
		}
	}
}

// copyDiffers words a copy that states something else than the manifest here.
func copyDiffers(l comparedEntry, c survey.CopyEntry, sentence, advice string) Ground {
	return Ground{
		Code: ManifestsDisagree, Effect: Refuses, Source: l.Manifest, Line: c.Line, Algorithm: l.algorithm,
		Expected: c.Digest, Computed: l.computed, Sentence: sentence, Advice: advice,
	}
}

// contradiction is the ground of a copy that states another digest. Against a
// manifest that matches and is signed by an admitted key, it decides nothing.
func (b Basis) contradiction(l comparedEntry, c survey.CopyEntry) Ground {
	g := copyDiffers(
		l,
		c,
		fmt.Sprintf(
			"The copy of %s from %s states another %s digest for this file, in line %d.", plain.Text(l.Manifest),
			placeOf(c.Provenance), l.algorithm, c.Line,
		),
		"One of the two was altered, or they are of different days. Do not use the file before you know which, and tell whoever keeps the wrong one.",
	)
	if l.holds() && l.voucher != nil && l.voucher.Signed() {
		g.Effect = Notes
		g.Sentence += " The one here is signed and matches, so the copy is wrong."
		g.Advice = "Tell whoever keeps that copy."
	}
	return g
}

// corroborate weighs the channels on which the computed value was seen.
func (b Basis) corroborate(item *survey.Item, m *measure.Measurement, s *said, out *Outcome) {
	l := s.listing
	asked := b.policyFor(l.voucher).CorroborationChannels
	enough := asked > 0 && len(s.channels) >= asked
	g := Ground{
		Code:      Corroborated,
		Effect:    Notes,
		Source:    l.Manifest,
		Line:      l.Line,
		Algorithm: l.algorithm,
		Computed:  l.computed,
		Sentence: fmt.Sprintf(
			"Its %s digest was seen on %s: %s.", l.algorithm, plain.Count(len(s.channels), "channel"), strings.Join(s.places, ", "),
		),
	}
	last := Link{Kind: "channels", State: Holds, Label: plain.Count(len(s.channels), "channel"), Detail: strings.Join(s.places, ", ")}
	var reason Ground
	switch {
	case enough:
		g.Effect = Supports
	case asked == 0:
		last.State = Missing
		reason.Sentence = "The policy does not let agreement between channels clear a file."
		reason.Advice = "If the publisher does not sign, a curator can have the policy let agreement between channels clear such files."
	default:
		last.State = Missing
		reason.Sentence = fmt.Sprintf(
			"The policy asks for %s, and the value was seen on %d.", plain.Count(asked, "channel"), len(s.channels),
		)
		reason.Advice = "Get the list on another channel too, and run the batch with that copy."
	}
	out.Grounds = append(out.Grounds, g)
	out.Paths = append(out.Paths, pathOf(CorroboratedManifest, []Link{
		artifactLink(item, m),
		{Kind: "digest", State: Holds, Label: l.algorithm.String(), Detail: l.computed.String()},
		{
			Kind: "entry", State: Holds, Label: fmt.Sprintf("line %d: %s", l.Line, plain.Text(l.Name)),
			Detail: "states the same digest", Ref: l.Manifest,
		},
		{
			Kind: "manifest", State: Holds, Label: plain.Text(l.Manifest),
			Detail: "SHA-256 " + digestOf(l.voucher).String(), Ref: l.Manifest,
		},
		last,
	}, reason))
}

func digestOf(v *Voucher) digest.Value {
	if v == nil {
		return nil
	}
	return v.Digest
}
