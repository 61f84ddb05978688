package survey

import (
	"io/fs"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/openpgp/pgptest"
)

// noting notes the files that are opened.
type noting struct {
	fstest.MapFS
	opened *[]string
}

func (n noting) Open(name string) (fs.File, error) {
	*n.opened = append(*n.opened, name)
	return n.MapFS.Open(name)
}

// TestCheckNames looks at the files that are named by hand and at no other, and
// finds the same mistakes as the survey.
func TestCheckNames(t *testing.T) {
	key := pgptest.NewKey("names", pgptest.Ed25519, born)
	files := folder(map[string]string{
		"a.img": "a", "b.img": "b", "renamed.sig": string(key.Sign([]byte("a"), pgptest.Sig{Created: born})),
		"SHA256SUMS": line("a", "a.img"), "SHA512SUMS": line("b", "b.img"), "notes.txt": "hello", "c.zip": "x",
	})
	pair := func(signature, file string) Options {
		return Options{Corrections: []Correction{{Signature: signature, File: file}}}
	}
	from := func(of string) Options { return Options{Provenance: map[string]Provenance{of: {Channel: Mirror}}} }
	for name, test := range map[string]struct {
		opts Options
		good bool
		// opened is what was read of it.
		opened []string
	}{
		"nothing":                 {Options{}, true, nil},
		"a pair":                  {pair("renamed.sig", "a.img"), true, []string{"renamed.sig"}},
		"no signature":            {pair("a.img", "b.img"), false, nil},
		"not there":               {pair("renamed.sig", "z.img"), false, []string{"renamed.sig"}},
		"over itself":             {pair("renamed.sig", "renamed.sig"), false, []string{"renamed.sig"}},
		"leads out":               {pair("../renamed.sig", "a.img"), false, nil},
		"a manifest's origin":     {from("SHA256SUMS"), true, []string{"SHA256SUMS"}},
		"an artifact's origin":    {from("a.img"), false, nil},
		"a copy":                  {Options{Copies: []Copy{{Of: "SHA512SUMS"}}}, true, []string{"SHA512SUMS"}},
		"a copy of what is none":  {Options{Copies: []Copy{{Of: "notes.txt"}}}, false, []string{"notes.txt"}},
		"inside, for the survey":  {pair("c.zip//x.sig", "a.img"), true, nil},
		"a manifest in a archive": {from("c.zip//SHA256SUMS"), true, nil},
	} {
		opened := []string{}
		err := CheckNames(noting{files, &opened}, test.opts)
		assert.Equal(t, test.good, err == nil, "%s: %v", name, err)
		assert.ElementsMatch(t, test.opened, opened, name)
		if len(test.opened) > 0 || !test.good {
			_, whole := Run(t.Context(), files, test.opts)
			assert.Equal(t, whole, err, name)
		}
	}
	require.NoError(t, CheckNames(files, Options{}))
}
