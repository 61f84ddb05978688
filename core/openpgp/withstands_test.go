package openpgp_test

import (
	"bytes"
	"encoding/binary"
	"math/big"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"endeixis/core/openpgp"
	"endeixis/core/openpgp/pgptest"
)

// allocated measures what f allocates, in bytes.
func allocated(f func()) uint64 {
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	f()
	runtime.ReadMemStats(&after)
	return after.TotalAlloc - before.TotalAlloc
}

// TestLengthsThatLie claim much and bring little; nothing is allocated for what
// is not there.
func TestLengthsThatLie(t *testing.T) {
	huge := []byte{0xff, 0xff, 0xff, 0xff}
	for name, data := range map[string][]byte{
		"a packet of 4 GiB":           append([]byte{0xc6, 255}, huge...),
		"an old packet of 4 GiB":      append([]byte{0x9a}, huge...),
		"a version 6 key of 4 GiB":    pgptest.Packet(6, append([]byte{6, 0, 0, 0, 1, 27}, huge...)),
		"a modulus of 65,535 bits":    pgptest.Packet(6, []byte{4, 0, 0, 0, 1, 1, 0xff, 0xff, 1, 2, 3}),
		"a curve of 255 bytes":        pgptest.Packet(6, []byte{4, 0, 0, 0, 1, 19, 255, 1, 2}),
		"an open length":              {0x9b, 4, 0, 0},
		"a part of 1 GiB":             {0xcb, 224 + 30, 1, 2, 3},
		"a version 6 area of 4 GiB":   pgptest.Packet(2, append([]byte{6, 0, 27, 8}, huge...)),
		"a subpacket of 4 GiB":        pgptest.Packet(2, append([]byte{4, 0, 27, 8, 0, 5, 255}, huge...)),
		"a salt beyond the end":       pgptest.Packet(2, []byte{6, 0, 27, 8, 0, 0, 0, 0, 0, 0, 0, 0, 1, 2, 200}),
		"a version 3 hashed part":     pgptest.Packet(2, []byte{3, 200, 0}),
		"a user ID before any key":    pgptest.Packet(13, []byte("x")),
		"a literal's name of 255":     pgptest.Packet(11, []byte{'b', 255, 'x'}),
		"packet type 0":               {0xc0, 1, 0},
		"a byte that starts nothing":  {0x80, 0, 0x7f},
		"an empty compressed packet":  pgptest.Packet(8, nil),
		"a signature without version": pgptest.Packet(2, nil),
	} {
		used := allocated(func() {
			_, _, err1 := openpgp.ReadCertificates(data)
			_, err2 := openpgp.ReadSignatures(data)
			_, err3 := openpgp.ReadMessage(data)
			assert.Error(t, err1, name)
			assert.Error(t, err2, name)
			assert.Error(t, err3, name)
			if _, err := openpgp.Inspect(data, rules()); err != nil {
				assert.NotEmpty(t, err.Error(), name)
			}
		})
		assert.Less(t, used, uint64(4<<20), name)
	}
}

// TestMillionPackets: it ends after a bound, whatever they are.
func TestMillionPackets(t *testing.T) {
	markers := bytes.Repeat(pgptest.Packet(10, []byte("PGP")), 3_000_001)
	made := simple("many", pgptest.Ed25519)
	start := time.Now()
	_, _, err := openpgp.ReadCertificates(append(made.Bytes(), markers...))
	assert.ErrorContains(t, err, "more than 3000000 packets")
	_, err = openpgp.ReadSignatures(markers)
	assert.ErrorContains(t, err, "more than 3000000 packets")
	a, err := openpgp.Inspect(markers, rules())
	require.NoError(t, err)
	assert.Len(t, a.Packets, 5000)
	assert.Less(t, time.Since(start), time.Minute, "it ends at all")
}

// TestThousandsOfSignaturesOnAKey cost a bounded number of operations, and the
// newest are those that count.
func TestThousandsOfSignaturesOnAKey(t *testing.T) {
	key := pgptest.NewKey("flooded", pgptest.Ed25519, born)
	const id = "Flooded"
	made := pgptest.NewCertificate(key).UserID(
		id,
		pgptest.Sig{
			Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign), pgptest.KeyExpires(24 * time.Hour)},
		},
	)
	rubbish := pgptest.NewKey("rubbish", pgptest.Ed25519, born)
	for i := range 5000 {
		// Each claims to be by the key and is not.
		made.Certify(
			rubbish, id,
			pgptest.Sig{Type: pgptest.Certification, Created: born.Add(time.Duration(i) * time.Minute), NoIssuer: true},
		)
	}
	made.Certify(
		key, id,
		pgptest.Sig{
			Type: pgptest.Certification, Created: signedAt.Add(-time.Hour),
			Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)},
		},
	)
	cert := readCert(t, made.Bytes())
	r := verify(t, key.Sign(document, pgptest.Sig{Created: signedAt}), document, rules(), cert)
	assert.Equal(t, openpgp.Valid, r.Status, "the newest self-signature extends the key: "+r.Reason)
}

// TestAbsurdRSAKeys are shown with what is wrong and compute nothing.
func TestAbsurdRSAKeys(t *testing.T) {
	number := func(n *big.Int) []byte {
		return append(binary.BigEndian.AppendUint16(nil, uint16(n.BitLen())), n.Bytes()...)
	}
	unit := big.NewInt(1)
	odd := func(bits uint) *big.Int { return new(big.Int).Add(new(big.Int).Lsh(unit, bits-1), unit) }
	for name, test := range map[string]struct{ n, e *big.Int }{
		"a modulus of 20,000 bits":  {odd(20_000), big.NewInt(65537)},
		"a modulus of 512 bits":     {odd(512), big.NewInt(65537)},
		"an even modulus":           {new(big.Int).Lsh(unit, 2047), big.NewInt(65537)},
		"the exponent 1":            {odd(2048), unit},
		"an even exponent":          {odd(2048), big.NewInt(65536)},
		"an exponent of 2,048 bits": {odd(2048), odd(2048)},
		"the exponent 0":            {odd(2048), new(big.Int)},
	} {
		body := append([]byte{4, 0, 0, 0, 1, 1}, number(test.n)...)
		certs, _, err := openpgp.ReadCertificates(pgptest.Packet(6, append(body, number(test.e)...)))
		require.NoError(t, err, name)
		assert.NotEmpty(t, certs[0].Primary.Unusable(), name)
	}
}

// TestNumbersInOtherForms: a signature has one encoding. Leading zeros, a wrong
// count of bits, and bytes behind the end are refused.
func TestNumbersInOtherForms(t *testing.T) {
	made := simple("forms", pgptest.P256)
	sig := made.Primary.Sign(document, pgptest.Sig{Created: signedAt})
	body := sig[2:]
	sigs, err := openpgp.ReadSignatures(sig)
	require.NoError(t, err)
	require.Equal(t, body, sigs[0].Raw)
	_, err = openpgp.ReadSignatures(pgptest.Packet(2, append(bytes.Clone(body), 0)))
	assert.ErrorContains(t, err, "left over at its end")
	rapid.Check(t, func(t *rapid.T) {
		changed := bytes.Clone(body)
		changed[rapid.IntRange(0, len(body)-1).Draw(t, "at")] ^= 1 << rapid.IntRange(0, 7).Draw(t, "bit")
		sigs, err := openpgp.ReadSignatures(pgptest.Packet(2, changed))
		if err != nil {
			return
		}
		cert := readCert(t, made.Bytes())
		h, err := sigs[0].NewHash()
		if err != nil {
			return
		}
		h.Write(document)
		r := openpgp.Verify(
			sigs[0], openpgp.Document{Digest: sigs[0].Finish(h)},
			[]openpgp.Candidate{{Certificate: cert, Key: cert.Primary}}, rules(),
		)
		if r.Status == openpgp.Valid && bytes.Equal(sigs[0].Trailer(), mustTrailer(t, body)) &&
			!sameButHints(body, changed) {
			t.Fatalf("a changed signature holds")
		}
	})
}

func mustTrailer(t require.TestingT, body []byte) []byte {
	s, err := openpgp.ParseSignature(body)
	require.NoError(t, err)
	return s.Trailer()
}

// sameButHints reports whether two signatures differ only in the unhashed area
// and in the two bytes that begin the hash, neither of which is signed.
func sameButHints(a, b []byte) bool {
	hashed := 6 + int(binary.BigEndian.Uint16(a[4:]))
	unhashed := hashed + 2 + int(binary.BigEndian.Uint16(a[hashed:]))
	return bytes.Equal(a[:hashed], b[:hashed]) && bytes.Equal(a[unhashed+2:], b[unhashed+2:])
}

// TestSubkeyOfAnother: a subkey bound to one primary key is worth nothing under
// another that merely has it.
func TestSubkeyOfAnother(t *testing.T) {
	sub := pgptest.NewKey("shared", pgptest.Ed25519, born)
	spec := pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}}
	owner := simple("owner", pgptest.Ed25519)
	owner.Subkey(sub, spec, &pgptest.Sig{Created: born})
	thief := simple("thief", pgptest.Ed25519)
	stolen := thief.Bytes()
	// The thief takes the subkey with the owner's binding …
	whole := owner.Bytes()
	stolen = append(stolen, whole[bytes.Index(whole, pgptest.Packet(14, nil)[:1]):]...)
	sig := sub.Sign(document, pgptest.Sig{Created: signedAt})
	if certs, _, err := openpgp.ReadCertificates(stolen); err == nil && len(certs) == 1 {
		assert.NotEqual(t, openpgp.Valid, verify(t, sig, document, rules(), certs[0]).Status)
	}
	// … or binds it anew, with the back signature that the subkey gave the owner.
	back := pgptest.BackSignature(owner.Primary, sub, pgptest.Sig{Created: born})
	bound := simple("thief", pgptest.Ed25519).
		Subkey(
			sub,
			pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign), {Type: 32, Body: back}}},
			nil,
		)
	r := verify(t, sig, document, rules(), readCert(t, bound.Bytes()))
	assert.Equal(t, openpgp.SignerUnfit, r.Status)
	assert.Contains(t, r.Reason, "back to the primary key")
	assert.Equal(t, openpgp.Valid, verify(t, sig, document, rules(), readCert(t, owner.Bytes())).Status)
}

// TestReplay: a signature over one artifact says nothing about another.
func TestReplay(t *testing.T) {
	for _, algorithm := range []pgptest.Algorithm{
		pgptest.Ed25519, pgptest.Ed448, pgptest.P521, pgptest.Secp256k1,
		pgptest.DSA1024, pgptest.RSA2048,
	} {
		made := simple("replay", algorithm)
		sig := made.Primary.Sign([]byte("gauge 4.1"), pgptest.Sig{Created: signedAt})
		assert.Equal(t, openpgp.Invalid, verify(t, sig, []byte("gauge 4.2"), rules(), readCert(t, made.Bytes())).Status)
	}
}
