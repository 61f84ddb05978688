package judge

import (
	"fmt"
	"slices"

	"endeixis/core/digest"
	"endeixis/core/measure"
	"endeixis/core/survey"
)

// identityBits is the strength against collisions from which a digest says that bytes are
// the same.
const identityBits = 128

// byOriginal follows the path of a medium that was read back: its first bytes are those
// of a file that was verified here, which rests on what it rests on. It reports whether
// anything speaks of the medium.
func (b Basis) byOriginal(item *survey.Item, m *measure.Measurement, original *Outcome, out *Outcome) bool {
	against := item.Against
	if m.Device != nil {
		return b.bySlot(item, m, original, out)
	}
	if against == nil {
		return false
	}
	if m.Readback != nil {
		against = against.In(m.Readback.Form)
	}
	algorithm := against.Matches(m.Digests)
	matches := algorithm != digest.Unknown
	if likeliest := against.Algorithms(); !matches && len(likeliest) > 0 {
		algorithm = likeliest[0]
	}
	named := against.Named()
	g := Ground{
		Source: against.Path, Algorithm: algorithm, Expected: against.Digests[algorithm],
		Computed: m.Digests[algorithm],
	}
	first := artifactLink(item, m)
	first.Kind = "medium"
	image := Link{Kind: "image", Label: named, Ref: against.Path}
	place := fmt.Sprintf("The first %d bytes of the medium", m.Size)
	if m.Readback != nil && m.Readback.Medium.From > 0 {
		place = fmt.Sprintf("The %d bytes of the medium from offset %d on", m.Size, m.Readback.Medium.From)
	}
	if m.Size < against.Size {
		g.Code, g.Effect = SizeMismatch, Refuses
		g.Sentence = fmt.Sprintf(
			"The medium has %d bytes, and %s has %d: the end of it is not on the medium.", m.Size, named, against.Size,
		)
		g.Advice = "Write it again, on a medium that is large enough."
		out.Grounds = append(out.Grounds, g)
		image.State, image.Detail = Broken, "is longer than the medium"
		out.Paths = append(out.Paths, pathOf(Readback, []Link{first, image}, g))
		return true
	}
	if !matches {
		g.Code, g.Effect = DigestMismatch, Refuses
		g.Sentence = fmt.Sprintf("%s are not those of %s.", place, named)
		g.Advice = "Do not use this medium. Write it again and read it back; if it stays so, use another medium or drive."
		if len(item.Against.Forms) > 0 {
			g.Sentence += " It is not that file itself either."
		}
		out.Grounds = append(out.Grounds, g)
		image.State, image.Detail = Broken, "has other bytes than the medium"
		out.Paths = append(out.Paths, pathOf(Readback, []Link{first, image}, g))
		return true
	}
	g.Code, g.Effect = DigestMatch, Supports
	g.Sentence = fmt.Sprintf("%s are exactly those of %s.", place, named)
	if len(against.Forms) > 0 && !against.Within() {
		g.Sentence += " It is that file as it stands, and not what is in it."
	}
	if algorithm.CollisionBits() < identityBits {
		g.Effect = Notes
		g.Sentence = fmt.Sprintf("%s have the %s of %s, which shows damage and no more.", place, algorithm, named)
	}
	if !against.Known() {
		g.Effect = Notes
		out.Grounds = append(out.Grounds, g, Ground{
			Code:     NotListed,
			Effect:   Withholds,
			Sentence: "No file that was verified here has this value: anybody could have given it.",
			Advice:   "Verify the image itself first, with what its publisher says of it; then read the medium back against that.",
		})
		return true
	}
	restOn(Readback, original, first, image, g, named, "this medium", out)
	return true
}

// restOn has what a medium, a slot or a file holds count as the file counts whose bytes it has,
// by a path of a kind.
func restOn(kind PathKind, original *Outcome, first, image Link, g Ground, named, here string, out *Outcome) {
	out.Grounds = append(out.Grounds, g)
	if original == nil {
		original = &Outcome{Verdict: Unproven}
	}
	image.State, image.Detail = Holds, "has the same bytes, and is cleared"
	// Who vouches for the file vouches for this too, and so does what speaks
	// against it.
	for _, o := range original.Grounds {
		if o.Signature != nil || o.Effect == Refuses || o.Effect == Withholds && original.Verdict != Cleared {
			if o.Code != ByMeasurer || o.Effect != Notes {
				out.Grounds = append(out.Grounds, o)
			}
		}
	}
	missing := Ground{
		Sentence: fmt.Sprintf("%s is not cleared.", named),
		Advice:   fmt.Sprintf("What is missing there would clear %s too.", here),
	}
	at := slices.IndexFunc(original.Paths, func(p ProofPath) bool { return p.Complete })
	switch {
	case original.Verdict == Refused:
		image.State, image.Detail = Broken, "has the same bytes, and is refused"
	case original.Verdict != Cleared || at < 0:
		image.State, image.Detail = Missing, "has the same bytes, and is not cleared itself"
	case g.Effect == Supports:
		out.Paths = append(
			out.Paths, pathOf(kind, append([]Link{first, image}, original.Paths[at].Links[1:]...), Ground{}),
		)
		return
	default:
		image.State, image.Detail = Broken, "is known by too weak a value"
		missing.Sentence = fmt.Sprintf("%s shows damage, and not that nobody has altered it.", g.Algorithm)
		missing.Advice = "A stronger digest would clear it."
	}
	out.Paths = append(out.Paths, pathOf(kind, []Link{first, image}, missing))
}

// readbackGrounds tells what was noticed while a medium was read.
func readbackGrounds(m *measure.Measurement) []Ground {
	a := m.Readback
	if a == nil || m.Problem != nil {
		return nil
	}
	return []Ground{{Code: ReadBack, Effect: Notes, Sentence: a.Cache.Sentence() + " " + a.Tail.Sentence}}
}
