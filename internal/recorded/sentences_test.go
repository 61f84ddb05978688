package recorded

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/diagnose"
	"endeixis/core/judge"
	"endeixis/core/ledger"
	"endeixis/core/survey"
)

// TestEveryRecordReadsAsSentences: of each kind it is said what happened and for whom; nothing in them is
// unfinished, and what people wrote is quoted harmlessly.
func TestEveryRecordReadsAsSentences(t *testing.T) {
	t.Parallel()
	seen := map[ledger.Kind]bool{}
	for _, b := range append(life(), happened()...) {
		seen[b.Kind()] = true
		sentences := Sentences(Head{Kind: b.Kind(), At: began, By: "ines", Software: "endeixis 0", Subject: "x"}, b)
		require.GreaterOrEqual(t, len(sentences), 2, "%s says nothing of itself", b.Kind())
		all := strings.Join(sentences, "\n")
		assert.Contains(t, all, "for ines on 2026-03-01 08:00:00 UTC")
		for _, sentence := range sentences {
			assert.Regexp(t, `^[^ ].*[.”:]$`, sentence, b.Kind())
			assert.NotContains(t, sentence, "%!", b.Kind())
			assert.NotContains(t, sentence, "  ", b.Kind())
		}
	}
	for _, kind := range ledger.Kinds() {
		assert.True(t, seen[kind], "%s is not tried", kind)
	}
	odd := Sentences(Head{At: began, By: "a\x1b[31mb"}, WaiverGranted{Ground: "not-listed", Pattern: "*\u202e", Reason: "\x07"})
	assert.NotRegexp(t, "[\\x00-\\x08\\x1b\\x{202e}]", strings.Join(odd, ""))
}

// TestTermsAsWrittenAndAsRead: what an outcome is found by is the same whether it is written or read again.
func TestTermsAsWrittenAndAsRead(t *testing.T) {
	t.Parallel()
	var b ItemOutcome
	require.NoError(t, b.Put(Evidence{Item: &survey.Item{Path: "a.bin", Role: survey.Artifact}, Outcome: judge.Outcome{Grounds: []judge.Ground{
		{Code: judge.SignerUnknown, Signature: &judge.SignatureFacts{Issuer: "89abcdef01234567"}},
		{Code: judge.WaivedGround, Waiver: &judge.WaiverFacts{Record: 12}},
	}}}))
	read := b
	read.found = nil
	assert.Equal(t, Terms(Head{}, b), Terms(Head{}, read))
	again := ItemRejudged{}
	require.NoError(t, again.Put(judge.Outcome{Grounds: []judge.Ground{
		{Code: judge.DigestMismatch, Causes: []diagnose.Cause{{Code: diagnose.Truncated}}},
	}}))
	assert.Len(t, Terms(Head{}, again), 2)
	reread := again
	reread.found = nil
	assert.Equal(t, Terms(Head{}, again), Terms(Head{}, reread))
	long := BatchResult{Label: strings.Repeat("é", 900) + "\x00\xff"}
	for _, term := range Terms(Head{}, long) {
		assert.LessOrEqual(t, len(term.Value), maxTerm)
		assert.Equal(t, strings.ToValidUTF8(term.Value, "?"), term.Value)
	}
}
