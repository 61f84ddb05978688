package openpgp_test

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"endeixis/core/openpgp"
	"endeixis/core/openpgp/pgptest"
)

// TestEverySubpacketIsTold signs with one of each kind and reads the inspection.
func TestEverySubpacketIsTold(t *testing.T) {
	made := simple("subpackets", pgptest.Ed25519)
	other := pgptest.NewKey("revoker", pgptest.Ed25519, born)
	fingerprint, err := hex.DecodeString(other.Fingerprint())
	require.NoError(t, err)
	says := map[string]pgptest.Sub{
		"signature expiration time: after 10 days (864000 seconds)": pgptest.Expires(10 * 24 * time.Hour),
		"exportable: no": {Type: 4, Body: []byte{0}},
		"trust: level 1, amount 60 of 255": {
			Type: 5, Body: []byte{1, 60},
		},
		`regular expression: <[^>]+[@.]tidewright\.example>$`: {
			Type: 6, Body: []byte("<[^>]+[@.]tidewright\\.example>$\x00"),
		},
		"revocable: yes": {Type: 7, Body: []byte{1}},
		"key expiration time: never": {
			Type: 9, Body: make([]byte, 4),
		},
		"preferred symmetric ciphers: AES-256, TripleDES, cipher 99": {
			Type: 11, Body: []byte{9, 2, 99},
		},
		"issuer key ID: 0102030405060708": {
			Type: 16, Body: []byte{1, 2, 3, 4, 5, 6, 7, 8},
		},
		"notation: n@x = 2 bytes: 00ff": {
			Type: 20, Body: []byte{0, 0, 0, 0, 0, 3, 0, 2, 'n', '@', 'x', 0, 0xff},
		},
		"preferred hash algorithms: SHA-512, hash algorithm 77": {
			Type: 21, Body: []byte{10, 77},
		},
		"preferred compression: none, ZLIB, BZip2, ZIP": {
			Type: 22, Body: []byte{0, 2, 3, 1},
		},
		"key server preferences: no changes by others": {
			Type: 23, Body: []byte{0x80},
		},
		"preferred key server: hkps://keys.tidewright.example": {
			Type: 24, Body: []byte("hkps://keys.tidewright.example"),
		},
		"primary user ID: yes": {Type: 25, Body: []byte{1}},
		"policy URI: https://tidewright.example/policy": {
			Type: 26, Body: []byte("https://tidewright.example/policy"),
		},
		"key flags: certify, sign, authenticate, bit 0x04 of octet 2": {
			Type: 27, Body: []byte{0x23, 0x04},
		},
		"signer's user ID: release@tidewright.example": {
			Type: 28, Body: []byte("release@tidewright.example"),
		},
		"reason for revocation: retired: moved on": pgptest.Reason(3, "moved on"),
		"encryption with integrity protection, version 1, bit 0x02 of octet 1, encryption": {
			Type: 30, Body: []byte{0x0b},
		},
		"signature target: the Ed25519 signature with the SHA-256 digest 0a0b": {
			Type: 31, Body: []byte{27, 8, 10, 11},
		},
		"preferred AEAD (draft): OCB, EAX": {
			Type: 34, Body: []byte{2, 1},
		},
		"(version 4)": {
			Type: 35, Body: append([]byte{4}, fingerprint...),
		},
		"preferred AEAD ciphersuites: AES-256 with OCB, AES-128 with GCM": {
			Type: 39, Body: []byte{9, 2, 7, 3},
		},
		"may revoke this key; marked as not to be passed on": {
			Type: 12, Body: append([]byte{0xc0, 22}, fingerprint...),
		},
		"subpacket type 110 (private use): 01": {
			Type: 110, Body: []byte{1},
		},
		// Of a length that does not fit, the bytes.
		"trust: 01":                {Type: 5, Body: []byte{1}},
		"notation: 00000000000300": {Type: 20, Body: []byte{0, 0, 0, 0, 0, 3, 0}},
		"and 36 bytes more":        {Type: 99, Body: make([]byte, 100)},
	}
	for want, sub := range says {
		sig := made.Primary.Sign(document, pgptest.Sig{Created: signedAt, Hashed: []pgptest.Sub{sub}})
		a, err := openpgp.Inspect(sig, rules())
		require.NoError(t, err)
		assert.Contains(t, told(a), want)
	}
}

// TestDesignatedRevokersAreShown, and what they sign revokes nothing.
func TestDesignatedRevokersAreShown(t *testing.T) {
	key, revoker := pgptest.NewKey("owner", pgptest.Ed25519, born), pgptest.NewKey("revoker", pgptest.Ed25519, born)
	fingerprint, err := hex.DecodeString(revoker.Fingerprint())
	require.NoError(t, err)
	names := pgptest.Sub{Type: 12, Body: append([]byte{0x80, 27}, fingerprint...)}
	made := pgptest.NewCertificate(key).
		Key(
			key,
			pgptest.Sig{
				Type: pgptest.DirectKey, Created: born, Hashed: []pgptest.Sub{names, pgptest.Flags(pgptest.MaySign)},
			},
		).
		Key(revoker, pgptest.Sig{Type: pgptest.KeyRevocation, Created: signedAt}).
		UserID("O", pgptest.Sig{Created: born})
	cert := readCert(t, made.Bytes())
	assert.Equal(
		t, []openpgp.Revoker{{Fingerprint: openpgp.Fingerprint(revoker.Fingerprint()), Algorithm: openpgp.Ed25519}},
		cert.Revokers(rules()),
	)
	assert.Nil(t, cert.Revocation())
	a, err := openpgp.Inspect(made.Bytes(), rules())
	require.NoError(t, err)
	assert.Contains(t, told(a), "as a key that may revoke it, which is not followed here")
	// One whose class octet lacks its mark is none (RFC 9580, section 5.2.3.23).
	unmarked := pgptest.NewCertificate(key).
		UserID(
			"O",
			pgptest.Sig{Created: born, Hashed: []pgptest.Sub{{Type: 12, Body: append([]byte{0, 27}, fingerprint...)}}},
		)
	assert.Empty(t, readCert(t, unmarked.Bytes()).Revokers(rules()))
	// One that nobody signed is nothing.
	forged := pgptest.NewCertificate(key).UserID("O", pgptest.Sig{Created: born, Unhashed: []pgptest.Sub{names}})
	assert.Empty(t, readCert(t, forged.Bytes()).Revokers(rules()))
}

// picture returns a user attribute packet with a picture.
func picture(format byte, content string) []byte {
	body := append([]byte{1, 16, 0, 1, format}, make([]byte, 12)...)
	body = append(body, content...)
	return pgptest.Packet(17, append([]byte{byte(len(body))}, body...))
}

// TestAnOldAndCrowdedKey is like those that have been around for decades: many
// user IDs with many certifications, pictures, subkeys of every kind,
// self-signatures by SHA-1, expired and extended.
func TestAnOldAndCrowdedKey(t *testing.T) {
	old := time.Date(2003, 5, 1, 0, 0, 0, 0, time.UTC)
	year := 365 * 24 * time.Hour
	key := pgptest.NewKey("crowded", pgptest.RSA2048, old)
	made := pgptest.NewCertificate(key)
	friends := []*pgptest.Key{pgptest.NewKey("f1", pgptest.DSA1024, old), pgptest.NewKey("f2", pgptest.Ed25519, old)}
	for i := range 30 {
		id := fmt.Sprintf("Keeper %d <k%d@brackwater.example>", i, i)
		made.UserID(
			id,
			pgptest.Sig{
				Created: old, Hash: pgptest.SHA1,
				Hashed: []pgptest.Sub{
					pgptest.Flags(pgptest.MayCertify | pgptest.MaySign), pgptest.KeyExpires(5 * year),
				},
			},
		)
		for n := range 20 {
			made.Certify(
				friends[n%2], id,
				pgptest.Sig{Type: byte(0x10 + n%4), Created: old.AddDate(0, n, 0), Hash: pgptest.SHA1},
			)
		}
	}
	made.Certify(
		key, "Keeper 29 <k29@brackwater.example>",
		pgptest.Sig{
			Type: pgptest.Certification, Created: signedAt.AddDate(-1, 0, 0),
			Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MayCertify | pgptest.MaySign), pgptest.KeyExpires(40 * year)},
		},
	)
	made.Add(picture(1, "\xff\xd8\xff not really")).Add(picture(100, "x")).Add(pgptest.Packet(17, []byte{2, 7, 0}))
	signs := pgptest.NewKey("crowded sub", pgptest.DSA2048, old)
	made.Subkey(
		pgptest.NewKey("enc1", pgptest.Elgamal, old),
		pgptest.Sig{Created: old, Hash: pgptest.SHA1, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MayEncrypt)}}, nil,
	).
		Subkey(
			pgptest.NewKey("enc2", pgptest.ECDH, old),
			pgptest.Sig{Created: old, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MayEncrypt)}}, nil,
		).
		Subkey(
			signs, pgptest.Sig{Created: old, Hash: pgptest.SHA1, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}},
			&pgptest.Sig{Created: old, Hash: pgptest.SHA1},
		).
		Subkey(
			pgptest.NewKey("auth", pgptest.P256, old),
			pgptest.Sig{Created: old, Hashed: []pgptest.Sub{pgptest.Flags(0x20)}}, nil,
		)
	text := "Our key, since 2003:\n\n" + string(
		pgptest.Armor("PGP PUBLIC KEY BLOCK", made.Bytes()),
	) + "\n-- \nThe keepers\n"

	cert := readCert(t, []byte(text))
	assert.Len(t, cert.Names(), 30)
	assert.Equal(t, 3, cert.Attributes())
	expires, ok := cert.Expires(rules())
	require.True(t, ok)
	require.NotNil(t, expires)
	assert.Equal(t, old.Add(40*year), *expires, "the newest self-signature counts, of whichever user ID")
	uses := map[string][]string{}
	for _, s := range cert.Subkeys {
		uses[s.Key.Describe()] = cert.Uses(s.Key, rules())
	}
	assert.Equal(
		t,
		map[string][]string{
			"Elgamal 15": {"encrypt"}, "ECDH Curve25519": {"encrypt"}, "DSA 2048": {"sign"},
			"ECDSA P-256": {"authenticate"},
		},
		uses,
	)
	for _, k := range []*pgptest.Key{key, signs} {
		r := verify(t, k.Sign(document, pgptest.Sig{Created: signedAt}), document, rules(), cert)
		assert.Equal(t, openpgp.Valid, r.Status, r.Reason)
	}
	assert.Equal(
		t, len(made.Bytes()), len(cert.Bytes())-lengthened(cert.Bytes(), made.Bytes()), "nothing of it is dropped",
	)
	a, err := openpgp.Inspect(made.Bytes(), rules())
	require.NoError(t, err)
	for _, want := range []string{"picture: JPEG, 14 bytes; not shown", "picture: of the format 100, 1 bytes", "attribute type 7: 1 bytes", "key wrapping: SHA-256, AES-128", "600 certifications are by other keys"} {
		assert.True(t, strings.Contains(told(a), want), want)
	}
}

// lengthened is by how much the canonical framing is longer: each packet has a
// length of four bytes behind 0xff.
func lengthened(canonical, short []byte) int {
	count := func(data []byte) (headers int) {
		for len(data) > 0 {
			size, header := int(data[1]), 2
			switch {
			case data[1] == 255:
				size, header = int(binary.BigEndian.Uint32(data[2:])), 6
			case data[1] >= 192:
				size, header = int(data[1]-192)<<8+int(data[2])+192, 3
			}
			headers += header
			data = data[header+size:]
		}
		return headers
	}
	return count(canonical) - count(short)
}

// TestSeveralCertificatesInOneFile, in one block and in several, with one that
// cannot be read among them.
func TestSeveralCertificatesInOneFile(t *testing.T) {
	a, b := simple("a", pgptest.Ed25519), simple("b", pgptest.P384)
	v2 := pgptest.Packet(6, []byte{2, 0, 0, 0, 0, 0, 0, 1})
	certs, skipped, err := openpgp.ReadCertificates(
		pgptest.Armor("PGP PUBLIC KEY BLOCK", bytes.Join([][]byte{a.Bytes(), v2, b.Bytes()}, nil)),
	)
	require.NoError(t, err)
	assert.Len(t, certs, 2)
	assert.Len(t, skipped, 1)
	certs, _, err = openpgp.ReadCertificates([]byte("first\n" + string(a.Armored()) + "then\n" + string(b.Armored())))
	require.NoError(t, err)
	assert.Len(t, certs, 2)
}

// TestSeveralSignaturesInOneFile each get an answer of their own.
func TestSeveralSignaturesInOneFile(t *testing.T) {
	a, b := simple("a", pgptest.Ed25519), simple("b", pgptest.RSA2048)
	first := a.Primary.Sign(document, pgptest.Sig{Created: signedAt})
	second := b.Primary.Sign([]byte("other"), pgptest.Sig{Version: 3, Created: signedAt})
	file := bytes.Join([][]byte{first, second}, nil)
	for name, data := range map[string][]byte{
		"binary": file, "one block": pgptest.Armor("PGP SIGNATURE", file),
		"two blocks": append(pgptest.Armor("PGP SIGNATURE", first), pgptest.Armor("PGP SIGNATURE", second)...),
	} {
		sigs, err := openpgp.ReadSignatures(data)
		require.NoError(t, err, name)
		require.Len(t, sigs, 2, name)
		assert.Equal(t, []int{4, 3}, []int{sigs[0].Version, sigs[1].Version})
	}
}

// TestOldPacketLengths: the legacy format with one, two and four bytes.
func TestOldPacketLengths(t *testing.T) {
	made := simple("lengths", pgptest.Ed25519)
	sig := made.Primary.Sign(document, pgptest.Sig{Created: signedAt})
	body := sig[2:]
	for name, data := range map[string][]byte{
		"one byte":   append([]byte{0x88, byte(len(body))}, body...),
		"two bytes":  append([]byte{0x89, 0, byte(len(body))}, body...),
		"four bytes": append([]byte{0x8a, 0, 0, 0, byte(len(body))}, body...),
		"five":       append([]byte{0xc2, 255, 0, 0, 0, byte(len(body))}, body...),
	} {
		r := verify(t, data, document, rules(), readCert(t, made.Bytes()))
		assert.Equal(t, openpgp.Valid, r.Status, name)
	}
}

// TestAnyFlippedBitOfEveryKind flips one bit of the document, the hashed area or
// the signature's values, for each algorithm and version.
func TestAnyFlippedBitOfEveryKind(t *testing.T) {
	keys := map[string]*pgptest.Certificate{
		"version 3 signature": simple("flip", pgptest.RSA2048),
		"version 6":           six("flip", pgptest.Ed25519), "version 6, Ed448": six("flip", pgptest.Ed448),
		"version 6, P-256": six("flip", pgptest.P256),
	}
	for name, algorithm := range map[string]pgptest.Algorithm{
		"P-256": pgptest.P256, "P-384": pgptest.P384, "P-521": pgptest.P521, "secp256k1": pgptest.Secp256k1, "Ed448": pgptest.Ed448,
		"Brainpool 256": pgptest.Brainpool256, "Brainpool 384": pgptest.Brainpool384, "Brainpool 512": pgptest.Brainpool512, "DSA": pgptest.DSA1024,
	} {
		keys[name] = simple("flip", algorithm)
	}
	low := rules()
	low.RSABits, low.DocumentHashBits = 1024, 80
	for name, made := range keys {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			cert := readCert(t, made.Bytes())
			spec := pgptest.Sig{Created: signedAt}
			if strings.HasPrefix(name, "version 3") {
				spec.Version = 3
			}
			sig := made.Primary.Sign(document, spec)
			sigs, err := openpgp.ReadSignatures(sig)
			require.NoError(t, err)
			body := sigs[0].Raw
			hashes := func(s *openpgp.Signature, data []byte) openpgp.Status {
				h, err := s.NewHash()
				if err != nil {
					return openpgp.Unsupported
				}
				h.Write(data)
				return openpgp.Verify(
					s, openpgp.Document{Digest: s.Finish(h)},
					[]openpgp.Candidate{{Certificate: cert, Key: cert.Primary}}, low,
				).Status
			}
			require.Equal(t, openpgp.Valid, hashes(sigs[0], document))
			loose := looseBytes(t, sigs[0])
			rapid.Check(t, func(t *rapid.T) {
				data, raw := bytes.Clone(document), bytes.Clone(body)
				if rapid.IntRange(0, 3).Draw(t, "where") == 0 {
					i := rapid.IntRange(0, 8*len(data)-1).Draw(t, "bit of the document")
					data[i/8] ^= 1 << (i % 8)
				} else {
					i := rapid.IntRange(0, 8*len(raw)-1).Draw(t, "bit of the signature")
					if loose[i/8] {
						t.Skip("neither hashed nor a value: it is no part of what is signed")
					}
					raw[i/8] ^= 1 << (i % 8)
				}
				s, err := openpgp.ParseSignature(raw)
				if err != nil {
					return
				}
				if hashes(s, data) == openpgp.Valid {
					t.Fatal("a flipped bit verified")
				}
			})
		})
	}
}

// looseBytes tells which bytes of a signature's body nobody signed: the
// unhashed area and the two bytes of the hash.
func looseBytes(t *testing.T, s *openpgp.Signature) map[int]bool {
	out := map[int]bool{}
	mark := func(from, to int) {
		for i := from; i < to; i++ {
			out[i] = true
		}
	}
	raw := s.Raw
	switch s.Version {
	case 3:
		mark(7, 16)  // the issuer's key ID, and the algorithm: RSA has three numbers
		mark(17, 19) // the hash
	case 4:
		hashed := 6 + int(binary.BigEndian.Uint16(raw[4:]))
		end := hashed + 2 + int(binary.BigEndian.Uint16(raw[hashed:]))
		mark(hashed, end+2)
	case 6:
		hashed := 8 + int(binary.BigEndian.Uint32(raw[4:]))
		end := hashed + 4 + int(binary.BigEndian.Uint32(raw[hashed:]))
		mark(hashed, end+2)
	}
	require.NotEmpty(t, out)
	return out
}
