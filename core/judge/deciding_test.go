package judge_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	. "endeixis/core/judge"
)

func TestDeciding(t *testing.T) {
	match := Ground{Code: DigestMatch, Effect: Supports, Sentence: "It matches."}
	grounds := []Ground{
		match,
		{Code: SignatureValid, Effect: Supports, Sentence: "It is signed."},
		{Code: WeakDigestOnly, Effect: Withholds, Sentence: "It is weak."},
		{Code: DigestMismatch, Effect: Refuses, Sentence: "It differs."},
	}
	for v, want := range map[Verdict]string{Cleared: "It is signed.", Unproven: "It is weak.", Refused: "It differs.", "": "It differs."} {
		assert.Equal(t, want, Deciding(v, grounds), v)
	}
	assert.Equal(t, "It matches.", Deciding(Cleared, []Ground{match}))
	assert.Equal(t, "It is weak.", Deciding("", grounds[:3]))
	assert.Empty(t, Deciding("", []Ground{match}))
	assert.Empty(t, Deciding(Refused, nil))
	noted := []Ground{
		{Code: ByMeasurer, Effect: Notes, Sentence: "A program read it."},
		{Code: SignerExpired, Effect: Notes, Sentence: "Its key has expired since.", Signature: &SignatureFacts{}},
	}
	assert.Equal(t, "Its key has expired since.", Deciding(Cleared, noted))
	assert.Equal(t, "A program read it.", Deciding(Cleared, noted[:1]))
	assert.Equal(t, "It matches.", Deciding(Cleared, append(noted, match)))
	assert.Empty(t, Deciding(Unproven, noted), "a note withholds nothing")
}
