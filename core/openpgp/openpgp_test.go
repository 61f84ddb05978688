package openpgp_test

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"endeixis/core/openpgp"
	"endeixis/core/openpgp/pgptest"
)

var (
	born     = time.Date(2024, 3, 1, 9, 0, 0, 0, time.UTC)
	signedAt = time.Date(2025, 6, 1, 9, 0, 0, 0, time.UTC)
	now      = time.Date(2026, 6, 1, 9, 0, 0, 0, time.UTC)
	document = []byte("gauge controller firmware 4.2\n")
)

func rules() openpgp.Rules {
	return openpgp.Rules{
		Now: now, Skew: 5 * time.Minute, DocumentHashBits: 128, RSABits: 2048,
		SelfSHA1Before: time.Date(2023, 2, 1, 0, 0, 0, 0, time.UTC),
	}
}

func readCert(t require.TestingT, data []byte) *openpgp.Certificate {
	certs, skipped, err := openpgp.ReadCertificates(data)
	require.NoError(t, err)
	require.Empty(t, skipped)
	require.Len(t, certs, 1)
	return certs[0]
}

// verify reads one signature and verifies it over data with the certificates.
func verify(t require.TestingT, sig, data []byte, rules openpgp.Rules, certs ...*openpgp.Certificate) openpgp.Result {
	sigs, err := openpgp.ReadSignatures(sig)
	require.NoError(t, err)
	require.Len(t, sigs, 1)
	var candidates []openpgp.Candidate
	for _, c := range certs {
		for _, k := range c.Keys() {
			if k.Fingerprint == sigs[0].IssuerFingerprint ||
				sigs[0].IssuerFingerprint == "" && k.KeyID == sigs[0].IssuerKeyID {
				candidates = append(candidates, openpgp.Candidate{Certificate: c, Key: k})
			}
		}
	}
	var doc openpgp.Document
	if h, err := sigs[0].NewHash(); err == nil {
		h.Write(data)
		doc = openpgp.Document{Digest: sigs[0].Finish(h), NotText: openpgp.NotText(h)}
	}
	return openpgp.Verify(sigs[0], doc, candidates, rules)
}

func simple(seed string, algorithm pgptest.Algorithm) *pgptest.Certificate {
	return pgptest.Simple(seed, algorithm, born, "Tidewright Instruments <release@tidewright.example>")
}

// lengths are those of digests, and least are what the standard asks for with a key where
// that is more than 256 bits.
var (
	lengths = map[string]int{"SHA-256": 256, "SHA-384": 384, "SHA-512": 512, "SHA3-256": 256, "SHA3-512": 512}
	least   = map[string]int{"Ed448": 512, "P-384": 384, "P-521": 512, "Brainpool 384": 384, "Brainpool 512": 512}
)

func TestEveryAlgorithmVerifies(t *testing.T) {
	for name, algorithm := range map[string]pgptest.Algorithm{
		"RSA": pgptest.RSA2048, "Ed25519": pgptest.Ed25519, "Ed25519 legacy": pgptest.Ed25519Legacy, "Ed448": pgptest.Ed448,
		"P-256": pgptest.P256, "P-384": pgptest.P384, "P-521": pgptest.P521, "secp256k1": pgptest.Secp256k1,
		"Brainpool 256": pgptest.Brainpool256, "Brainpool 384": pgptest.Brainpool384, "Brainpool 512": pgptest.Brainpool512, "DSA 2048": pgptest.DSA2048,
	} {
		for hashName, hash := range map[string]byte{"SHA-256": pgptest.SHA256, "SHA-384": pgptest.SHA384, "SHA-512": pgptest.SHA512, "SHA3-256": pgptest.SHA3_256, "SHA3-512": pgptest.SHA3_512} {
			t.Run(name+" "+hashName, func(t *testing.T) {
				t.Parallel()
				made := simple("algorithms", algorithm)
				cert := readCert(t, made.Armored())
				assert.Equal(t, made.Primary.Fingerprint(), string(cert.Primary.Fingerprint))
				sig := made.Primary.Sign(document, pgptest.Sig{Created: signedAt, Hash: hash})
				result := verify(t, sig, document, rules(), cert)
				if lengths[hashName] < least[name] {
					assert.Equal(t, openpgp.HashShort, result.Status, result.Reason)
					return
				}
				assert.Equal(t, openpgp.Valid, result.Status, result.Reason)
				assert.Equal(t, cert.Primary, result.Signer.Key)
				for _, s := range result.Steps {
					assert.True(t, s.Holds, s.Question)
				}
				result = verify(t, sig, append([]byte("x"), document...), rules(), cert)
				assert.Equal(t, openpgp.Invalid, result.Status)
				result = verify(t, pgptest.Armor("PGP SIGNATURE", sig), document, rules(), cert)
				assert.Equal(t, openpgp.Valid, result.Status)
			})
		}
	}
}

// The version 4 sample key of RFC 9580, appendix A.1, and of the signature in
// A.2, which sign "OpenPGP". They were made by other hands than ours.
const (
	rfcKey = "98330453f35f0b16092b06010401da470f0101074" +
		"03f098994bdd916ed4053197934e4a87c80733a1280d62f8010992e43ee3b2406"
	rfcSignature = "885e040016080006050255f95f95000a09108cfde12197965a9af62200ff" +
		"56f90cca98e2102637bd983fdb16c131dfd27ed82bf4dde5606e0d756aed3366" +
		"0100d09c4fa11527f038e0f57f2201d82f2ea2c9033265fa6ceb489e854bae61b404"
)

func TestStandardVector(t *testing.T) {
	raw, err := hex.DecodeString(rfcKey)
	require.NoError(t, err)
	cert := readCert(t, raw)
	assert.EqualValues(t, "c959bdbafa32a2f89a153b678cfde12197965a9a", cert.Primary.Fingerprint)
	assert.Equal(t, "8CFDE12197965A9A", cert.Primary.KeyID.String())
	sig, err := hex.DecodeString(rfcSignature)
	require.NoError(t, err)
	// The sample key stands alone: its signature holds, and without a
	// self-signature the key is not fit.
	result := verify(t, sig, []byte("OpenPGP"), rules(), cert)
	assert.Equal(t, openpgp.SignerUnfit, result.Status, result.Reason)
	assert.Equal(t, openpgp.Invalid, verify(t, sig, []byte("OpenPGp"), rules(), cert).Status)
}

// TestDecisions makes one thing wrong at a time.
func TestDecisions(t *testing.T) {
	day := 24 * time.Hour
	key := pgptest.NewKey("decisions", pgptest.Ed25519, born)
	self := func(subs ...pgptest.Sub) pgptest.Sig {
		return pgptest.Sig{
			Created: born, Hashed: append([]pgptest.Sub{pgptest.Flags(pgptest.MayCertify | pgptest.MaySign)}, subs...),
		}
	}
	const id = "Brackwater Radio <sign@brackwater.example>"
	plain := func() *pgptest.Certificate { return pgptest.NewCertificate(key).UserID(id, self()) }
	good := pgptest.Sig{Created: signedAt}

	for _, c := range []struct {
		name string
		cert *pgptest.Certificate
		sig  pgptest.Sig
		key  *pgptest.Key
		want openpgp.Status
	}{
		{name: "all is well", want: openpgp.Valid},
		{name: "another kind of signature", sig: pgptest.Sig{Type: pgptest.Timestamp, Created: signedAt}, want: openpgp.Unacceptable},
		{name: "text mode", sig: pgptest.Sig{Type: pgptest.Text, Created: signedAt}, want: openpgp.Valid},
		{name: "no creation time", sig: pgptest.Sig{NoTime: true}, want: openpgp.Unacceptable},
		{name: "unknown critical subpacket", sig: pgptest.Sig{Created: signedAt, Hashed: []pgptest.Sub{{Type: 77, Critical: true}}}, want: openpgp.Unacceptable},
		{name: "unknown subpacket, not critical", sig: pgptest.Sig{Created: signedAt, Hashed: []pgptest.Sub{{Type: 77}}}, want: openpgp.Valid},
		{name: "critical notation", sig: pgptest.Sig{Created: signedAt, Hashed: []pgptest.Sub{{Type: 20, Critical: true, Body: []byte("xxxx")}}}, want: openpgp.Unacceptable},
		{name: "critical unknown in the unhashed area counts for nothing", sig: pgptest.Sig{Created: signedAt, Unhashed: []pgptest.Sub{{Type: 77, Critical: true}}}, want: openpgp.Valid},
		{name: "signature version 3", sig: pgptest.Sig{Version: 3, Created: signedAt}, want: openpgp.Valid},
		{name: "signature version 5", sig: pgptest.Sig{Version: 5, Created: signedAt}, want: openpgp.Unsupported},
		{name: "signer unknown", key: pgptest.NewKey("a stranger", pgptest.Ed25519, born), want: openpgp.SignerUnknown},
		{name: "no self-signature", cert: pgptest.NewCertificate(key).Add(pgptest.Packet(13, []byte(id))), want: openpgp.SignerUnfit},
		{name: "self-signature by another key", cert: pgptest.NewCertificate(key).Add(pgptest.Packet(13, []byte(id))).Certify(pgptest.NewKey("other", pgptest.Ed25519, born), id, pgptest.Sig{Type: pgptest.Certification, Created: born, NoIssuer: true}), want: openpgp.SignerUnfit},
		{name: "SHA-1 self-signature after the cut-off", cert: pgptest.NewCertificate(key).UserID(id, pgptest.Sig{Created: born, Hash: pgptest.SHA1}), want: openpgp.SignerUnfit},
		{name: "self-signature with an unknown critical part", cert: pgptest.NewCertificate(key).UserID(id, self(pgptest.Sub{Type: 77, Critical: true})), want: openpgp.SignerUnfit},
		{name: "self-signature that has expired itself", cert: pgptest.NewCertificate(key).UserID(id, self(pgptest.Expires(10*day))), want: openpgp.SignerUnfit},
		{name: "self-signature older than the key", cert: pgptest.NewCertificate(key).UserID(id, pgptest.Sig{Created: born.Add(-day), Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}}), want: openpgp.SignerUnfit},
		{name: "self-signature dated tomorrow", cert: pgptest.NewCertificate(key).UserID(id, pgptest.Sig{Created: now.Add(day), Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}}), want: openpgp.SignerUnfit},
		{name: "not marked for signing", cert: pgptest.NewCertificate(key).UserID(id, pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MayCertify)}}), want: openpgp.SignerUnfit},
		{name: "flags by a direct-key signature", cert: pgptest.NewCertificate(key).Key(key, pgptest.Sig{Type: pgptest.DirectKey, Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}}), want: openpgp.Valid},
		{name: "older than the key", sig: pgptest.Sig{Created: born.Add(-day)}, want: openpgp.SignerUnfit},
		{name: "in the future", sig: pgptest.Sig{Created: now.Add(time.Hour)}, want: openpgp.SignatureInFuture},
		{name: "within the skew", sig: pgptest.Sig{Created: now.Add(time.Minute)}, want: openpgp.Valid},
		{name: "key expired before", cert: pgptest.NewCertificate(key).UserID(id, self(pgptest.KeyExpires(30*day))), want: openpgp.SignerExpired},
		{name: "key expired after", cert: pgptest.NewCertificate(key).UserID(id, self(pgptest.KeyExpires(500*day))), want: openpgp.Valid},
		{name: "expiry extended", cert: pgptest.NewCertificate(key).UserID(id, self(pgptest.KeyExpires(30*day))).Certify(key, id, pgptest.Sig{Type: pgptest.Certification, Created: born.Add(20 * day), Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}}), want: openpgp.Valid},
		{name: "signature expired", sig: pgptest.Sig{Created: signedAt, Hashed: []pgptest.Sub{pgptest.Expires(10 * day)}}, want: openpgp.SignatureExpired},
		{name: "compromised later", cert: pgptest.NewCertificate(key).Key(key, pgptest.Sig{Type: pgptest.KeyRevocation, Created: signedAt.Add(day), Hashed: []pgptest.Sub{pgptest.Reason(2, "stolen")}}).UserID(id, self()), want: openpgp.SignerRevoked},
		{name: "revoked without a reason", cert: pgptest.NewCertificate(key).Key(key, pgptest.Sig{Type: pgptest.KeyRevocation, Created: signedAt.Add(day)}).UserID(id, self()), want: openpgp.SignerRevoked},
		{name: "retired later", cert: pgptest.NewCertificate(key).Key(key, pgptest.Sig{Type: pgptest.KeyRevocation, Created: signedAt.Add(day), Hashed: []pgptest.Sub{pgptest.Reason(3, "")}}).UserID(id, self()), want: openpgp.Valid},
		{name: "retired before", cert: pgptest.NewCertificate(key).Key(key, pgptest.Sig{Type: pgptest.KeyRevocation, Created: signedAt.Add(-day), Hashed: []pgptest.Sub{pgptest.Reason(3, "")}}).UserID(id, self()), want: openpgp.SignerRevoked},
		{name: "revocation by a stranger", cert: pgptest.NewCertificate(key).Key(pgptest.NewKey("stranger", pgptest.Ed25519, born), pgptest.Sig{Type: pgptest.KeyRevocation, Created: born}).UserID(id, self()), want: openpgp.Valid},
		{name: "weak hash, and too short for the key", sig: pgptest.Sig{Created: signedAt, Hash: pgptest.SHA1}, want: openpgp.HashShort},
		{name: "SHA-224 is too short for the key", sig: pgptest.Sig{Created: signedAt, Hash: pgptest.SHA224}, want: openpgp.HashShort},
		{name: "a lying key ID beside the fingerprint", sig: pgptest.Sig{Created: signedAt, Unhashed: []pgptest.Sub{{Type: 16, Body: make([]byte, 8)}}}, want: openpgp.Valid},
	} {
		t.Run(c.name, func(t *testing.T) {
			if c.cert == nil {
				c.cert = plain()
			}
			if c.key == nil {
				c.key = key
			}
			if c.sig.Created.IsZero() && !c.sig.NoTime {
				c.sig = good
			}
			result := verify(t, c.key.Sign(document, c.sig), document, rules(), readCert(t, c.cert.Bytes()))
			assert.Equal(t, c.want, result.Status, result.Reason)
			if c.want != openpgp.Valid {
				assert.NotEmpty(t, result.Reason)
				assert.False(t, result.Steps[len(result.Steps)-1].Holds, "the last step is the one that failed")
			}
		})
	}
}

func TestShortRSAKeyIsWeak(t *testing.T) {
	made := simple("short", pgptest.RSA1024)
	result := verify(
		t, made.Primary.Sign(document, pgptest.Sig{Created: signedAt}), document, rules(), readCert(t, made.Bytes()),
	)
	assert.Equal(t, openpgp.Weak, result.Status, result.Reason)
}

// TestCurvesThatThePolicyAccepts leaves out one curve at a time.
func TestCurvesThatThePolicyAccepts(t *testing.T) {
	assert.Len(t, openpgp.Curves(), 9)
	for name, algorithm := range map[string]pgptest.Algorithm{"Ed25519": pgptest.Ed25519Legacy, "Ed448": pgptest.Ed448, "P-384": pgptest.P384, "brainpoolP256r1": pgptest.Brainpool256} {
		made := simple("curves", algorithm)
		sig := made.Primary.Sign(document, pgptest.Sig{Created: signedAt})
		r := rules()
		r.Curves = slices.DeleteFunc(openpgp.Curves(), func(c string) bool { return c == name })
		got := verify(t, sig, document, r, readCert(t, made.Bytes()))
		assert.Equal(t, openpgp.Weak, got.Status)
		assert.Contains(t, got.Reason, "on the curve "+name)
		r.Curves = []string{name}
		assert.Equal(t, openpgp.Valid, verify(t, sig, document, r, readCert(t, made.Bytes())).Status)
	}
}

func TestSigningSubkeyNeedsItsBackSignature(t *testing.T) {
	primary := pgptest.NewKey("primary", pgptest.Ed25519, born)
	sub := pgptest.NewKey("sub", pgptest.RSA2048, born)
	stranger := pgptest.NewKey("stranger", pgptest.Ed25519, born)
	self := pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MayCertify)}}
	signing := pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}}
	start := func() *pgptest.Certificate { return pgptest.NewCertificate(primary).UserID("T", self) }
	sig := sub.Sign(document, pgptest.Sig{Created: signedAt})

	for _, c := range []struct {
		name string
		cert *pgptest.Certificate
		want openpgp.Status
	}{
		{"bound both ways", start().Subkey(sub, signing, &pgptest.Sig{Created: born}), openpgp.Valid},
		{"without", start().Subkey(sub, signing, nil), openpgp.SignerUnfit},
		{"of the wrong type", start().Subkey(sub, signing, &pgptest.Sig{Type: pgptest.SubkeyBinding, Created: born}), openpgp.SignerUnfit},
		{"for encryption only", start().Subkey(sub, pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MayEncrypt)}}, &pgptest.Sig{Created: born}), openpgp.SignerUnfit},
		{"revoked as compromised", start().Subkey(sub, signing, &pgptest.Sig{Created: born}).RevokeSubkey(sub, pgptest.Sig{Created: now, Hashed: []pgptest.Sub{pgptest.Reason(2, "")}}), openpgp.SignerRevoked},
		{"retired later", start().Subkey(sub, signing, &pgptest.Sig{Created: born}).RevokeSubkey(sub, pgptest.Sig{Created: now, Hashed: []pgptest.Sub{pgptest.Reason(3, "")}}), openpgp.Valid},
	} {
		t.Run(c.name, func(t *testing.T) {
			result := verify(t, sig, document, rules(), readCert(t, c.cert.Bytes()))
			assert.Equal(t, c.want, result.Status, result.Reason)
		})
	}

	t.Run("stolen by another primary", func(t *testing.T) {
		// The stranger binds the subkey to itself, and copies the genuine
		// back signature, which is over another primary key.
		genuine := readCert(t, start().Subkey(sub, signing, &pgptest.Sig{Created: born}).Bytes())
		require.Len(t, genuine.Subkeys, 1)
		stolen := pgptest.NewCertificate(stranger).UserID("S", self).Subkey(sub, pgptest.Sig{
			Created: born, Hashed: signing.Hashed,
			Unhashed: []pgptest.Sub{{Type: 32, Body: pgptest.BackSignature(primary, sub, pgptest.Sig{Created: born})}},
		}, nil)
		result := verify(t, sig, document, rules(), readCert(t, stolen.Bytes()))
		assert.Equal(t, openpgp.SignerUnfit, result.Status)
	})
}

// TestAllCandidatesAreTried offers two keys, as when key IDs collide.
func TestAllCandidatesAreTried(t *testing.T) {
	a, b := simple("a", pgptest.Ed25519), simple("b", pgptest.Ed25519)
	certA, certB := readCert(t, a.Bytes()), readCert(t, b.Bytes())
	sigs, err := openpgp.ReadSignatures(b.Primary.Sign(document, pgptest.Sig{Created: signedAt}))
	require.NoError(t, err)
	h, err := sigs[0].NewHash()
	require.NoError(t, err)
	h.Write(document)
	h.Write(sigs[0].Trailer())
	result := openpgp.Verify(
		sigs[0], openpgp.Document{Digest: h.Sum(nil)},
		[]openpgp.Candidate{{Certificate: certA, Key: certA.Primary}, {Certificate: certB, Key: certB.Primary}},
		rules(),
	)
	assert.Equal(t, openpgp.Valid, result.Status)
	assert.Equal(t, 2, result.Tried)
	assert.Equal(t, certB, result.Signer.Certificate)
}

// TestAnyFlippedBitIsRefused flips one bit of the document, of the hashed area
// or of the signature's value.
func TestAnyFlippedBitIsRefused(t *testing.T) {
	for _, algorithm := range []pgptest.Algorithm{pgptest.RSA2048, pgptest.Ed25519, pgptest.Ed25519Legacy} {
		made := simple("flip", algorithm)
		cert := readCert(t, made.Bytes())
		sig := made.Primary.Sign(
			document,
			pgptest.Sig{
				Created: signedAt, NoIssuer: true,
				Hashed: []pgptest.Sub{{Type: 16, Body: cert.Primary.Fingerprint.Bytes()[12:]}},
			},
		)
		require.Equal(t, openpgp.Valid, verify(t, sig, document, rules(), cert).Status)
		rapid.Check(t, func(t *rapid.T) {
			data, s := bytes.Clone(document), bytes.Clone(sig)
			if rapid.Bool().Draw(t, "in the document") {
				i := rapid.IntRange(0, 8*len(data)-1).Draw(t, "bit")
				data[i/8] ^= 1 << (i % 8)
			} else {
				i := rapid.IntRange(0, 8*len(s)-1).Draw(t, "bit")
				if at := i / 8; at >= prefixOffset(s) && at < prefixOffset(s)+2 {
					t.Skip("the two bytes of the hash are a hint, not a check")
				}
				s[i/8] ^= 1 << (i % 8)
			}
			sigs, err := openpgp.ReadSignatures(s)
			if err != nil {
				return
			}
			for range sigs {
				if got := verifyAny(t, s, data, cert); got == openpgp.Valid {
					t.Fatalf("a flipped bit verified")
				}
			}
		})
	}
}

func verifyAny(t *rapid.T, sig, data []byte, cert *openpgp.Certificate) openpgp.Status {
	sigs, err := openpgp.ReadSignatures(sig)
	require.NoError(t, err)
	h, err := sigs[0].NewHash()
	if err != nil {
		return openpgp.Unsupported
	}
	h.Write(data)
	h.Write(sigs[0].Trailer())
	return openpgp.Verify(
		sigs[0], openpgp.Document{Digest: h.Sum(nil)}, []openpgp.Candidate{{Certificate: cert, Key: cert.Primary}},
		rules(),
	).Status
}

// prefixOffset finds the two hint bytes behind the empty unhashed area.
func prefixOffset(sig []byte) int {
	header := 2
	if sig[1] >= 192 {
		header = 3
	}
	hashed := int(binary.BigEndian.Uint16(sig[header+4:]))
	return header + 6 + hashed + 2
}

func TestCertificateFacts(t *testing.T) {
	key := pgptest.NewKey("facts", pgptest.Ed25519Legacy, born)
	sub := pgptest.NewKey("facts sub", pgptest.Ed25519, born)
	made := pgptest.NewCertificate(key).
		UserID("Old Name", pgptest.Sig{Created: born}).
		Certify(key, "Old Name", pgptest.Sig{Type: pgptest.CertRevocation, Created: signedAt}).
		UserID("Second", pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.KeyExpires(365 * 24 * time.Hour)}}).
		UserID(
			"Main",
			pgptest.Sig{
				Created: born.Add(time.Hour),
				Hashed: []pgptest.Sub{
					pgptest.Flags(pgptest.MayCertify),
					{Type: 25, Body: []byte{1}},
					pgptest.KeyExpires(1000 * 24 * time.Hour),
				},
			},
		).
		Certify(
			pgptest.NewKey("friend", pgptest.Ed25519, born), "Main",
			pgptest.Sig{Type: pgptest.Certification, Created: born},
		).
		Subkey(
			sub, pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}},
			&pgptest.Sig{Created: born},
		).
		Subkey(
			pgptest.NewKey("enc", pgptest.Elgamal, born),
			pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MayEncrypt)}}, nil,
		)
	cert := readCert(t, made.Bytes())
	assert.Equal(t, []string{"Main", "Second"}, cert.Names())
	expires, ok := cert.Expires(rules())
	require.True(t, ok)
	require.NotNil(t, expires)
	assert.Equal(t, born.Add(1000*24*time.Hour), *expires, "the newest self-signature rules")
	assert.Nil(t, cert.Revocation())
	assert.Equal(t, []string{"certify"}, cert.Uses(cert.Primary, rules()))
	require.Len(t, cert.Subkeys, 2)
	uses := map[string][]string{}
	for _, s := range cert.Subkeys {
		uses[s.Key.Describe()] = cert.Uses(s.Key, rules())
	}
	assert.Equal(t, map[string][]string{"Ed25519": {"sign"}, "Elgamal 15": {"encrypt"}}, uses)
	assert.Equal(t, 1, cert.Certifications())
}

// TestMergeIsAUnion holds for any split of a certificate's parts.
func TestMergeIsAUnion(t *testing.T) {
	key := pgptest.NewKey("merge", pgptest.Ed25519, born)
	part := func(i int) *openpgp.Certificate {
		c := pgptest.NewCertificate(key)
		switch i {
		case 0:
			c.UserID("A", pgptest.Sig{Created: born})
		case 1:
			c.UserID("A", pgptest.Sig{Created: signedAt}).UserID("B", pgptest.Sig{Created: born})
		case 2:
			c.Key(key, pgptest.Sig{Type: pgptest.KeyRevocation, Created: signedAt})
		case 3:
			c.Subkey(pgptest.NewKey("s", pgptest.Ed25519, born), pgptest.Sig{Created: born}, nil)
		}
		return readCert(t, c.Bytes())
	}
	rapid.Check(t, func(t *rapid.T) {
		a := part(rapid.IntRange(0, 3).Draw(t, "a"))
		b := part(rapid.IntRange(0, 3).Draw(t, "b"))
		c := part(rapid.IntRange(0, 3).Draw(t, "c"))
		ab := merge(a, b)
		if !bytes.Equal(ab.Bytes(), merge(b, a).Bytes()) {
			t.Fatal("not commutative")
		}
		if !bytes.Equal(merge(ab, c).Bytes(), merge(a, merge(b, c)).Bytes()) {
			t.Fatal("not associative")
		}
		if !bytes.Equal(merge(ab, ab).Bytes(), ab.Bytes()) || !bytes.Equal(merge(ab, a).Bytes(), ab.Bytes()) {
			t.Fatal("not idempotent")
		}
	})
	revoked := merge(part(0), part(2))
	require.NotNil(t, revoked.Revocation(), "a revocation that was known is not lost")
	assert.NotNil(t, merge(revoked, part(0)).Revocation())
}

func TestRefusedInput(t *testing.T) {
	made := simple("refused", pgptest.Ed25519)
	sig := made.Primary.Sign(document, pgptest.Sig{Created: signedAt})
	literal := pgptest.Packet(11, append([]byte{'b', 0, 0, 0, 0, 0}, document...))
	jpeg := []byte("\xff\xd8\xff\xe0\x00\x10JFIF\x00 and so on")

	t.Run("signatures", func(t *testing.T) {
		for name, c := range map[string]struct {
			data []byte
			says string
		}{
			"empty":                  {nil, "the file is empty"},
			"an HTML page":           {[]byte("<!DOCTYPE html><title>404</title>"), "HTML page"},
			"a signed message":       {append(bytes.Clone(sig), literal...), "content of its own"},
			"a key":                  {made.Bytes(), "signature packets only"},
			"an armored key":         {made.Armored(), "PGP PUBLIC KEY BLOCK"},
			"cut short":              {sig[:len(sig)-3], "are left"},
			"cut in the armor":       {pgptest.Armor("PGP SIGNATURE", sig)[:90], "cut short"},
			"an enormous length":     {[]byte{0xc2, 0xff, 0xff, 0xff, 0xff, 0xff, 4}, "claims 4294967295 bytes"},
			"a subpacket beyond all": {pgptest.Packet(2, []byte{4, 0, 27, 8, 0, 2, 0xc8, 1, 0, 0, 0, 0}), "subpacket"},
			"sixty-five signatures":  {bytes.Repeat(sig, 65), "more than 64"},
			"text that is no packet": {[]byte("release 4.2"), "no OpenPGP signature"},
			"left-over bytes":        {pgptest.Packet(2, append(bytes.Clone(sig[2:]), 0)), "left over"},
		} {
			t.Run(name, func(t *testing.T) {
				_, err := openpgp.ReadSignatures(c.data)
				require.Error(t, err)
				assert.Contains(t, err.Error(), c.says)
			})
		}
	})
	t.Run("keys", func(t *testing.T) {
		_, _, err := openpgp.ReadCertificates(jpeg)
		assert.ErrorContains(t, err, "JPEG")
		var secret *openpgp.SecretKeyError
		_, _, err = openpgp.ReadCertificates(made.Secret())
		require.ErrorAs(t, err, &secret)
		_, _, err = openpgp.ReadCertificates(pgptest.Armor("PGP PRIVATE KEY BLOCK", made.Secret()))
		require.ErrorAs(t, err, &secret)
		_, _, err = openpgp.ReadCertificates(append(made.Bytes(), made.Secret()...))
		require.ErrorAs(t, err, &secret, "a secret key behind a public one")
		var empty *openpgp.EmptyError
		_, _, err = openpgp.ReadCertificates(sig)
		require.ErrorAs(t, err, &empty)
		_, _, err = openpgp.ReadCertificates([]byte("%PDF-1.7"))
		assert.ErrorContains(t, err, "PDF")
		_, skipped, err := openpgp.ReadCertificates(pgptest.Packet(6, []byte{2, 0, 0, 0, 0, 0, 0, 1}))
		require.NoError(t, err)
		require.Len(t, skipped, 1)
		assert.True(t, openpgp.IsUnsupported(skipped[0]))
		var format *openpgp.FormatError
		_, _, err = openpgp.ReadCertificates(pgptest.Packet(13, []byte("nobody")))
		require.True(t, errors.As(err, &format))
		assert.Equal(t, "user ID", format.Packet)
	})
}

func TestArmorInTheWild(t *testing.T) {
	made := simple("armor", pgptest.Ed25519)
	armored := string(made.Armored())
	for name, text := range map[string]string{
		"CRLF":               strings.ReplaceAll(armored, "\n", "\r\n"),
		"CR":                 strings.ReplaceAll(armored, "\n", "\r"),
		"text around":        "Our key:\n\n" + armored + "\nRegards\n",
		"headers":            strings.Replace(armored, "-----\n\n", "-----\nComment: hello\nVersion: 1\n\n", 1),
		"no blank line":      strings.Replace(armored, "-----\n\n", "-----\n", 1),
		"a wrong checksum":   strings.Replace(armored, "\n-----END", "\n=AAAA\n-----END", 1),
		"trailing spaces":    strings.ReplaceAll(armored, "\n", "  \n"),
		"the same key twice": armored + armored,
	} {
		certs, _, err := openpgp.ReadCertificates([]byte(text))
		require.NoError(t, err, name)
		assert.EqualValues(t, made.Primary.Fingerprint(), certs[0].Primary.Fingerprint, name)
	}
	_, _, err := openpgp.ReadCertificates([]byte(strings.Replace(armored, "\n\nx", "\n\n!!", 1)))
	assert.Error(t, err)
}

func TestLegacyFraming(t *testing.T) {
	made := simple("legacy", pgptest.Ed25519)
	sig := made.Primary.Sign(document, pgptest.Sig{Created: signedAt})
	result := verify(t, pgptest.LegacyPacket(2, sig[2:]), document, rules(), readCert(t, made.Bytes()))
	assert.Equal(t, openpgp.Valid, result.Status)
}

func FuzzReadSignatures(f *testing.F) {
	made := simple("fuzz", pgptest.Ed25519)
	sig := made.Primary.Sign(document, pgptest.Sig{Created: signedAt})
	f.Add(sig)
	f.Add(pgptest.Armor("PGP SIGNATURE", sig))
	f.Add(pgptest.LegacyPacket(2, sig[2:]))
	f.Fuzz(func(t *testing.T, data []byte) {
		sigs, err := openpgp.ReadSignatures(data)
		if (err == nil) != (len(sigs) > 0) {
			t.Fatalf("%d signatures with error %v", len(sigs), err)
		}
		sound := 0
		for _, s := range sigs {
			again, err := openpgp.ParseSignature(s.Raw)
			switch {
			case s.Malformed() != nil && err == nil:
				t.Fatalf("its packet can be read, and was said to be malformed: %v", s.Malformed())
			case s.Malformed() != nil:
			case err != nil || again.Type != s.Type:
				t.Fatalf("its own packet reads differently: %v", err)
			default:
				sound++
			}
		}
		if err == nil && sound == 0 {
			t.Fatal("a file of which nothing can be read was taken for one of signatures")
		}
	})
}

func FuzzReadCertificates(f *testing.F) {
	f.Add(simple("fuzz", pgptest.Ed25519).Bytes())
	f.Add(simple("fuzz", pgptest.Ed25519Legacy).Armored())
	primary, sub := pgptest.NewKey("fuzz", pgptest.Ed25519, born), pgptest.NewKey("fuzz sub", pgptest.Ed25519, born)
	f.Add(
		pgptest.NewCertificate(primary).Key(
			primary, pgptest.Sig{Type: pgptest.KeyRevocation, Created: now},
		).UserID("F", pgptest.Sig{Created: born}).
			Subkey(
				sub, pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}},
				&pgptest.Sig{Created: born},
			).Bytes(),
	)
	f.Fuzz(func(t *testing.T, data []byte) {
		certs, _, err := openpgp.ReadCertificates(data)
		if err != nil {
			return
		}
		for _, c := range certs {
			c.Names()
			c.Revocation()
			c.Expires(rules())
			again, _, err := openpgp.ReadCertificates(c.Bytes())
			if err != nil || len(again) != 1 || !bytes.Equal(again[0].Bytes(), c.Bytes()) {
				t.Fatalf("the canonical form does not read back: %v", err)
			}
			vetted, _ := again[0].Vet(openpgp.NewEffort(10*time.Millisecond), nil)
			twice, vetting := vetted.Vet(openpgp.NewEffort(time.Second), nil)
			if vetting.Forged != 0 || !bytes.Equal(twice.Bytes(), vetted.Bytes()) {
				t.Fatal("what was vetted does not stay")
			}
			merged, left := openpgp.Merge(vetted, vetted, nil)
			if left != 0 || !bytes.Equal(merged.Bytes(), vetted.Bytes()) {
				t.Fatal("what is merged with itself does not stay")
			}
			if losses := openpgp.Less(vetted, merged, nil, rules()); losses != nil {
				t.Fatalf("it says less than itself: %v", losses)
			}
		}
	})
}

// merge merges what has room.
func merge(a, b *openpgp.Certificate) *openpgp.Certificate {
	c, left := openpgp.Merge(a, b, nil)
	if left > 0 {
		panic("something was left out")
	}
	return c
}
