package judge

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/device"
	"endeixis/core/diagnose"
	"endeixis/core/digest"
	"endeixis/core/measure"
	"endeixis/core/survey"
)

// saidOf is what a device gives of a slot.
func saidOf(a digest.Algorithm, value digest.Value, size int64) *measure.Measurement {
	return &measure.Measurement{
		Size: size, Digests: map[digest.Algorithm]digest.Value{a: value}, Maker: measure.Device, Where: "KG-07",
		Device: &device.SlotReport{Device: "KG-07", Slot: "b", SlotTitle: "slot B", Algorithm: a, Covers: device.Image},
	}
}

func valueOf(a digest.Algorithm, text string) digest.Value {
	h := a.New()
	h.Write([]byte(text))
	return h.Sum(nil)
}

// TestSlot: what a device says of a slot counts as the release counts, by a digest that is
// hard enough to forge, and never by itself.
func TestSlot(t *testing.T) {
	cleared := &Outcome{
		Verdict: Cleared,
		Paths: []ProofPath{
			{
				Kind: SignedArtifact, Complete: true,
				Links: []Link{{Kind: "artifact", State: Holds}, {Kind: "key", State: Holds}},
			},
		},
	}
	unproven := &Outcome{
		Verdict: Unproven,
		Grounds: []Ground{{Code: ManifestUnsigned, Effect: Withholds, Sentence: "Nobody signed it."}},
	}
	refused := &Outcome{
		Verdict: Refused, Grounds: []Ground{{Code: SignatureInvalid, Effect: Refuses, Sentence: "It does not hold."}},
	}
	for name, c := range map[string]struct {
		by       digest.Algorithm // what the device computes
		value    digest.Value     // nil for the release's
		given    bool             // only a value was given, and no file that was verified
		size     int64
		covered  device.Covers // what the value is over, where the kind says the image
		nothing  bool          // held against nothing
		original *Outcome
		bits     int // of the policy; 0 leaves it
		verdict  Verdict
		has      []Code
		finding  diagnose.Code
	}{
		"SHA-256":                         {by: digest.SHA256, original: cleared, verdict: Cleared, has: []Code{DigestMatch, DeviceSaid}},
		"MD5":                             {by: digest.MD5, original: cleared, verdict: Cleared, has: []Code{DigestMatch, DeviceSaid}},
		"SHA-1":                           {by: digest.SHA1, original: cleared, verdict: Cleared, has: []Code{DigestMatch, DeviceSaid}},
		"MD5, and more is asked":          {by: digest.MD5, original: cleared, bits: 124, verdict: Unproven, has: []Code{WeakDigestOnly, DeviceSaid}},
		"SHA-1, and more is asked":        {by: digest.SHA1, original: cleared, bits: 124, verdict: Cleared},
		"a CRC":                           {by: digest.CRC32, original: cleared, verdict: Unproven, has: []Code{DigestMatch, WeakDigestOnly, DeviceSaid}},
		"a CRC, and one bit is asked":     {by: digest.CRC32, original: cleared, bits: 1, verdict: Unproven, has: []Code{WeakDigestOnly}},
		"a CRC in reverse order":          {by: digest.CRC32, value: backwards(valueOf(digest.CRC32, "release")), original: cleared, verdict: Unproven, has: []Code{WeakDigestOnly}, finding: diagnose.WrongAlgorithm},
		"an MD5 in reverse order":         {by: digest.MD5, value: backwards(valueOf(digest.MD5, "release")), original: cleared, verdict: Refused, has: []Code{DigestMismatch}},
		"a CRC of another variant":        {by: digest.CRC32, value: valueOf(digest.CRC32BZIP2, "release"), original: cleared, verdict: Unproven, has: []Code{WeakDigestOnly}, finding: diagnose.WrongAlgorithm},
		"other bytes":                     {by: digest.SHA256, value: valueOf(digest.SHA256, "another"), original: cleared, verdict: Refused, has: []Code{DigestMismatch, DeviceSaid}},
		"other bytes, by a CRC":           {by: digest.CRC32, value: valueOf(digest.CRC32, "another"), original: cleared, verdict: Refused, has: []Code{DigestMismatch}},
		"the digest and another length":   {by: digest.MD5, size: 8, original: cleared, verdict: Refused, has: []Code{SizeMismatch}},
		"over the whole slot":             {by: digest.SHA256, covered: device.WholeSlot, size: 4096, original: cleared, verdict: Cleared, has: []Code{DigestMatch}},
		"another value over the slot":     {by: digest.SHA256, covered: device.WholeSlot, size: 4096, value: valueOf(digest.SHA256, "another"), original: cleared, verdict: Refused, has: []Code{DigestMismatch}},
		"a release that is not cleared":   {by: digest.SHA256, original: unproven, verdict: Unproven, has: []Code{DigestMatch, ManifestUnsigned}},
		"a release that is refused":       {by: digest.SHA256, original: refused, verdict: Refused, has: []Code{SignatureInvalid}},
		"a release of which nobody knows": {by: digest.SHA256, original: nil, verdict: Unproven},
		"a value that was given":          {by: digest.SHA256, given: true, verdict: Unproven, has: []Code{NotListed, DeviceSaid}},
		"another than was given":          {by: digest.SHA256, value: valueOf(digest.SHA256, "another"), given: true, verdict: Refused, has: []Code{DigestMismatch}},
		"nothing to hold it against":      {by: digest.SHA256, nothing: true, verdict: Unproven, has: []Code{NotListed, DeviceSaid}},
	} {
		t.Run(name, func(t *testing.T) {
			against := &survey.Against{
				Batch: 3, N: 1, Path: "fw.img", Size: 7, Digests: map[digest.Algorithm]digest.Value{},
			}
			against.Covered = c.covered
			if c.given {
				against.Batch, against.N, against.Path = 0, 0, ""
			}
			for _, a := range digest.OfSize(c.by.Size()) {
				against.Digests[a] = valueOf(a, "release")
			}
			value, size := c.value, c.size
			if value == nil {
				value = valueOf(c.by, "release")
			}
			if size == 0 {
				size = 7
			}
			item := &survey.Item{Path: "slot b", Role: survey.Artifact, Against: against}
			if c.nothing {
				item.Against = nil
			}
			b := Basis{Policy: DefaultPolicy()}
			if c.bits > 0 {
				b.Policy.DevicePreimageBits = c.bits
			}
			out := b.Artifact(item, saidOf(c.by, value, size), Surroundings{Original: c.original})
			assert.Equal(t, c.verdict, out.Verdict, "%+v", out.Grounds)
			codes := map[Code]Ground{}
			for _, g := range out.Grounds {
				codes[g.Code] = g
				assert.NotEqual(t, ByMeasurer, g.Code)
			}
			for _, code := range c.has {
				assert.Contains(t, codes, code)
			}
			if c.finding != "" {
				require.NotEmpty(t, codes[WeakDigestOnly].Causes)
				assert.Equal(t, c.finding, codes[WeakDigestOnly].Causes[0].Code)
			}
		})
	}
}

// backwards returns a value in the other order of its bytes.
func backwards(v digest.Value) digest.Value {
	out := slices.Clone(v)
	slices.Reverse(out)
	return out
}

// TestSlotWithoutAnswer: a device that gives no value leaves the slot unproven, whatever
// the release counts.
func TestSlotWithoutAnswer(t *testing.T) {
	m := saidOf(digest.SHA256, nil, 0)
	m.Digests = nil
	m.Device.Cause = &diagnose.Cause{Code: diagnose.DeviceSilent, Sentence: "It said nothing.", Advice: "Look at it."}
	m.Problem = &measure.Problem{Code: measure.NotMeasured, Message: "It said nothing."}
	item := &survey.Item{
		Path: "slot b", Role: survey.Artifact,
		Against: &survey.Against{
			Batch: 3, Size: 7,
			Digests: map[digest.Algorithm]digest.Value{digest.SHA256: valueOf(digest.SHA256, "release")},
		},
	}
	out := Basis{Policy: DefaultPolicy()}.Artifact(item, m, Surroundings{Original: &Outcome{Verdict: Cleared}})
	assert.Equal(t, Unproven, out.Verdict)
	require.Len(t, out.Grounds, 1)
	assert.Contains(t, out.Grounds[0].Sentence, "It said nothing.")
	assert.Equal(t, "Look at it.", out.Grounds[0].Advice)
}
