package openpgp_test

import (
	"bytes"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/openpgp"
	"endeixis/core/openpgp/pgptest"
)

// TestOddPublishers reads what real publishers' tools write: tails that name another
// kind than the head, and packets beside a signature that mean nothing to others. What
// is damaged otherwise stays so.
func TestOddPublishers(t *testing.T) {
	t.Parallel()
	born := time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC)
	made := pgptest.Simple("odd", pgptest.Ed25519, born, "Odd")
	packet := made.Primary.Sign([]byte("content"), pgptest.Sig{Created: born})
	armored := pgptest.Armor("PGP SIGNATURE", packet)
	tail := func(line string) []byte {
		return bytes.Replace(armored, []byte("-----END PGP SIGNATURE-----"), []byte(line), 1)
	}
	private := []byte{0xc0 | 60, 3, 1, 2, 3}
	for what, data := range map[string][]byte{
		"a tail of another kind":     tail("-----END PGP MESSAGE-----"),
		"the tail of a key":          tail("-----END PGP PUBLIC KEY BLOCK-----"),
		"a private packet before":    append(bytes.Clone(private), packet...),
		"a private packet behind":    append(bytes.Clone(packet), private...),
		"a later kind, not critical": append([]byte{0xc0 | 45, 1, 0}, packet...),
	} {
		sigs, err := openpgp.ReadSignatures(data)
		require.NoError(t, err, what)
		assert.Len(t, sigs, 1, what)
	}
	for what, data := range map[string][]byte{
		"no tail":               tail(""),
		"a tail of no OpenPGP":  tail("-----END CERTIFICATE-----"),
		"a second head":         tail("-----BEGIN PGP SIGNATURE-----"),
		"a critical packet":     append([]byte{0xc0 | 39, 1, 0}, packet...),
		"content beside":        append([]byte{0xc0 | 11, 1, 0}, packet...),
		"only a private packet": private,
	} {
		_, err := openpgp.ReadSignatures(data)
		assert.Error(t, err, what)
	}
}
