package survey

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/manifest"
	"endeixis/core/openpgp/pgptest"
)

// TestReadList: of a signed text only what the signatures cover is shown, without the
// frame's escapes; lines planted around it are told and not used.
func TestReadList(t *testing.T) {
	const digest = "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"
	key := pgptest.NewKey("list", pgptest.Ed25519, time.Unix(1_700_000_000, 0))
	frame := string(
		pgptest.Cleartext(
			"- a remark\n"+digest+"  gauge.bin\n"+digest+"  -odd.bin\n",
			pgptest.Sig{Created: time.Unix(1_710_000_000, 0)}, key,
		),
	)
	planted := digest + "  planted.bin\n"
	for name, c := range map[string]struct {
		text  string
		codes []manifest.ProblemCode
		line  int
	}{
		"the frame alone": {frame, []manifest.ProblemCode{manifest.SignedText}, 5},
		"text before":     {planted + frame, []manifest.ProblemCode{manifest.OutsideText, manifest.SignedText}, 6},
		"text behind":     {frame + planted, []manifest.ProblemCode{manifest.OutsideText, manifest.SignedText}, 5},
	} {
		m, err := ReadList(strings.NewReader(c.text), manifest.Options{FileName: "SHA256SUMS.asc"})
		require.NoError(t, err)
		require.Equal(t, 2, m.Entries.Len(), name)
		assert.Equal(t, []string{"gauge.bin", "-odd.bin"}, []string{m.Entries.At(0).Name, m.Entries.At(1).Name})
		assert.Equal(t, c.line, m.Entries.At(0).Line, name)
		var codes []manifest.ProblemCode
		for _, p := range m.Problems {
			codes = append(codes, p.Code)
		}
		assert.Equal(t, c.codes, codes, name)
	}
	m, err := ReadList(strings.NewReader(strings.Replace(frame, "END PGP SIGNATURE", "END", 1)), manifest.Options{})
	require.NoError(t, err)
	assert.Zero(t, m.Entries.Len())
	require.Len(t, m.Problems, 1)
	assert.Contains(t, m.Problems[0].Message, "is damaged, and nothing in it is used")
	m, err = ReadList(strings.NewReader(planted), manifest.Options{})
	require.NoError(t, err)
	assert.Equal(t, 1, m.Entries.Len(), "any other text is read as it is")
	m, err = ReadList(strings.NewReader(frame), manifest.Options{MaxBytes: 10})
	var limit *manifest.LimitError
	assert.ErrorAs(t, err, &limit)
	assert.NotNil(t, m)
}
