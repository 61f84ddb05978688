package openpgp_test

import (
	"bytes"
	"encoding/hex"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/openpgp"
	"endeixis/core/openpgp/pgptest"
)

// six returns a version 6 certificate in its usual form: a direct-key signature
// states what the key may do, and the user ID is certified besides.
func six(seed string, algorithm pgptest.Algorithm) *pgptest.Certificate {
	key := pgptest.NewKey6(seed, algorithm, born)
	self := pgptest.Sig{
		Type: pgptest.DirectKey, Created: born, Hash: pgptest.SHA512,
		Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MayCertify | pgptest.MaySign)},
	}
	return pgptest.NewCertificate(key).Key(key, self).UserID("Six", pgptest.Sig{Created: born})
}

func TestVersion6(t *testing.T) {
	for name, algorithm := range map[string]pgptest.Algorithm{"Ed25519": pgptest.Ed25519, "Ed448": pgptest.Ed448, "P-256": pgptest.P256, "RSA": pgptest.RSA2048} {
		made := six(name, algorithm)
		cert := readCert(t, made.Armored())
		assert.Equal(t, 6, cert.Primary.Version)
		assert.Len(t, string(cert.Primary.Fingerprint), 64)
		assert.Equal(t, made.Primary.Fingerprint(), string(cert.Primary.Fingerprint))
		assert.Equal(
			t, strings.ToUpper(made.Primary.Fingerprint()[:16]), cert.Primary.KeyID.String(),
			"the high end, not the low one",
		)
		for _, hash := range []byte{pgptest.SHA256, pgptest.SHA384, pgptest.SHA512, pgptest.SHA3_512} {
			sig := made.Primary.Sign(document, pgptest.Sig{Created: signedAt, Hash: hash})
			r := verify(t, sig, document, rules(), cert)
			if want := openpgp.HashShort; name == "Ed448" && (hash == pgptest.SHA256 || hash == pgptest.SHA384) {
				assert.Equal(t, want, r.Status)
			} else {
				assert.Equal(t, openpgp.Valid, r.Status, "%s: %s", name, r.Reason)
			}
			assert.Equal(t, openpgp.Invalid, verify(t, sig, document[1:], rules(), cert).Status)
			sigs, err := openpgp.ReadSignatures(sig)
			require.NoError(t, err)
			assert.NotEmpty(t, sigs[0].Salt(), "the salt comes first")
		}
	}
	// The salt has to be as long as the hash asks, and SHA-1 has none.
	made := six("salt", pgptest.Ed25519)
	_, err := openpgp.ReadSignatures(
		made.Primary.Sign(document, pgptest.Sig{Created: signedAt, Salt: make([]byte, 17)}),
	)
	assert.ErrorContains(t, err, "a salt of 17 bytes does not go with SHA-256")
	_, err = openpgp.ReadSignatures(
		made.Primary.Sign(document, pgptest.Sig{Created: signedAt, Hash: pgptest.SHA1, Salt: []byte{}}),
	)
	assert.ErrorContains(t, err, "does not go with SHA-1")

	// A key of one version does not make signatures of another.
	four := simple("four", pgptest.Ed25519)
	crossed := four.Primary.Sign(
		document,
		pgptest.Sig{Created: signedAt, NoIssuer: true, Hashed: []pgptest.Sub{{Type: 16, Body: keyID(t, made)}}},
	)
	r := verify(t, crossed, document, rules(), readCert(t, made.Bytes()))
	assert.Equal(t, openpgp.Invalid, r.Status)
	// The same seed gives both versions the same secret, so that only the
	// version is wrong.
	twin4, twin6 := simple("twins", pgptest.Ed25519), pgptest.NewKey6("twins", pgptest.Ed25519, born)
	id, err := hex.DecodeString(twin4.Primary.Fingerprint()[24:])
	require.NoError(t, err)
	foreign := twin6.Sign(
		document, pgptest.Sig{Created: signedAt, NoIssuer: true, Hashed: []pgptest.Sub{{Type: 16, Body: id}}},
	)
	assert.Equal(t, openpgp.Invalid, verify(t, foreign, document, rules(), readCert(t, twin4.Bytes())).Status)
	legacy := readCert(t, six("legacy", pgptest.Ed25519Legacy).Bytes())
	assert.Contains(t, legacy.Primary.Unusable(), "not allowed in keys of version 6")
}

func keyID(t *testing.T, c *pgptest.Certificate) []byte {
	id, err := hex.DecodeString(c.Primary.Fingerprint()[:16])
	require.NoError(t, err)
	return id
}

// TestVersion6Subkeys binds a signing subkey with its signature back.
func TestVersion6Subkeys(t *testing.T) {
	made := six("subkeys", pgptest.Ed25519)
	sub := pgptest.NewKey6("a subkey", pgptest.Ed25519, born)
	good := *made
	good.Subkey(
		sub, pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}},
		&pgptest.Sig{Created: born},
	)
	sig := sub.Sign(document, pgptest.Sig{Created: signedAt})
	assert.Equal(t, openpgp.Valid, verify(t, sig, document, rules(), readCert(t, good.Bytes())).Status)
	bare := *made
	bare.Subkey(sub, pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}}, nil)
	assert.Equal(t, openpgp.SignerUnfit, verify(t, sig, document, rules(), readCert(t, bare.Bytes())).Status)
}

// TestVersion3Keys are read and shown, and no signature counts by them.
func TestVersion3Keys(t *testing.T) {
	key := pgptest.NewKey3("old", born)
	made := pgptest.NewCertificate(key).
		Add(pgptest.Packet(13, []byte("Old"))).
		Certify(key, "Old", pgptest.Sig{Version: 3, Type: pgptest.Certification, Created: born})
	cert := readCert(t, made.Bytes())
	assert.Equal(t, 3, cert.Primary.Version)
	assert.Len(t, string(cert.Primary.Fingerprint), 32)
	assert.Equal(t, key.Fingerprint(), string(cert.Primary.Fingerprint))
	assert.Contains(t, cert.Primary.Unusable(), "can be forged")
	sig := key.Sign(document, pgptest.Sig{Version: 3, Created: signedAt})
	assert.Equal(t, openpgp.Unsupported, verify(t, sig, document, rules(), cert).Status)
}

// TestVersion3Signatures by a version 4 key are verified; they have no
// subpackets, and name the key by its ID alone.
func TestVersion3Signatures(t *testing.T) {
	made := simple("three", pgptest.RSA2048)
	cert := readCert(t, made.Bytes())
	sig := made.Primary.Sign(document, pgptest.Sig{Version: 3, Created: signedAt})
	r := verify(t, sig, document, rules(), cert)
	assert.Equal(t, openpgp.Valid, r.Status, r.Reason)
	assert.Equal(t, openpgp.Invalid, verify(t, sig, document[1:], rules(), cert).Status)
	later := made.Primary.Sign(document, pgptest.Sig{Version: 3, Created: now.AddDate(0, 0, 1)})
	assert.Equal(t, openpgp.SignatureInFuture, verify(t, later, document, rules(), cert).Status)
	weak := made.Primary.Sign(document, pgptest.Sig{Version: 3, Created: signedAt, Hash: pgptest.RIPEMD160})
	assert.Equal(t, openpgp.Weak, verify(t, weak, document, rules(), cert).Status)
	body := bytes.Clone(sig[len(sig)-len(made.Primary.Sign(nil, pgptest.Sig{Version: 3}))+3:])
	body[1] = 6
	_, err := openpgp.ParseSignature(body)
	assert.Error(t, err)
}

// TestTextSignatures hold whatever the line endings, and not over what is no
// text.
func TestTextSignatures(t *testing.T) {
	made := simple("text", pgptest.Ed25519)
	cert := readCert(t, made.Bytes())
	text := []byte("tide table\nharbour \r\n\nend")
	sig := made.Primary.Sign(text, pgptest.Sig{Type: pgptest.Text, Created: signedAt})
	for _, same := range []string{"tide table\nharbour \n\nend", "tide table\r\nharbour \r\n\r\nend"} {
		r := verify(t, sig, []byte(same), rules(), cert)
		assert.Equal(t, openpgp.Valid, r.Status, "%q: %s", same, r.Reason)
	}
	for _, other := range []string{"tide table\nharbour\n\nend", "tide table harbour \n\nend", "tide table\nharbour \n\nend\n"} {
		assert.Equal(t, openpgp.Invalid, verify(t, sig, []byte(other), rules(), cert).Status, "%q", other)
	}
	image := []byte("head\n\x00\x01\r\n\x02")
	sig = made.Primary.Sign(image, pgptest.Sig{Type: pgptest.Text, Created: signedAt})
	r := verify(t, sig, image, rules(), cert)
	assert.Equal(t, openpgp.Unacceptable, r.Status)
	assert.Contains(t, r.Reason, "leaves line endings open")
}

// TestDegenerateKeys are shown with what is wrong, and never verify anything.
func TestDegenerateKeys(t *testing.T) {
	good := pgptest.NewCertificate(pgptest.NewKey("curve", pgptest.Brainpool256, born)).Bytes()
	for name, change := range map[string]func(b []byte){
		"a point off the curve":      func(b []byte) { b[len(b)-1] ^= 1 },
		"a coordinate beyond field":  func(b []byte) { copy(b[len(b)-32:], bytes.Repeat([]byte{0xff}, 32)) },
		"a compressed point's mark":  func(b []byte) { b[len(b)-65] = 6 },
		"a curve that nobody knows":  func(b []byte) { b[2+6+1] ^= 0x70 },
		"the point at infinity, 0,0": func(b []byte) { clear(b[len(b)-64:]) },
	} {
		data := bytes.Clone(good)
		change(data)
		certs, _, err := openpgp.ReadCertificates(data)
		if err != nil {
			continue // refused while reading is as well
		}
		assert.NotEmpty(t, certs[0].Primary.Unusable(), name)
	}
	made := simple("dsa", pgptest.DSA1024)
	cert := readCert(t, made.Bytes())
	r := verify(t, made.Primary.Sign(document, pgptest.Sig{Created: signedAt}), document, rules(), cert)
	assert.Equal(t, openpgp.Weak, r.Status, "1024 bits are below the policy: "+r.Reason)
	low := rules()
	low.RSABits, low.DocumentHashBits = 1024, 80
	r = verify(t, made.Primary.Sign(document, pgptest.Sig{Created: signedAt}), document, low, cert)
	assert.Equal(t, openpgp.Valid, r.Status, r.Reason)
}
