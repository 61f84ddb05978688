package judge_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/digest"
	. "endeixis/core/judge"
	"endeixis/core/measure"
	"endeixis/core/readback"
	"endeixis/core/survey"
)

// TestReadback judges media by what the image on them is worth: it clears as the image
// does, and never more.
func TestReadback(t *testing.T) {
	right, wrong := digest.Value("0123456789abcdef0123456789abcdef"), digest.Value("0123456789abcdef0123456789abcdeX")
	holds := ProofPath{
		Kind: SignedManifest, Complete: true,
		Links: []Link{{Kind: "artifact", State: Holds}, {Kind: "publisher", State: Holds}},
	}
	lacks := ProofPath{
		Kind: SignedManifest, Links: []Link{{Kind: "artifact", State: Holds}, {Kind: "key", State: Missing}},
	}
	valid := Ground{Code: SignatureValid, Effect: Supports, Signature: &SignatureFacts{Key: "aa"}}
	revoked := Ground{Code: SignerRevoked, Effect: Refuses, Signature: &SignatureFacts{Key: "aa"}}
	unknown := Ground{Code: SignerUnknown, Effect: Withholds, Signature: &SignatureFacts{Issuer: "bb"}}
	cleared := &Outcome{Verdict: Cleared, Grounds: []Ground{valid}, Paths: []ProofPath{lacks, holds}}
	known := survey.Against{
		Batch: 7, N: 3, Path: "chart.iso", Size: 100,
		Digests: map[digest.Algorithm]digest.Value{digest.SHA256: right, digest.MD5: right[:16]},
	}
	given := survey.Against{
		Size: 100, Digests: map[digest.Algorithm]digest.Value{digest.SHA256: right, digest.BLAKE3: right},
	}
	for name, test := range map[string]struct {
		against  survey.Against
		size     int64
		digests  map[digest.Algorithm]digest.Value
		original *Outcome
		verdict  Verdict
		codes    []Code
	}{
		"the image":                              {known, 100, map[digest.Algorithm]digest.Value{digest.SHA256: right}, cleared, Cleared, []Code{DigestMatch, SignatureValid}},
		"other bytes":                            {known, 100, map[digest.Algorithm]digest.Value{digest.SHA256: wrong}, cleared, Refused, []Code{DigestMismatch}},
		"weak digest alone":                      {known, 100, map[digest.Algorithm]digest.Value{digest.MD5: right[:16], digest.SHA256: wrong}, cleared, Refused, []Code{DigestMismatch}},
		"no digest at all":                       {known, 100, nil, cleared, Refused, []Code{DigestMismatch}},
		"shorter":                                {known, 99, map[digest.Algorithm]digest.Value{digest.SHA256: right}, cleared, Refused, []Code{SizeMismatch}},
		"a revoked signer":                       {known, 100, map[digest.Algorithm]digest.Value{digest.SHA256: right}, &Outcome{Verdict: Refused, Grounds: []Ground{revoked}}, Refused, []Code{DigestMatch, SignerRevoked}},
		"an unknown signer":                      {known, 100, map[digest.Algorithm]digest.Value{digest.SHA256: right}, &Outcome{Verdict: Unproven, Grounds: []Ground{unknown}, Paths: []ProofPath{lacks}}, Unproven, []Code{DigestMatch, SignerUnknown}},
		"cleared without path":                   {known, 100, map[digest.Algorithm]digest.Value{digest.SHA256: right}, &Outcome{Verdict: Cleared}, Unproven, []Code{DigestMatch}},
		"an image that nobody knows of any more": {known, 100, map[digest.Algorithm]digest.Value{digest.SHA256: right}, nil, Unproven, []Code{DigestMatch}},
		"a value":                                {given, 100, map[digest.Algorithm]digest.Value{digest.SHA256: right}, nil, Unproven, []Code{DigestMatch, NotListed}},
		"a value by another hash":                {given, 100, map[digest.Algorithm]digest.Value{digest.SHA256: wrong, digest.BLAKE3: right}, nil, Unproven, []Code{DigestMatch, NotListed}},
		"another value":                          {given, 100, map[digest.Algorithm]digest.Value{digest.SHA256: wrong, digest.BLAKE3: wrong}, nil, Refused, []Code{DigestMismatch}},
		"a value beside what cleared":            {given, 100, map[digest.Algorithm]digest.Value{digest.SHA256: right}, cleared, Unproven, []Code{DigestMatch, NotListed}},
	} {
		plan := survey.Medium("sr0", now, test.against)
		require.Len(t, plan.Items, 1)
		m := &measure.Measurement{
			Size: test.size, Digests: test.digests, Readback: &readback.Report{Cache: readback.Avoided},
		}
		out := Basis{
			Policy: DefaultPolicy(), Keyring: ring(t), Now: now,
		}.Artifact(&plan.Items[0], m, Surroundings{Original: test.original})
		assert.Equal(t, test.verdict, out.Verdict, name)
		var codes []Code
		for _, g := range out.Grounds {
			if g.Code != ReadBack {
				codes = append(codes, g.Code)
			}
		}
		assert.Equal(t, test.codes, codes, name)
		for _, p := range out.Paths {
			assert.Equal(t, test.verdict == Cleared, p.Complete, name)
			assert.Equal(t, test.verdict != Cleared, p.Missing != "", name)
		}
	}
	// What could not be read in full is held against nothing.
	plan := survey.Medium("sr0", now, known)
	m := &measure.Measurement{
		Size: 100, Problem: &measure.Problem{Code: measure.Unreadable, Message: "4096 bytes cannot be read"},
	}
	out := Basis{
		Policy: DefaultPolicy(), Keyring: ring(t), Now: now,
	}.Artifact(&plan.Items[0], m, Surroundings{Original: cleared})
	assert.Equal(t, Unproven, out.Verdict)
	assert.Equal(t, Unreadable, out.Grounds[0].Code)
}

// TestMediumPlan: of a file the strongest digest decides, of a value any that it can be.
func TestMediumPlan(t *testing.T) {
	value := digest.Value(make([]byte, 64))
	known := survey.Against{
		Batch: 1,
		Digests: map[digest.Algorithm]digest.Value{
			digest.SHA512: value, digest.MD5: value[:16], digest.SHA256: value[:32],
		},
	}
	assert.Equal(t, []digest.Algorithm{digest.SHA256, digest.SHA512}, survey.Medium("x", now, known).Items[0].Digests)
	weak := survey.Against{Batch: 1, Digests: map[digest.Algorithm]digest.Value{digest.MD5: value[:16]}}
	assert.Equal(t, []digest.Algorithm{digest.SHA256, digest.MD5}, survey.Medium("x", now, weak).Items[0].Digests)
	given := survey.Against{
		Digests: map[digest.Algorithm]digest.Value{digest.SHA512: value, digest.SHA3512: value, digest.BLAKE2b: value},
	}
	assert.Len(t, survey.Medium("x", now, given).Items[0].Digests, 4)
}
