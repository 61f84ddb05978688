package judge

import (
	"bytes"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"

	"endeixis/core/measure"
	"endeixis/core/openpgp"
)

// A Policy is the set of limits by which evidence is judged. Its JSON form is
// what is stored, versioned, and named in every record.
type Policy struct {
	// DigestBits is the least collision resistance, in bits, of a digest
	// that can carry a proof path. SHA-256 has 128.
	DigestBits int `json:"digest_bits"`
	// SignatureHashBits is the same for the hash of a document signature.
	SignatureHashBits int `json:"signature_hash_bits"`
	// RSABits is the least size of an RSA modulus or a DSA prime.
	RSABits int `json:"rsa_bits"`
	// Curves names the curves whose keys are accepted; see
	// [openpgp.Curves].
	Curves []string `json:"curves" nullable:"false"`
	// SelfSHA1Before is the time from which SHA-1 is not accepted in
	// self-signatures and bindings.
	SelfSHA1Before time.Time `json:"self_sha1_before"`
	// ExpiredSigner is the effect of a key that was good when it signed and
	// has expired since: Withholds or Notes.
	ExpiredSigner Effect `json:"expired_signer"`
	// ContradictedSigner is the effect of a key of which a sighting shows another
	// fingerprint, for as long as nobody has explained that: Withholds or Notes.
	ContradictedSigner Effect `json:"contradicted_signer"`
	// SkewSeconds is how far clocks may disagree.
	SkewSeconds int `json:"skew_seconds"`
	// SightingChannels is how many distinct channels must have confirmed a
	// fingerprint before its key can be admitted.
	SightingChannels int `json:"sighting_channels"`
	// AnchorAdmits lets a certification by one of the publisher's anchors
	// stand in for those channels.
	AnchorAdmits bool `json:"anchor_admits"`
	// TwoCurators asks for one curator to propose an admission and another
	// to admit.
	TwoCurators bool `json:"two_curators"`
	// CorroborationChannels is on how many distinct channels the same digest
	// must have been seen for that to clear an artifact without a signature;
	// zero means never.
	CorroborationChannels int `json:"corroboration_channels"`
	// MaxSignatureAgeDays is the greatest age of a signature; zero means any.
	MaxSignatureAgeDays int `json:"max_signature_age_days"`
	// DiagnosisBytes is the size up to which a file that does not match is
	// read once more to explain why; zero means never.
	DiagnosisBytes int64 `json:"diagnosis_bytes"`
	// MeasuredBy lists who may have read the bytes of an artifact that is cleared.
	MeasuredBy []measure.Maker `json:"measured_by" nullable:"false"`
	// DevicePreimageBits is the least resistance against second preimages, in bits, of
	// a digest that a device computes over what it holds: it is held against bytes that
	// are cleared, which nobody can prepare. MD5 has 123.
	DevicePreimageBits int `json:"device_preimage_bits"`
	// Companions are patterns for the names of files that come along with what is
	// published and need no clearing, such as notes and pictures; see [CheckCompanions]. None is
	// left out of the JSON form, so that programs of before there were any understand it.
	Companions []string `json:"companions,omitempty"`
	// WeakerThanBefore is the effect of what is weaker, older or otherwise than what was cleared
	// before under the same name or stem: Withholds or Notes. Notes is left out of the JSON form,
	// as [Policy.Companions] is.
	WeakerThanBefore Effect `json:"weaker_than_before,omitempty"`
	// ReferenceClears has a file be known again: it is cleared where it has the bytes of one that is
	// cleared by a signature of the publisher whom it is expected from. False is left out of the JSON form.
	ReferenceClears bool `json:"reference_clears,omitempty"`
}

// devicePreimageBits is what is asked of a device's digest where the policy does not say.
const devicePreimageBits = 112

// measuredBy is who may measure where the policy does not say: all who read the bytes
// themselves.
func measuredBy() []measure.Maker {
	return []measure.Maker{measure.Service, measure.Client, measure.Console}
}

// DefaultPolicy returns the policy of a new installation.
func DefaultPolicy() Policy {
	return Policy{
		DigestBits:         128,
		SignatureHashBits:  128,
		RSABits:            2048,
		Curves:             openpgp.Curves(),
		SelfSHA1Before:     time.Date(2023, 2, 1, 0, 0, 0, 0, time.UTC),
		ExpiredSigner:      Withholds,
		ContradictedSigner: Withholds,
		SkewSeconds:        300,
		SightingChannels:   2,
		AnchorAdmits:       true,
		DiagnosisBytes:     16 << 30,
		MeasuredBy:         measuredBy(),
		DevicePreimageBits: devicePreimageBits,
		Companions:         []string{},
		WeakerThanBefore:   Notes,
	}
}

// Validate reports the first field that makes no sense.
func (p Policy) Validate() error {
	for name, value := range map[string]int{
		"digest_bits": p.DigestBits, "signature_hash_bits": p.SignatureHashBits, "rsa_bits": p.RSABits,
		"skew_seconds": p.SkewSeconds, "max_signature_age_days": p.MaxSignatureAgeDays,
		"corroboration_channels": p.CorroborationChannels, "device_preimage_bits": p.DevicePreimageBits,
	} {
		if value < 0 {
			return fmt.Errorf("policy field %s is negative", name)
		}
	}
	if p.DiagnosisBytes < 0 {
		return fmt.Errorf("policy field diagnosis_bytes is negative")
	}
	for _, curve := range p.Curves {
		if !slices.Contains(openpgp.Curves(), curve) {
			return fmt.Errorf(
				"policy field curves has %q, which is not one of %s", curve, strings.Join(openpgp.Curves(), ", "),
			)
		}
	}
	if p.SightingChannels < 1 {
		return fmt.Errorf("policy field sighting_channels is below 1, so that keys could be admitted on no evidence")
	}
	if p.CorroborationChannels == 1 {
		return fmt.Errorf(
			"policy field corroboration_channels is 1, and one channel corroborates nothing; give 0 for never, or 2 and more",
		)
	}
	if len(p.MeasuredBy) == 0 {
		return fmt.Errorf("policy field measured_by names nobody, so that nothing could be cleared")
	}
	for i, maker := range p.MeasuredBy {
		if !slices.Contains(measure.Makers(), maker) || slices.Contains(p.MeasuredBy[:i], maker) {
			return fmt.Errorf(
				"policy field measured_by has %q, which is not one of %s, each once", maker,
				strings.Join(words(measure.Makers()), ", "),
			)
		}
	}
	for name, effect := range map[string]Effect{
		"expired_signer": p.ExpiredSigner, "contradicted_signer": p.ContradictedSigner,
		"weaker_than_before": p.WeakerThanBefore,
	} {
		if !slices.Contains(withholdsOrNotes(), effect) {
			return fmt.Errorf("policy field %s is %q; it can be %q or %q", name, effect, Withholds, Notes)
		}
	}
	if err := CheckCompanions(p.Companions); err != nil {
		return fmt.Errorf("policy field companions: %w", err)
	}
	return nil
}

// With returns the policy with the fields that own, a JSON object, has
// otherwise: what one publisher's policy differs in. It returns an error for a
// field that is unknown, and what [Policy.Validate] returns for the result.
func (p Policy) With(own []byte) (Policy, error) {
	// Decoding would write into them.
	p.Curves, p.MeasuredBy = slices.Clone(p.Curves), slices.Clone(p.MeasuredBy)
	p.Companions = slices.Clone(p.Companions)
	if err := json.Unmarshal(own, &p); err != nil {
		return Policy{}, fmt.Errorf("the fields cannot be read: %s", strings.TrimPrefix(err.Error(), "json: "))
	}
	return p, p.Validate()
}

// Equal reports whether two policies set the same limits.
func (p Policy) Equal(other Policy) bool { return reflect.DeepEqual(p, other) }

func words[T ~string](list []T) []string {
	out := make([]string, len(list))
	for i, w := range list {
		out[i] = string(w)
	}
	return out
}

// UnmarshalJSON reads a policy. One of before there was a choice of curves, or of who
// measures, accepts all of them.
func (p *Policy) UnmarshalJSON(data []byte) error {
	type plain Policy // without this method
	read := plain(*p)
	if p.Curves == nil { // it is not read over one that is there
		read.DevicePreimageBits = devicePreimageBits
	}
	d := json.NewDecoder(bytes.NewReader(data))
	d.DisallowUnknownFields()
	if err := d.Decode(&read); err != nil {
		return err
	}
	if read.Curves == nil {
		read.Curves = openpgp.Curves()
	}
	if read.ContradictedSigner == "" {
		read.ContradictedSigner = Withholds
	}
	if read.MeasuredBy == nil {
		read.MeasuredBy = measuredBy()
	}
	if read.Companions == nil {
		read.Companions = []string{}
	}
	if read.WeakerThanBefore == "" {
		read.WeakerThanBefore = Notes
	}
	*p = Policy(read)
	return nil
}

// MarshalJSON writes a policy as programs of earlier versions understand it, where it asks nothing
// that they do not know.
func (p Policy) MarshalJSON() ([]byte, error) {
	type plain Policy // without this method
	if p.WeakerThanBefore == Notes {
		p.WeakerThanBefore = ""
	}
	return json.Marshal(plain(p))
}

// Rules returns the limits that concern OpenPGP, for a judgement at now.
func (p Policy) Rules(now time.Time) openpgp.Rules {
	return openpgp.Rules{
		Now: now, Skew: time.Duration(p.SkewSeconds) * time.Second,
		DocumentHashBits: p.SignatureHashBits, RSABits: p.RSABits, Curves: p.Curves, SelfSHA1Before: p.SelfSHA1Before,
		MaxAge: time.Duration(p.MaxSignatureAgeDays) * 24 * time.Hour, ExpiredCounts: p.ExpiredSigner == Notes,
	}
}

// A PolicyField tells what one field of a policy does, for people.
type PolicyField struct {
	// Name is that in the JSON form, and Title what people call it.
	Name  string `json:"name"`
	Title string `json:"title"`
	Does  string `json:"does"`
	// Choices are the values that it can have, where these are few.
	Choices []Effect `json:"choices,omitempty"`
	// Otherwise is the value where a policy does not have the field: a word, or true or false.
	Otherwise any `json:"otherwise,omitempty"`
}

// withholdsOrNotes lists what the policy fields about doubtful evidence can be.
func withholdsOrNotes() []Effect { return []Effect{Withholds, Notes} }

// FieldsOf returns the fields of a policy by their names, from its JSON form: those that it leaves out, too.
// It returns an error for what is no object.
func FieldsOf(document []byte) (map[string]json.RawMessage, error) {
	var out map[string]json.RawMessage
	if err := json.Unmarshal(document, &out); err != nil {
		return nil, err
	}
	if out == nil {
		return nil, fmt.Errorf("a policy is an object with fields")
	}
	for _, f := range PolicyFields() {
		if _, said := out[f.Name]; !said && f.Otherwise != nil {
			out[f.Name], _ = json.Marshal(f.Otherwise) // of a word or true or false
		}
	}
	return out, nil
}

// PolicyFields lists the fields of a policy in the order in which they are
// shown.
func PolicyFields() []PolicyField {
	return []PolicyField{
		{
			Name: "digest_bits", Title: "Strength of digests",
			Does: "least collision resistance, in bits, of a digest that can clear",
		},
		{
			Name: "signature_hash_bits", Title: "Strength of signatures' hashes",
			Does: "the same for the hash of a signature, in bits",
		},
		{Name: "rsa_bits", Title: "Size of RSA and DSA keys", Does: "least size of an RSA or DSA key, in bits"},
		{Name: "curves", Title: "Curves", Does: "curves whose keys are accepted"},
		{
			Name: "self_sha1_before", Title: "SHA-1 in keys ends",
			Does: "from when SHA-1 is refused in a key's own signatures",
		},
		{
			Name: "expired_signer", Title: "Signers that have expired",
			Does: "what a key that has expired since signing does: withholds or notes", Choices: withholdsOrNotes(),
		},
		{
			Name:    "contradicted_signer",
			Title:   "Signers that are contradicted",
			Does:    "what a key does of which somebody has seen another fingerprint, until a curator explains that: withholds or notes",
			Choices: withholdsOrNotes(),
		},
		{Name: "skew_seconds", Title: "Clocks may disagree by", Does: "how far clocks may disagree, in seconds"},
		{
			Name: "sighting_channels", Title: "Sightings before admission",
			Does: "channels that must have confirmed a fingerprint before admission",
		},
		{
			Name: "anchor_admits", Title: "Anchors may admit",
			Does: "whether a certification by the publisher's anchor may admit a key instead",
		},
		{
			Name: "two_curators", Title: "Two curators decide",
			Does: "whether one curator proposes an admission and another admits",
		},
		{
			Name: "corroboration_channels", Title: "Channels that corroborate",
			Does: "channels on which an unsigned digest must have been seen to clear; 0 for never",
		},
		{
			Name: "max_signature_age_days", Title: "Age of signatures",
			Does: "greatest age of a signature, in days; 0 for any",
		},
		{Name: "measured_by", Title: "Who may measure", Does: "who may have read the bytes of what is cleared"},
		{
			Name:  "device_preimage_bits",
			Title: "Strength of a device's digest",
			Does:  "how hard it must be to make other content with a digest that a device computes, in bits; MD5 has 123",
		},
		{
			Name: "companions", Title: "Companions",
			Does: "patterns for names of files that come along and need no clearing, such as *.txt",
		},
		{
			Name: "weaker_than_before", Title: "Weaker than before",
			Does:    "what evidence does that is weaker, older or otherwise than before for the same file of its publisher: notes or withholds",
			Choices: withholdsOrNotes(), Otherwise: Notes,
		},
		{
			Name: "reference_clears", Title: "Known again by their bytes",
			Does:      "whether a file clears that has the bytes of one which a signature of the expected publisher has cleared before",
			Otherwise: false,
		},
		{
			Name: "diagnosis_bytes", Title: "Explained up to",
			Does: "size up to which a file that differs is read again to explain why, in bytes",
		},
	}
}
