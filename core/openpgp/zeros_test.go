package openpgp_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/openpgp"
	"endeixis/core/openpgp/pgptest"
)

// TestNumbersThatBeginWithZeros: one number of 256 is a byte shorter than the others when it
// is written without the zeros before it (RFC 9580, section 3.2), in signatures and in keys.
func TestNumbersThatBeginWithZeros(t *testing.T) {
	for name, algorithm := range map[string]pgptest.Algorithm{
		"RSA": pgptest.RSA2048, "Ed25519 legacy": pgptest.Ed25519Legacy, "P-256": pgptest.P256, "P-384": pgptest.P384,
		"P-521": pgptest.P521, "secp256k1": pgptest.Secp256k1, "Brainpool 256": pgptest.Brainpool256, "DSA 2048": pgptest.DSA2048,
	} {
		t.Run("signatures by "+name, func(t *testing.T) {
			t.Parallel()
			made := simple("zeros", algorithm)
			cert := readCert(t, made.Bytes())
			longest, shorter := 0, 0
			for i := range 1500 {
				text := fmt.Appendf(nil, "tides of day %d", i)
				sig := made.Primary.Sign(text, pgptest.Sig{Created: signedAt})
				longest = max(longest, len(sig))
				if len(sig) == longest && i > 3 {
					continue
				}
				shorter++
				result := verify(t, sig, text, rules(), cert)
				require.Equal(t, openpgp.Valid, result.Status, "%d: %s", i, result.Reason)
				if shorter == 6 {
					break
				}
			}
			assert.Greater(t, shorter, 4, "none was short")
		})
	}
	for name, algorithm := range map[string]pgptest.Algorithm{"Ed25519": pgptest.Ed25519, "Ed25519 legacy": pgptest.Ed25519Legacy, "P-256": pgptest.P256} {
		t.Run("keys of "+name, func(t *testing.T) {
			t.Parallel()
			for i := range 300 {
				made := simple(fmt.Sprint("zeros ", i), algorithm)
				cert := readCert(t, made.Bytes())
				require.Equal(t, made.Primary.Fingerprint(), string(cert.Primary.Fingerprint))
				result := verify(
					t, made.Primary.Sign(document, pgptest.Sig{Created: signedAt}), document, rules(), cert,
				)
				require.Equal(t, openpgp.Valid, result.Status, "%d: %s", i, result.Reason)
			}
		})
	}
}
