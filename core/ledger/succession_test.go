package ledger_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/mod/sumdb/note"

	. "endeixis/core/ledger"
)

// A key signs, and is known by its public half.
type key struct {
	signer   note.Signer
	verifier note.Verifier
	public   string
}

func newKey(t *testing.T) key {
	t.Helper()
	secret, public, err := note.GenerateKey(nil, "ledger.example")
	require.NoError(t, err)
	signer, err := note.NewSigner(secret)
	require.NoError(t, err)
	verifier, err := note.NewVerifier(public)
	require.NoError(t, err)
	return key{signer, verifier, public}
}

// TestSuccession: a key is succeeded by the one that it has signed, and by no other.
func TestSuccession(t *testing.T) {
	a, b, c, stranger := newKey(t), newKey(t), newKey(t), newKey(t)
	signed := func(by, next key, size int64) string {
		out, err := Succession{
			Origin: "ledger.example/ledger", Next: next.public, Size: size, Root: Leaf([]byte("x")),
		}.Sign(by.signer)
		require.NoError(t, err)
		return out
	}
	ab, bc, forged := signed(a, b, 7), signed(b, c, 9), signed(stranger, c, 7)
	read, err := OpenSuccession(ab, note.VerifierList(a.verifier))
	require.NoError(t, err)
	assert.Equal(t, Succession{Origin: "ledger.example/ledger", Next: b.public, Size: 7, Root: Leaf([]byte("x"))}, read)
	hashes := func(keys []note.Verifier) []uint32 {
		var out []uint32
		for _, k := range keys {
			out = append(out, k.KeyHash())
		}
		return out
	}
	for what, of := range map[string]struct {
		successions []string
		want        []key
	}{
		"none":             {nil, []key{a}},
		"both":             {[]string{ab, bc}, []key{a, b, c}},
		"in another order": {[]string{forged, bc, ab}, []key{a, b, c}},
		"a gap":            {[]string{bc}, []key{a}},
		"a stranger's":     {[]string{forged}, []key{a}},
		"changed":          {[]string{strings.Replace(ab, "size 7", "size 8", 1)}, []key{a}},
		"to itself":        {[]string{signed(a, a, 1)}, []key{a}},
	} {
		var want []uint32
		for _, k := range of.want {
			want = append(want, k.verifier.KeyHash())
		}
		assert.Equal(t, want, hashes(Successors(a.verifier, of.successions)), what)
	}
	for _, text := range []string{"", "endeixis key succession 1\n", strings.Split(ab, "\n\n")[0] + "\nmore\n", strings.Replace(strings.Split(ab, "\n\n")[0], b.public, "none", 1) + "\n"} {
		other, err := note.Sign(&note.Note{Text: text + "\n"}, a.signer)
		if err != nil {
			continue
		}
		_, err = OpenSuccession(string(other), note.VerifierList(a.verifier))
		var untrusted *SuccessionError
		require.ErrorAs(t, err, &untrusted, "%q", text)
	}
}
