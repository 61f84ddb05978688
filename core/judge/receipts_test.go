package judge_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"endeixis/core/digest"
	. "endeixis/core/judge"
	"endeixis/core/measure"
	"endeixis/core/survey"
)

// TestReceipts judges files by what receipts say of files of their name: they count as those
// do by now, other bytes are refused in their place alone, and where nothing else vouches.
func TestReceipts(t *testing.T) {
	own, other := digest.Value("0123456789abcdef0123456789abcdef"), digest.Value("0123456789abcdef0123456789abcdeX")
	holds := ProofPath{
		Kind: SignedManifest, Complete: true,
		Links: []Link{{Kind: "artifact", State: Holds}, {Kind: "publisher", State: Holds}},
	}
	lacks := ProofPath{
		Kind: SignedManifest, Links: []Link{{Kind: "artifact", State: Holds}, {Kind: "key", State: Missing}},
	}
	valid := Ground{
		Code: SignatureValid, Effect: Supports, Source: "SHA256SUMS.sig", Signature: &SignatureFacts{Key: "aa"},
	}
	revoked := Ground{Code: SignerRevoked, Effect: Refuses, Signature: &SignatureFacts{Key: "aa"}}
	candidate := Ground{Code: SignerCandidate, Effect: Withholds, Signature: &SignatureFacts{Key: "aa"}}
	cleared := &Outcome{Verdict: Cleared, Grounds: []Ground{valid}, Paths: []ProofPath{lacks, holds}}
	says := func(value digest.Value, place bool, o *Outcome) Recorded {
		return Recorded{
			Receipt:     "endeixis-proofs/record-9.receipt.json",
			Position:    9,
			Batch:       3,
			Name:        "bell.img",
			Place:       place,
			Outcome:     o,
			Measurement: &measure.Measurement{Digests: map[digest.Algorithm]digest.Value{digest.SHA256: value}},
		}
	}
	missing := says(own, true, &Outcome{Verdict: Unproven, Paths: []ProofPath{lacks}})
	missing.Missing = "SHA256SUMS"
	for name, test := range map[string]struct {
		recorded []Recorded
		verdict  Verdict
		codes    []Code
	}{
		"none":                         {nil, Unproven, []Code{NotListed}},
		"its own":                      {[]Recorded{says(own, true, cleared)}, Cleared, []Code{DigestMatch, SignatureValid}},
		"its own, elsewhere":           {[]Recorded{says(own, false, cleared)}, Cleared, []Code{DigestMatch, SignatureValid}},
		"of other bytes":               {[]Recorded{says(other, true, cleared)}, Refused, []Code{DigestMismatch}},
		"of another folder":            {[]Recorded{says(other, false, cleared)}, Unproven, []Code{NotListed}},
		"of two releases":              {[]Recorded{says(other, true, cleared), says(own, true, cleared)}, Cleared, []Code{DigestMatch, SignatureValid}},
		"its key was revoked":          {[]Recorded{says(own, true, &Outcome{Verdict: Refused, Grounds: []Ground{revoked}})}, Refused, []Code{DigestMatch, SignerRevoked}},
		"its key is a candidate":       {[]Recorded{says(own, true, &Outcome{Verdict: Unproven, Grounds: []Ground{candidate}, Paths: []ProofPath{lacks}})}, Unproven, []Code{DigestMatch, SignerCandidate}},
		"its list is missing":          {[]Recorded{missing}, Unproven, []Code{DigestMatch, ReceiptFails}},
		"cleared once, without a path": {[]Recorded{says(own, true, &Outcome{Verdict: Cleared})}, Unproven, []Code{DigestMatch}},
		"nothing was measured then":    {[]Recorded{says(nil, true, cleared)}, Unproven, []Code{NotListed}},
	} {
		item := &survey.Item{Path: "bell.img", Role: survey.Artifact, Size: 100}
		m := &measure.Measurement{Size: 100, Digests: map[digest.Algorithm]digest.Value{digest.SHA256: own}}
		out := Basis{
			Policy: DefaultPolicy(), Keyring: ring(t), Now: now,
		}.Artifact(item, m, Surroundings{Recorded: test.recorded})
		assert.Equal(t, test.verdict, out.Verdict, name)
		var codes []Code
		for _, g := range out.Grounds {
			codes = append(codes, g.Code)
		}
		assert.Equal(t, test.codes, codes, name)
	}
}
