package judge

import (
	"fmt"
	"slices"

	"endeixis/core/device"
	"endeixis/core/diagnose"
	"endeixis/core/digest"
	"endeixis/core/measure"
	"endeixis/core/plain"
	"endeixis/core/survey"
)

// bySlot judges a firmware slot by the value that its device computed. Where that is the value of
// a file that was verified here, the slot's proof path goes on as that file's does. It reports
// whether the slot has any evidence, for or against.
func (b Basis) bySlot(item *survey.Item, m *measure.Measurement, original *Outcome, out *Outcome) bool {
	said := m.Device
	where := fmt.Sprintf("%s of %s", plain.Text(said.SlotTitle), plain.Text(said.Device))
	out.Grounds = append(out.Grounds, deviceSaid(m))
	against := item.Against
	if against == nil {
		out.Grounds = append(out.Grounds, Ground{
			Code:      NotListed,
			Effect:    Withholds,
			Algorithm: said.Algorithm,
			Computed:  m.Digests[said.Algorithm],
			Sentence: fmt.Sprintf(
				"No release that was cleared here is known to have the %s that %s gives.", said.Algorithm, where,
			),
			Advice: "Verify the release that should be in it, and say that the slot is to be held against it.",
		})
		return true
	}
	first := artifactLink(item, m)
	first.Kind, first.Label = "slot", where
	first.Detail = fmt.Sprintf("%d bytes, by the word of %s", m.Size, plain.Text(said.Device))
	image := Link{Kind: "image", Label: against.Named(), Ref: against.Path}
	match := slotMatch(said, m.Digests[said.Algorithm], against)
	if g, differs := match.differs(m, where); differs {
		out.Grounds = append(out.Grounds, g)
		image.State, image.Detail = Broken, "has other bytes than the slot"
		out.Paths = append(out.Paths, pathOf(Readback, []Link{first, image}, g))
		return true
	}
	g := match.ground(where)
	weak := match.algorithm.PreimageBits() < b.policyOn(item.Path).DevicePreimageBits
	if weak || !against.Known() {
		g.Effect = Notes
	}
	if weak {
		out.Grounds = append(out.Grounds, Ground{
			Code:      WeakDigestOnly,
			Effect:    Withholds,
			Algorithm: match.algorithm,
			Sentence: fmt.Sprintf(
				"By its %s, damage would show in %s; that somebody has put something else there need not.",
				match.algorithm, where,
			),
			Advice: "Ask the device for a stronger digest, if its kind has one, or read the slot back.",
			Causes: match.causes(),
		})
	} else {
		g.Causes = match.causes()
	}
	if !against.Known() {
		out.Grounds = append(out.Grounds, g, Ground{
			Code:     NotListed,
			Effect:   Withholds,
			Sentence: "No file that was verified here has this value: anybody could have given it.",
			Advice:   "Verify the release itself first, with what its publisher says of it; then hold the slot against that.",
		})
		return true
	}
	restOn(Readback, original, first, image, g, against.Named(), "this slot", out)
	return true
}

// A matchedSlot is a slot's value beside those of the file that it is held against.
type matchedSlot struct {
	said    *device.SlotReport
	value   digest.Value
	against *survey.Against
	// algorithm is the one of the file's digests that the value is, or [digest.Unknown] where it
	// is none. reversed is set where it is that digest's bytes in reverse order.
	algorithm digest.Algorithm
	reversed  bool
}

// slotMatch looks which digest of a file a slot's value is. Only a checksum is tried backwards too.
func slotMatch(said *device.SlotReport, value digest.Value, against *survey.Against) matchedSlot {
	s := matchedSlot{said: said, value: value, against: against, algorithm: against.Variant(said.Algorithm, value)}
	if s.algorithm == digest.Unknown && said.Algorithm.Class() == digest.Checksum {
		backwards := slices.Clone(value)
		slices.Reverse(backwards)
		s.algorithm = against.Variant(said.Algorithm, backwards)
		s.reversed = s.algorithm != digest.Unknown
	}
	return s
}

// differs reports whether the slot has other bytes than the file, and says so.
func (s matchedSlot) differs(m *measure.Measurement, where string) (g Ground, differs bool) {
	covers := s.said.Covers
	if s.against.Covered != "" {
		covers = s.against.Covered
	}
	otherSize := covers == device.Image && s.said.Covers == device.Image && m.Size != s.against.Size
	if s.algorithm != digest.Unknown && !otherSize {
		return Ground{}, false
	}
	g = Ground{
		Code: DigestMismatch, Effect: Refuses, Source: s.against.Path, Algorithm: s.said.Algorithm,
		Expected: s.against.Digests[s.said.Algorithm], Computed: s.value,
		Sentence: fmt.Sprintf("%s does not have the bytes of %s.", capital(where), s.against.Named()),
		Advice:   "Do not activate this slot. Write it again and check it again; if it stays so, look at what the device says on its own console.",
	}
	if s.algorithm != digest.Unknown {
		g.Code = SizeMismatch
		g.Sentence = fmt.Sprintf(
			"%s says that it hashed %d bytes of %s, and %s has %d.", plain.Text(s.said.Device), m.Size,
			plain.Text(s.said.SlotTitle), s.against.Named(), s.against.Size,
		)
	}
	return g, true
}

// ground says that the slot has the bytes of the file.
func (s matchedSlot) ground(where string) Ground {
	g := Ground{
		Code: DigestMatch, Effect: Supports, Source: s.against.Path, Algorithm: s.algorithm,
		Expected: s.against.Digests[s.algorithm], Computed: s.value,
		Sentence: fmt.Sprintf("%s has the %s of %s.", capital(where), s.algorithm, s.against.Named()),
	}
	if s.against.Covered != "" {
		g.Sentence += " " + otherExtent(s.said.Covers, s.against)
		g.Advice = "Mend “covers” and “fill” in the description of its kind; nothing is wrong with what is in the slot."
	}
	return g
}

// causes says in what the value is written otherwise than the kind of device says.
func (s matchedSlot) causes() []diagnose.Cause {
	var out []diagnose.Cause
	if s.algorithm != s.said.Algorithm {
		out = append(out, diagnose.Cause{
			Code: diagnose.WrongAlgorithm,
			Sentence: fmt.Sprintf(
				"The value is not the %s, as the kind of device says, but the %s.", s.said.Algorithm, s.algorithm,
			),
			Advice: "Mend the description of its kind; nothing is wrong with what is in the slot.",
		})
	}
	if s.reversed {
		out = append(out, diagnose.Cause{
			Code:     diagnose.WrongAlgorithm,
			Sentence: fmt.Sprintf("The device gives the bytes of the %s in reverse order.", s.algorithm),
			Advice:   "Say so in the description of its kind, with “checksum_order: reversed”; nothing is wrong with what is in the slot.",
		})
	}
	return out
}

// otherExtent names the bytes that the value is over, where the device's own answer says that they
// are others than its kind covers; otherwise it returns "".
func otherExtent(said device.Covers, against *survey.Against) string {
	switch {
	case against.Covered == device.Image:
		return "The value is over the image alone, and not over the whole slot, as the kind of device says."
	case said == device.Image:
		return fmt.Sprintf(
			"The value is over the whole slot, with %02X behind the image, and not over the image alone, as the kind of device says.",
			against.Fill,
		)
	default:
		return fmt.Sprintf("Behind the image the slot has %02X, and not what the kind of device says.", against.Fill)
	}
}

// deviceSaid is the ground that names the device, or the person who copied its answer, as the only
// source of the value.
func deviceSaid(m *measure.Measurement) Ground {
	who := plain.Text(m.Device.Device)
	g := Ground{
		Code:   DeviceSaid,
		Effect: Notes,
		Sentence: fmt.Sprintf(
			"%s has computed the value itself, over what it holds: that is its word, and nobody else has read the slot.",
			who,
		),
		Advice: "Equipment that somebody has taken over could say whatever is wanted. Where that matters, read its memory with equipment of your own.",
	}
	if m.MadeBy() == measure.Typed {
		g.Sentence = fmt.Sprintf(
			"%s has computed the value itself, and %s has copied it from its console: that is their word, and nobody else has read the slot.",
			who,
			plain.Text(m.By),
		)
	}
	return g
}

// unanswered is the ground of a slot of which the device gave no value.
func unanswered(m *measure.Measurement) []Ground {
	if m.Device == nil || m.Device.Cause == nil {
		return nil
	}
	f := *m.Device.Cause
	return []Ground{
		{
			Code: NotMeasured, Effect: Withholds,
			Sentence: fmt.Sprintf(
				"What %s of %s holds is not known. %s", plain.Text(m.Device.SlotTitle), plain.Text(m.Device.Device),
				f.Sentence,
			),
			Advice: f.Advice,
		},
	}
}

func (b Basis) policyOn(path string) Policy {
	if expected := b.expectedOf(path); len(expected.Publishers) == 1 {
		return b.policyOf(expected.Publishers[0])
	}
	return b.Policy
}

func capital(text string) string {
	if text == "" {
		return text
	}
	if c := text[0]; c >= 'a' && c <= 'z' {
		return string(c-'a'+'A') + text[1:]
	}
	return text
}
