package survey

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/openpgp/pgptest"
)

// TestRecognise: what somebody pasted is told apart, whatever stands around it.
func TestRecognise(t *testing.T) {
	t.Parallel()
	born := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	key := pgptest.NewKey("recognise", pgptest.Ed25519, born)
	sum := strings.Repeat("ab", 32)
	for name, c := range map[string]struct {
		text string
		want Recognised
	}{
		"blank":     {" \n\t", Recognised{Kind: NothingText}},
		"a letter":  {"Dear Ines, all is well.", Recognised{Kind: NothingText}},
		"a value":   {"AB AB " + strings.Repeat("ab ", 30), Recognised{Kind: ValueText, Says: "SHA-256 or another of its length", Entries: 1}},
		"labelled":  {"SHA-256: " + sum, Recognised{Kind: ValueText, Says: "SHA-256, as it says", Entries: 1}},
		"one line":  {sum + "  gauge.img", Recognised{Kind: ListText, Entries: 1}},
		"a list":    {sum + "  gauge.img\n" + sum + "  boot.img\n", Recognised{Kind: ListText, Entries: 2}},
		"signature": {string(key.Sign([]byte("x"), pgptest.Sig{Created: born})), Recognised{Kind: SignatureText}},
	} {
		got, err := Recognise([]byte(c.text))
		require.NoError(t, err, name)
		assert.Len(t, got.Marks, c.want.Entries, name)
		got.Marks = nil
		assert.Equal(t, c.want, got, name)
	}
	may := pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}}
	got, err := Recognise(pgptest.NewCertificate(key).UserID("Tidewright Instruments", may).Bytes())
	require.NoError(t, err)
	assert.Equal(t, KeyText, got.Kind)
	assert.Len(t, got.Says, 40)
}
