package openpgp_test

import (
	"bytes"
	"crypto/ed25519"
	"encoding/hex"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/openpgp"
	"endeixis/core/openpgp/pgptest"
)

// keyPacket makes a public key of version 4, or of version 6, from its algorithm and
// material.
func keyPacket(version, algorithm byte, material []byte) []byte {
	body := []byte{version, 0x66, 0, 0, 0, algorithm}
	if version == 6 {
		body = append(body, 0, 0, 0, byte(len(material)))
	}
	body = append(body, material...)
	return append([]byte{0xc6, byte(len(body))}, body...)
}

// TestPointsOfSmallOrder reads every encoding of every point whose order divides the
// cofactor, as RFC 8032 writes keys and as they can be written otherwise: anybody can
// make a signature that such a key verifies.
func TestPointsOfSmallOrder(t *testing.T) {
	t.Parallel()
	zero := strings.Repeat("00", 31)
	p25519 := "ff" + strings.Repeat("ff", 30) // between the first byte and the last one's sign
	small := []string{
		"01" + zero,
		"00" + zero,
		"ec" + p25519[2:] + "7f",
		"c7176a703d4dd84fba3c0b760d10670f2a2053fa2c39ccc64ec7fd7792ac037a",
		"26e8958fc2b227b045c3f489f2ef98f0d5dfac05d3c63339b13802886d53fc05",
		"ed" + p25519[2:] + "7f",
		"ee" + p25519[2:] + "7f", // p and p+1: zero and one again
	}
	for _, low := range small {
		for _, sign := range []byte{0, 0x80} {
			point, err := hex.DecodeString(low)
			require.NoError(t, err)
			point[31] ^= sign
			for name, packet := range map[string][]byte{
				"version 4": keyPacket(4, 27, point), "version 6": keyPacket(6, 27, point),
				"legacy": keyPacket(4, 22, bytes.Join([][]byte{{9}, {0x2b, 0x06, 0x01, 0x04, 0x01, 0xda, 0x47, 0x0f, 0x01}, {0x01, 0x07, 0x40}, point}, nil)),
			} {
				certs, _, err := openpgp.ReadCertificates(packet)
				require.NoError(t, err, "%s %x", name, point)
				assert.NotEmpty(t, certs[0].Primary.Unusable(), "%s %x", name, point)
			}
		}
	}
	minus := "fe" + strings.Repeat("ff", 27) + "fe" + strings.Repeat("ff", 27)
	for _, text := range []string{"01" + strings.Repeat("00", 56), strings.Repeat("00", 57), minus + "00", "ff" + minus[2:] + "00", "00" + strings.Repeat("00", 27) + strings.Repeat("ff", 28) + "00"} {
		for _, sign := range []byte{0, 0x80} {
			point, err := hex.DecodeString(text)
			require.NoError(t, err)
			point[56] ^= sign
			certs, _, err := openpgp.ReadCertificates(keyPacket(4, 28, point))
			require.NoError(t, err, "%x", point)
			assert.NotEmpty(t, certs[0].Primary.Unusable(), "%x", point)
		}
	}
	// A point that is none: y = 2 has no x on edwards25519.
	certs, _, err := openpgp.ReadCertificates(keyPacket(4, 27, append([]byte{2}, make([]byte, 31)...)))
	require.NoError(t, err)
	assert.NotEmpty(t, certs[0].Primary.Unusable())

	// The standard library takes such a signature; nothing here does.
	anybody := pgptest.SmallOrder(born)
	made := pgptest.NewCertificate(anybody).UserID("Anybody", pgptest.Sig{Created: born}).Bytes()
	sigs, err := openpgp.ReadSignatures(anybody.Sign(document, pgptest.Sig{Created: signedAt}))
	require.NoError(t, err)
	raw := sigs[0].Raw
	assert.True(
		t, ed25519.Verify(made[len(pgptest.NewCertificate(anybody).Bytes())-32:][:32], document, raw[len(raw)-64:]),
	)
	r := verify(t, anybody.Sign(document, pgptest.Sig{Created: signedAt}), document, rules(), readCert(t, made))
	assert.Equal(t, openpgp.Unsupported, r.Status)
	assert.Contains(t, r.Reason, "small order")
}
