package openpgp

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"endeixis/core/openpgp/pgptest"
)

// BenchmarkCost compares what verifying costs with what [PublicKey.cost] says: the
// figure of interest is “stated/spent”, which should lie around 1.
func BenchmarkCost(b *testing.B) {
	born := time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC)
	for name, algorithm := range map[string]pgptest.Algorithm{
		"RSA2048": pgptest.RSA2048, "RSA4096": pgptest.RSA4096, "DSA2048": pgptest.DSA2048, "Ed25519": pgptest.Ed25519, "Ed448": pgptest.Ed448,
		"P256": pgptest.P256, "P384": pgptest.P384, "P521": pgptest.P521, "secp256k1": pgptest.Secp256k1, "Brainpool256": pgptest.Brainpool256, "Brainpool512": pgptest.Brainpool512,
	} {
		b.Run(name, func(b *testing.B) {
			key := pgptest.NewKey("cost", algorithm, born)
			certs, _, err := ReadCertificates(pgptest.NewCertificate(key).Bytes())
			require.NoError(b, err)
			sigs, err := ReadSignatures(key.Sign([]byte("x"), pgptest.Sig{Created: born}))
			require.NoError(b, err)
			doc, err := sigs[0].over([]byte("x"))
			require.NoError(b, err)
			for b.Loop() {
				require.NoError(b, certs[0].Primary.verify(sigs[0], doc.Digest))
			}
			b.ReportMetric(float64(certs[0].Primary.cost())*float64(b.N)/float64(b.Elapsed()), "stated/spent")
		})
	}
}
