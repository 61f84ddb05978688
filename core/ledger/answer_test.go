package ledger_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/mod/sumdb/note"

	. "endeixis/core/ledger"
)

// TestAnswer: an answer counts for its question and its words alone, by the ledger's key.
func TestAnswer(t *testing.T) {
	pair, stranger := newKey(t), newKey(t).verifier
	signer, verifier := pair.signer, pair.verifier
	said, err := SaidOf("All holds.", -1, nil)
	require.NoError(t, err)
	a := Answer{Nonce: "n1", Size: 7, Root: "abc=", Holds: true, Said: said}
	signed, err := a.Sign(signer)
	require.NoError(t, err)
	require.NoError(t, a.Check(signed, verifier))
	for what, c := range map[string]struct {
		change   func(*Answer)
		signed   string
		verifier note.Verifier
		says     string
	}{
		"another question":  {func(a *Answer) { a.Nonce = "n2" }, signed, verifier, "another question"},
		"another outcome":   {func(a *Answer) { a.Holds = false }, signed, verifier, "not what was told"},
		"another size":      {func(a *Answer) { a.Size++ }, signed, verifier, "not what was told"},
		"another beginning": {func(a *Answer) { a.From = 3 }, signed, verifier, "not what was told"},
		"another root":      {func(a *Answer) { a.Root = "abd=" }, signed, verifier, "not what was told"},
		"other words":       {func(a *Answer) { a.Said = "x" }, signed, verifier, "not what was told"},
		"another's key":     {func(*Answer) {}, signed, stranger, "not signed by the key"},
		"no signature":      {func(*Answer) {}, "", verifier, "not signed"},
		"a changed one":     {func(*Answer) {}, strings.Replace(signed, "size 7", "size 8", 1), verifier, "not signed by the key"},
	} {
		other := a
		c.change(&other)
		assert.ErrorContains(t, other.Check(c.signed, c.verifier), c.says, what)
	}
	_, err = Answer{Nonce: "n1\noutcome holds"}.Sign(signer)
	require.Error(t, err, "a nonce is one word")
	line, err := SaidOf("a", 1, []string{"b"})
	require.NoError(t, err)
	two, err := SaidOf("a", 1, []string{"b", ""})
	require.NoError(t, err)
	assert.NotEqual(t, line, two)
}
