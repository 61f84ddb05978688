package openpgp_test

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/openpgp"
	"endeixis/core/openpgp/pgptest"
)

// parts are the packets of one certificate, apart from each other.
type parts struct {
	key, sub *pgptest.Key
	primary  []byte
	user     []byte // with its self-certification
	second   []byte
	subkey   []byte // with its binding
}

func partsOf(seed string) parts {
	const id, second = "Tidewright Instruments", "Tidewright, second"
	p := parts{
		key: pgptest.NewKey(seed, pgptest.Ed25519, born), sub: pgptest.NewKey(seed+" sub", pgptest.Ed25519, born),
	}
	p.primary = pgptest.NewCertificate(p.key).Bytes()
	after := func(c *pgptest.Certificate) []byte { return c.Bytes()[len(p.primary):] }
	p.user = after(pgptest.NewCertificate(p.key).UserID(id, pgptest.Sig{Created: born, Hashed: maySign}))
	p.second = after(pgptest.NewCertificate(p.key).UserID(second, pgptest.Sig{Created: born, Hashed: maySign}))
	signs := []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}
	p.subkey = after(
		pgptest.NewCertificate(p.key).
			Subkey(p.sub, pgptest.Sig{Created: born, Hashed: signs}, &pgptest.Sig{Created: born}),
	)
	return p
}

// with puts a packet into a certificate behind each of its parts in turn.
func (p parts) with(packet []byte) map[string][]byte {
	out := map[string][]byte{}
	whole := [][]byte{p.primary, p.user, p.second, p.subkey}
	for i, behind := range []string{"the primary key", "a user ID", "another user ID", "the subkey, at the end"} {
		var file [][]byte
		for k, part := range whole {
			if file = append(file, part); k == i {
				file = append(file, packet)
			}
		}
		out[behind] = bytes.Join(file, nil)
	}
	return out
}

// statusOf verifies a signature by a key of a certificate.
func statusOf(t *testing.T, by *pgptest.Key, file []byte) openpgp.Result {
	t.Helper()
	return verify(t, by.Sign(document, pgptest.Sig{Created: signedAt}), document, rules(), readCert(t, file))
}

// TestARevocationCountsWhereverItStands: also once the certificate was vetted and merged.
func TestARevocationCountsWhereverItStands(t *testing.T) {
	t.Parallel()
	p := partsOf("place")
	hard := pgptest.Sig{Created: now.Add(-time.Hour), Hashed: []pgptest.Sub{pgptest.Reason(2, "")}}
	ofKey, ofSub, ofUser := hard, hard, hard
	ofKey.Type, ofSub.Type, ofUser.Type = pgptest.KeyRevocation, pgptest.SubkeyRevocation, pgptest.CertRevocation
	for name, c := range map[string]struct {
		packet []byte
		by     *pgptest.Key
		check  func(t *testing.T, file []byte)
	}{
		"of the key":    {pgptest.OverKey(p.key, p.key, ofKey), p.key, nil},
		"of the subkey": {pgptest.OverSubkey(p.key, p.sub, ofSub), p.sub, nil},
		"of a user ID": {pgptest.OverUserID(p.key, p.key, "Tidewright, second", ofUser), nil, func(t *testing.T, file []byte) {
			assert.Equal(t, []string{"Tidewright Instruments"}, readCert(t, file).Names())
		}},
	} {
		for behind, file := range p.with(c.packet) {
			t.Run(name+" behind "+behind, func(t *testing.T) {
				cert := readCert(t, file)
				vetted, vetting := cert.Vet(nil, nil)
				assert.Equal(
					t, openpgp.Vetting{Packets: vetting.Packets, Counted: vetting.Packets}, vetting, "all of it counts",
				)
				merged, left := openpgp.Merge(
					readCert(t, bytes.Join([][]byte{p.primary, p.user, p.second, p.subkey}, nil)), vetted, nil,
				)
				assert.Zero(t, left)
				for _, f := range [][]byte{file, vetted.Bytes(), merged.Bytes()} {
					if c.check != nil {
						c.check(t, f)
						continue
					}
					assert.Equal(t, openpgp.SignerRevoked, statusOf(t, c.by, f).Status)
				}
			})
		}
	}
}

// TestHintsThatLieHideNoRevocation: they stand where anybody can change them.
func TestHintsThatLieHideNoRevocation(t *testing.T) {
	p := partsOf("lying hints")
	lies := []pgptest.Sub{
		{Type: 33, Body: append([]byte{4}, bytes.Repeat([]byte{7}, 20)...)},
		{Type: 16, Body: bytes.Repeat([]byte{7}, 8)},
	}
	packet := pgptest.OverKey(
		p.key, p.key,
		pgptest.Sig{
			Type: pgptest.KeyRevocation, Created: now.Add(-time.Hour), NoIssuer: true,
			Hashed: []pgptest.Sub{pgptest.Reason(2, "")}, Unhashed: lies,
		},
	)
	for behind, file := range p.with(packet) {
		vetted, _ := readCert(t, file).Vet(nil, nil)
		assert.Equal(t, openpgp.SignerRevoked, statusOf(t, p.key, vetted.Bytes()).Status, behind)
	}
	// A revocation that names another key where only its maker can have written it is left alone.
	stranger := pgptest.NewKey("a stranger", pgptest.Ed25519, born)
	foreign := pgptest.OverKey(p.key, stranger, pgptest.Sig{Type: pgptest.KeyRevocation, Created: now.Add(-time.Hour)})
	for behind, file := range p.with(foreign) {
		assert.Equal(t, openpgp.Valid, statusOf(t, p.key, file).Status, behind)
	}
}

// TestAnAnchorsWithdrawalCountsWhereverItStands: of a certification that it made.
func TestAnAnchorsWithdrawalCountsWhereverItStands(t *testing.T) {
	p := partsOf("withdrawn")
	anchorKey := pgptest.NewKey("withdrawing anchor", pgptest.Ed25519, born)
	anchor := readCert(
		t, pgptest.NewCertificate(anchorKey).UserID("Anchor", pgptest.Sig{Created: born, Hashed: maySign}).Bytes(),
	)
	p.user = append(
		p.user,
		pgptest.OverUserID(
			p.key, anchorKey, "Tidewright Instruments", pgptest.Sig{Type: pgptest.Certification, Created: born},
		)...)
	plain := readCert(t, bytes.Join([][]byte{p.primary, p.user, p.second, p.subkey}, nil)).CertifiedBy(anchor, rules())
	require.Len(t, plain, 1)
	require.Equal(t, openpgp.CertificationHolds, plain[0].Status)
	known := func(*openpgp.Signature) []openpgp.Candidate {
		return []openpgp.Candidate{{Certificate: anchor, Key: anchor.Primary}}
	}
	back := pgptest.OverUserID(
		p.key, anchorKey, "Tidewright Instruments",
		pgptest.Sig{Type: pgptest.CertRevocation, Created: now.Add(-time.Hour)},
	)
	for behind, file := range p.with(back) {
		cert := readCert(t, file)
		later, _ := cert.Vet(nil, nil) // the anchor was not known yet
		sooner, _ := cert.Vet(nil, known)
		for _, c := range []*openpgp.Certificate{cert, readCert(t, later.Bytes()), readCert(t, sooner.Bytes())} {
			said := c.CertifiedBy(anchor, rules())
			require.Len(t, said, 1, behind)
			assert.Equal(t, openpgp.CertificationRevoked, said[0].Status, behind)
		}
	}
	// And so does a certification.
	p = partsOf("certified elsewhere")
	there := pgptest.OverUserID(
		p.key, anchorKey, "Tidewright Instruments", pgptest.Sig{Type: pgptest.Certification, Created: born},
	)
	for behind, file := range p.with(there) {
		sooner, _ := readCert(t, file).Vet(nil, known)
		if behind == "another user ID" {
			continue // it says nothing of that one, and a certification grants nothing by chance
		}
		said := readCert(t, sooner.Bytes()).CertifiedBy(anchor, rules())
		require.Len(t, said, 1, behind)
		assert.Equal(t, openpgp.CertificationHolds, said[0].Status, behind)
		assert.Equal(t, "Tidewright Instruments", said[0].UserID)
	}
}

// TestAllRevocationsAreJudged: the hardest decides, and of equally hard ones the earliest,
// whether of the primary key or of the subkey.
func TestAllRevocationsAreJudged(t *testing.T) {
	p := partsOf("all revocations")
	early, late := signedAt.Add(-time.Hour), signedAt.Add(time.Hour)
	of := func(at time.Time, reason byte) (primary, sub []byte) {
		spec := pgptest.Sig{Created: at, Hashed: []pgptest.Sub{pgptest.Reason(reason, "")}}
		spec.Type = pgptest.KeyRevocation
		primary = pgptest.OverKey(p.key, p.key, spec)
		spec.Type = pgptest.SubkeyRevocation
		return primary, pgptest.OverSubkey(p.key, p.sub, spec)
	}
	for name, c := range map[string]struct {
		primary, sub time.Time
		hardness     [2]byte
		want         openpgp.Status
	}{
		"the key's earlier, both soft":     {early, late, [2]byte{1, 3}, openpgp.SignerRevoked},
		"the subkey's earlier, both soft":  {late, early, [2]byte{3, 1}, openpgp.SignerRevoked},
		"both later, both soft":            {late, late, [2]byte{1, 3}, openpgp.Valid},
		"the key's hard and later":         {late, early.AddDate(5, 0, 0), [2]byte{2, 1}, openpgp.SignerRevoked},
		"the subkey's hard and much later": {late.AddDate(0, 1, 0), late.AddDate(0, 2, 0), [2]byte{1, 2}, openpgp.SignerRevoked},
	} {
		primary, _ := of(c.primary, c.hardness[0])
		_, sub := of(c.sub, c.hardness[1])
		file := bytes.Join([][]byte{p.primary, primary, p.user, p.subkey, sub}, nil)
		assert.Equal(t, c.want, statusOf(t, p.sub, file).Status, name)
	}
}

// TestARevocationWithoutSenseIsOneWithoutReason: what it says beside is damaged.
func TestARevocationWithoutSenseIsOneWithoutReason(t *testing.T) {
	for name, hashed := range map[string][]pgptest.Sub{
		"no reason":            nil,
		"an empty reason":      {{Type: 29}},
		"an unknown reason":    {{Type: 29, Body: []byte{77}}},
		"a damaged expiry":     {{Type: 3, Body: []byte{1}}},
		"a subpacket too long": {{Type: 29, Body: []byte{1}}, {Type: 9, Body: []byte{1, 2, 3}}},
	} {
		p := partsOf("senseless " + name)
		spec := pgptest.Sig{Type: pgptest.KeyRevocation, Created: signedAt.Add(time.Hour), Hashed: hashed}
		r := statusOf(t, p.key, bytes.Join([][]byte{p.primary, pgptest.OverKey(p.key, p.key, spec), p.user}, nil))
		want := openpgp.SignerRevoked
		if name == "a subpacket too long" {
			want = openpgp.Valid // it states a reason that leaves what was signed before
		}
		assert.Equal(t, want, r.Status, name)
		spec.Type = pgptest.SubkeyRevocation
		r = statusOf(
			t, p.sub, bytes.Join([][]byte{p.primary, p.user, p.subkey, pgptest.OverSubkey(p.key, p.sub, spec)}, nil),
		)
		assert.Equal(t, want, r.Status, name)
	}
}

// TestShortHashesDoNotBind: self-signatures and bindings need a hash as long as the key asks.
func TestShortHashesDoNotBind(t *testing.T) {
	for name, c := range map[string]struct {
		algorithm pgptest.Algorithm
		hash      byte
		want      openpgp.Status
	}{
		"P-384, SHA-256":         {pgptest.P384, pgptest.SHA256, openpgp.SignerUnfit},
		"P-384, SHA-384":         {pgptest.P384, pgptest.SHA384, openpgp.Valid},
		"P-521, SHA-384":         {pgptest.P521, pgptest.SHA384, openpgp.SignerUnfit},
		"P-521, SHA-512":         {pgptest.P521, pgptest.SHA512, openpgp.Valid},
		"Brainpool 512, SHA-384": {pgptest.Brainpool512, pgptest.SHA384, openpgp.SignerUnfit},
		"Ed448, SHA3-256":        {pgptest.Ed448, pgptest.SHA3_256, openpgp.SignerUnfit},
		"Ed448, SHA3-512":        {pgptest.Ed448, pgptest.SHA3_512, openpgp.Valid},
	} {
		key := pgptest.NewKey("short "+name, c.algorithm, born)
		file := pgptest.NewCertificate(key).UserID(
			"Short", pgptest.Sig{Created: born, Hash: c.hash, Hashed: maySign},
		).Bytes()
		assert.Equal(t, c.want, statusOf(t, key, file).Status, name)

		// A subkey that signs back with a hash that is too short for it.
		sub := pgptest.NewKey("short sub "+name, c.algorithm, born)
		signs := []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}
		whole := simple("short primary "+name, pgptest.Ed25519).
			Subkey(sub, pgptest.Sig{Created: born, Hashed: signs}, &pgptest.Sig{Created: born, Hash: c.hash})
		assert.Equal(t, c.want, statusOf(t, sub, whole.Bytes()).Status, name)
	}
}

// TestVersionsDoNotMix: a subkey of another version than its primary key is shown, and not used.
func TestVersionsDoNotMix(t *testing.T) {
	signs := []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}
	for name, c := range map[string]struct{ primary, sub *pgptest.Key }{
		"4 under 6": {pgptest.NewKey6("mixed primary", pgptest.Ed25519, born), pgptest.NewKey("mixed sub", pgptest.Ed25519, born)},
		"6 under 4": {pgptest.NewKey("mixed primary", pgptest.Ed25519, born), pgptest.NewKey6("mixed sub", pgptest.Ed25519, born)},
	} {
		made := pgptest.NewCertificate(c.primary).UserID("Mixed", pgptest.Sig{Created: born, Hashed: maySign}).
			Subkey(c.sub, pgptest.Sig{Created: born, Hashed: signs}, &pgptest.Sig{Created: born})
		r := statusOf(t, c.sub, made.Bytes())
		assert.Equal(t, openpgp.SignerUnfit, r.Status, name)
		assert.Contains(t, r.Reason, "do not go together", name)
		cert := readCert(t, made.Bytes())
		require.Len(t, cert.Subkeys, 1, name)
		assert.Empty(t, cert.Uses(cert.Subkeys[0].Key, rules()), name)
		assert.Equal(t, openpgp.Valid, statusOf(t, c.primary, made.Bytes()).Status, name)
	}
}

// TestVersion3CertificationsHashTheBareUserID: and hold then.
func TestVersion3CertificationsHashTheBareUserID(t *testing.T) {
	long := time.Date(2019, 1, 1, 0, 0, 0, 0, time.UTC)
	key := pgptest.NewKey("bare", pgptest.RSA2048, long)
	cert := readCert(t, pgptest.NewCertificate(key).UserID("Bare", pgptest.Sig{Version: 3, Created: long}).Bytes())
	assert.Equal(t, []string{"Bare"}, cert.Names())
	// Over what a later version hashes it does not hold.
	framed := append(pgptest.NewCertificate(key).Bytes(), pgptest.Packet(13, []byte("Bare"))...)
	head := append([]byte{0xb4, 0, 0, 0, 4}, "Bare"...)
	framed = append(
		framed,
		pgptest.OverUserID(
			key, key, string(head), pgptest.Sig{Version: 3, Type: pgptest.Certification, Created: long},
		)...)
	assert.Empty(t, readCert(t, framed).Names())
}

// TestCompromisedFollowsTheKey through all certificates that it is really part of.
func TestCompromisedFollowsTheKey(t *testing.T) {
	signs := []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}
	sub := pgptest.NewKey("shared sub", pgptest.Ed25519, born)
	hard := pgptest.Sig{Created: now.Add(-time.Hour), Hashed: []pgptest.Sub{pgptest.Reason(2, "")}}
	first := func() *pgptest.Certificate {
		return simple("first owner", pgptest.Ed25519).
			Subkey(sub, pgptest.Sig{Created: born, Hashed: signs}, &pgptest.Sig{Created: born})
	}
	second := simple("second owner", pgptest.Ed25519).
		Subkey(sub, pgptest.Sig{Created: born, Hashed: signs}, &pgptest.Sig{Created: born})
	stranger := simple("no owner", pgptest.Ed25519).
		Subkey(sub, pgptest.Sig{Created: born, Hashed: signs}, nil).
		RevokeSubkey(sub, hard)
	sig := sub.Sign(document, pgptest.Sig{Created: signedAt})
	good, revoked := readCert(t, second.Bytes()), readCert(t, first().RevokeSubkey(sub, hard).Bytes())
	assert.Equal(t, openpgp.Valid, verify(t, sig, document, rules(), good, readCert(t, first().Bytes())).Status)
	for _, order := range [][]*openpgp.Certificate{{good, revoked}, {revoked, good}} {
		assert.Equal(t, openpgp.SignerRevoked, verify(t, sig, document, rules(), order...).Status)
	}
	assert.Equal(
		t, openpgp.Valid, verify(t, sig, document, rules(), readCert(t, stranger.Bytes()), good).Status,
		"a stranger who attached it revokes nothing",
	)
}

// TestOneBadSignatureSpoilsOnlyItself: beside a good one, in binary, armor and frames.
func TestOneBadSignatureSpoilsOnlyItself(t *testing.T) {
	made := simple("beside", pgptest.Ed25519)
	cert := readCert(t, made.Bytes())
	good := made.Primary.Sign(document, pgptest.Sig{Created: signedAt})
	body := good[2:]
	cut := func(n int) []byte { return pgptest.Packet(2, body[:n]) }
	bad := map[string][]byte{
		"empty":               pgptest.Packet(2, nil),
		"one byte":            cut(1),
		"cut in the areas":    cut(8),
		"cut in the value":    cut(len(body) - 5),
		"surplus behind it":   pgptest.Packet(2, append(bytes.Clone(body), 1)),
		"version 3, 6 hashed": pgptest.Packet(2, []byte{3, 6, 0, 0, 0, 0, 0, 0}),
		"a subpacket of 0":    pgptest.Packet(2, []byte{4, 0, 27, 8, 0, 1, 0, 0, 0, 1, 1}),
		"a time of 3 bytes": pgptest.Packet(
			2, append([]byte{4, 0, 27, 8, 0, 5, 4, 2, 1, 1, 1, 0, 0, 1, 1}, make([]byte, 64)...),
		),
		"a salt that is short": pgptest.Packet(
			2, append([]byte{6, 0, 27, 8, 0, 0, 0, 0, 0, 0, 0, 0, 1, 1, 3, 1, 2, 3}, make([]byte, 64)...),
		),
		"a number not minimal": pgptest.Packet(2, []byte{4, 0, 1, 8, 0, 0, 0, 0, 1, 1, 0, 16, 0, 1}),
		"a length that lies":   {0xc2, 255, 0, 0, 9, 9, 4, 0},
	}
	for name, packet := range bad {
		files := map[string][]byte{
			"an empty block": append(
				pgptest.Armor("PGP SIGNATURE", nil),
				pgptest.Armor("PGP SIGNATURE", good)...),
			"binary, behind": append(bytes.Clone(good), packet...),
			"armor, two blocks": append(
				pgptest.Armor("PGP SIGNATURE", good),
				pgptest.Armor("PGP SIGNATURE", packet)...),
			"armor, the other way": append(
				pgptest.Armor("PGP SIGNATURE", packet),
				pgptest.Armor("PGP SIGNATURE", good)...),
			"a broken block": append(
				[]byte("-----BEGIN PGP SIGNATURE-----\n\n%%%\n-----END PGP SIGNATURE-----\n"),
				pgptest.Armor("PGP SIGNATURE", good)...),
		}
		if name != "a length that lies" {
			files["binary, in front"] = append(bytes.Clone(packet), good...)
		} else {
			delete(files, "armor, the other way") // a block without a signature that begins
		}
		for form, file := range files {
			sigs, err := openpgp.ReadSignatures(file)
			require.NoError(t, err, "%s, %s", name, form)
			require.Len(t, sigs, 2, "%s, %s", name, form)
			malformed := 0
			for _, s := range sigs {
				if s.Malformed() != nil {
					malformed++
					continue
				}
				h, err := s.NewHash()
				require.NoError(t, err)
				h.Write(document)
				r := openpgp.Verify(
					s, openpgp.Document{Digest: s.Finish(h)},
					[]openpgp.Candidate{{Certificate: cert, Key: cert.Primary}}, rules(),
				)
				assert.Equal(t, openpgp.Valid, r.Status, "%s, %s", name, form)
			}
			assert.Equal(t, 1, malformed, "%s, %s", name, form)
		}
		_, err := openpgp.ReadSignatures(packet)
		assert.Error(t, err, "%s alone is no signature file", name)
	}
	framed := pgptest.Cleartext("the tide", pgptest.Sig{Created: signedAt}, made.Primary)
	framed = append(framed, "-----BEGIN PGP SIGNATURE-----\n\n%%%%\n-----END PGP SIGNATURE-----\n"...)
	c, err := openpgp.ReadCleartext(framed)
	require.NoError(t, err)
	require.Len(t, c.Signatures, 2)
	assert.Error(t, c.Signatures[1].Malformed())
	// What carries content of its own is still none.
	_, err = openpgp.ReadSignatures(append(bytes.Clone(good), pgptest.Literal("", document)...))
	assert.ErrorContains(t, err, "carries content of its own")
}

// TestADamagedCertificateSpoilsNoOther: the rest of a ring is read, and it is named.
func TestADamagedCertificateSpoilsNoOther(t *testing.T) {
	spoilt, two := simple("ring one", pgptest.Ed25519).Bytes(), simple("ring two", pgptest.Ed25519).Bytes()
	for name, middle := range map[string][]byte{
		"a key cut short":             pgptest.Packet(6, []byte{4, 0, 0, 0, 1, 1, 8}),
		"a packet that has no place":  append(simple("odd", pgptest.Ed25519).Bytes(), pgptest.Literal("", document)...),
		"a critical packet, and more": append(pgptest.Packet(6, []byte{4, 0, 0, 0, 1, 27}), append(pgptest.Packet(30, []byte("x")), pgptest.Packet(13, []byte("y"))...)...),
	} {
		certs, skipped, err := openpgp.ReadCertificates(bytes.Join([][]byte{spoilt, middle, two}, nil))
		require.NoError(t, err, name)
		assert.Len(t, certs, 2, name)
		require.NotEmpty(t, skipped, name)
		var format *openpgp.FormatError
		require.ErrorAs(t, skipped[0], &format, name)
		assert.GreaterOrEqual(t, format.Offset, len(spoilt), name)
	}
	// Where the end of a packet cannot be told, what stands before the key that it is in is read.
	certs, skipped, err := openpgp.ReadCertificates(bytes.Join([][]byte{spoilt, two, {0xc2, 255, 0, 0, 9, 9}}, nil))
	require.NoError(t, err)
	assert.Len(t, certs, 1)
	assert.Len(t, skipped, 1)
	_, _, err = openpgp.ReadCertificates(append(bytes.Clone(spoilt), 0xc2, 255, 0, 0, 9, 9))
	assert.Error(t, err, "of an only key nobody knows what is missing")
	certs, skipped, err = openpgp.ReadCertificates(
		append(pgptest.Armor("PGP PUBLIC KEY BLOCK", spoilt), pgptest.Armor("PGP PUBLIC KEY BLOCK", nil)...),
	)
	require.NoError(t, err)
	assert.Len(t, certs, 1)
	assert.Len(t, skipped, 1)
	damaged := bytes.Replace(pgptest.Armor("PGP PUBLIC KEY BLOCK", two), []byte("\n\n"), []byte("\n\n%%"), 1)
	certs, skipped, err = openpgp.ReadCertificates(append(pgptest.Armor("PGP PUBLIC KEY BLOCK", spoilt), damaged...))
	require.NoError(t, err)
	assert.Len(t, certs, 1)
	assert.Len(t, skipped, 1)
}

// TestArmorHasAnythingInFront: text in any script, and header lines without a value.
func TestArmorHasAnythingInFront(t *testing.T) {
	made := simple("in front", pgptest.Ed25519)
	sig := pgptest.Armor("PGP SIGNATURE", made.Primary.Sign(document, pgptest.Sig{Created: signedAt}))
	headers := bytes.Replace(sig, []byte("-----\n\n"), []byte("-----\nComment:\nVersion: 1\n\n"), 1)
	for name, file := range map[string][]byte{
		"an empty header":  headers,
		"Greek":            append([]byte("Ἐνδείξεις τοῦ λιμένος\n\n"), sig...),
		"a letter beyond":  append([]byte("Änderungen:\n"), sig...),
		"Latin-1":          append([]byte("\xc4nderungen\n"), sig...),
		"a mark in front":  append([]byte("\xef\xbb\xbf"), sig...),
		"Japanese, CR LF":  append([]byte("署名\r\n"), bytes.ReplaceAll(headers, []byte("\n"), []byte("\r\n"))...),
		"a line of dashes": append([]byte("-----\n"), sig...),
	} {
		sigs, err := openpgp.ReadSignatures(file)
		require.NoError(t, err, name)
		assert.Len(t, sigs, 1, name)
		assert.NoError(t, sigs[0].Malformed(), name)
	}
	// A line like that within binary is content.
	odd := pgptest.NewCertificate(made.Primary).
		UserID("x\n-----BEGIN PGP PUBLIC KEY BLOCK-----\n", pgptest.Sig{Created: born, Hashed: maySign})
	assert.Equal(t, 1, len(readCert(t, odd.Bytes()).UserIDs), fmt.Sprintf("%q", odd.Bytes()[:8]))
}

// TestHashingIsPaidBefore: what an import may spend bounds the bytes that it hashes, too.
func TestHashingIsPaidBefore(t *testing.T) {
	t.Parallel()
	const many = 200
	stranger := pgptest.NewKey("the stranger", pgptest.Ed25519, born)
	crowded := func(key *pgptest.Key, size int) *openpgp.Certificate {
		// An attribute of a kind that is not known.
		body := append(
			[]byte{255, byte(size >> 24), byte(size >> 16), byte(size >> 8), byte(size), 100},
			make([]byte, size-1)...)
		made := pgptest.NewCertificate(key).
			UserID("Crowded", pgptest.Sig{Created: born, Hashed: maySign}).
			Add(pgptest.Packet(17, body))
		for i := range many {
			made.Add(
				stranger.Sign(
					[]byte("junk"), forged(key, pgptest.Certification, born.Add(time.Duration(i)*time.Second)),
				),
			)
		}
		return readCert(t, made.Bytes())
	}
	four := crowded(pgptest.NewKey("crowded four", pgptest.Ed25519, born), 900<<10)
	_, vetting := four.Vet(openpgp.NewEffort(100*time.Millisecond), nil)
	assert.Equal(
		t, openpgp.Vetting{Packets: 4 + many, Counted: 3, Forged: many, Unsigned: 1}, vetting,
		"what is over the same bytes hashes them once",
	)
	_, vetting = crowded(pgptest.NewKey("crowded again", pgptest.Ed25519, born), 900<<10).
		Vet(openpgp.NewEffort(time.Millisecond), nil)
	assert.Equal(t, many, vetting.Unchecked, "what cannot be paid is not hashed")
	assert.Zero(t, vetting.Forged)
	// By a key of an algorithm that is not known nothing is hashed at all.
	unusable := pgptest.NewKey("crowded and unusable", pgptest.ECDH, born)
	junk := pgptest.NewCertificate(unusable).Add(pgptest.Packet(13, []byte("Crowded")))
	for i := range many {
		junk.Add(
			stranger.Sign(
				[]byte("junk"), forged(unusable, pgptest.Certification, born.Add(time.Duration(i)*time.Second)),
			),
		)
	}
	_, vetting = readCert(t, junk.Bytes()).Vet(openpgp.NewEffort(0), nil)
	assert.Equal(t, openpgp.Vetting{Packets: 2 + many, Counted: 1, Forged: many, Unsigned: 1}, vetting)
	// Nobody waits for it any longer.
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, vetting = crowded(pgptest.NewKey("nobody waits", pgptest.Ed25519, born), 100).
		Vet(openpgp.EffortUntil(ctx, time.Hour), nil)
	assert.Equal(t, many+1, vetting.Unchecked)
}

// TestPartsThatAreTooLong are left out and named, with what is about them; the rest is read.
func TestPartsThatAreTooLong(t *testing.T) {
	key := pgptest.NewKey("long parts", pgptest.Ed25519, born)
	long := string(bytes.Repeat([]byte("x"), 1<<20))
	made := pgptest.NewCertificate(key).
		UserID(long, pgptest.Sig{Created: born, Hashed: maySign}).
		UserID("Short", pgptest.Sig{Created: born, Hashed: maySign}).
		Add(pgptest.Packet(14, append([]byte{4, 0, 0, 0, 1, 99}, make([]byte, 100<<10)...)))
	certs, skipped, err := openpgp.ReadCertificates(made.Bytes())
	require.NoError(t, err)
	require.Len(t, certs, 1)
	require.Len(t, certs[0].UserIDs, 1)
	assert.Equal(t, []string{"Short"}, certs[0].Names())
	require.Len(t, skipped, 2)
	for _, e := range skipped {
		var part *openpgp.PartError
		require.ErrorAs(t, e, &part)
		assert.Contains(t, e.Error(), "are not read")
	}
	_, _, err = openpgp.ReadCertificates(pgptest.Packet(6, append([]byte{4, 0, 0, 0, 1, 99}, make([]byte, 100<<10)...)))
	assert.ErrorContains(t, err, "are not read")
}

// TestEveryPacketIsAccountedFor: what is not kept, and what counts for nothing, is counted.
func TestEveryPacketIsAccountedFor(t *testing.T) {
	p := partsOf("accounted")
	decidedKey := pgptest.NewKey("accounted anchor", pgptest.Ed25519, born)
	strangerKey := pgptest.NewKey("accounted stranger", pgptest.Ed25519, born)
	anchor := readCert(
		t, pgptest.NewCertificate(decidedKey).UserID("Anchor", pgptest.Sig{Created: born, Hashed: maySign}).Bytes(),
	)
	certification := pgptest.Sig{Type: pgptest.Certification, Created: born}
	unsupported := pgptest.Packet(2, []byte{9, 0, 0})
	file := bytes.Join([][]byte{
		p.primary, pgptest.Packet(12, []byte{1}), pgptest.Packet(60, []byte("private")),
		p.key.Sign(document, pgptest.Sig{Created: born}), // misplaced: over a document
		p.user,
		pgptest.OverUserID(p.key, decidedKey, "Tidewright Instruments", certification),
		strangerKey.Sign([]byte("untrue"), forged(decidedKey, pgptest.Certification, born)),
		pgptest.OverUserID(p.key, strangerKey, "Tidewright Instruments", certification),
		strangerKey.Sign([]byte("forged"), forged(p.key, pgptest.Certification, born)),
		unsupported, pgptest.Packet(2, []byte{4, 0x10}),
		p.subkey, pgptest.Packet(13, []byte("not his")),
	}, nil)
	vetted, vetting := readCert(t, file).Vet(nil, func(s *openpgp.Signature) []openpgp.Candidate {
		if s.IssuerFingerprint != anchor.Primary.Fingerprint {
			return nil
		}
		return []openpgp.Candidate{{Certificate: anchor, Key: anchor.Primary}}
	})
	assert.Equal(
		t,
		openpgp.Vetting{
			Packets: 15, Counted: 6, Forged: 1, Misplaced: 1, Untrue: 1, PassedOver: 2, Unknown: 1, Unread: 2,
			Unsigned: 1,
		},
		vetting,
	)
	// Signatures: the self-certification, the binding, the anchor's, the stranger's, two that are
	// not read. Parts: two keys and two user IDs.
	a, err := openpgp.Inspect(vetted.Bytes(), rules())
	require.NoError(t, err)
	assert.Len(t, a.Packets, 10)
}

// TestWhatIsAboutASubkeyThatCannotBeReadIsKept: later versions of this program may read it.
func TestWhatIsAboutASubkeyThatCannotBeReadIsKept(t *testing.T) {
	p := partsOf("unread")
	hard := pgptest.Sig{
		Type: pgptest.SubkeyRevocation, Created: now.Add(-time.Hour), Hashed: []pgptest.Sub{pgptest.Reason(2, "")},
	}
	future := pgptest.Packet(14, append([]byte{7, 0, 0, 0, 1, 99}, make([]byte, 30)...))
	binding := p.key.Sign([]byte("over what is not known"), pgptest.Sig{Type: pgptest.SubkeyBinding, Created: born})
	file := bytes.Join(
		[][]byte{p.primary, p.user, p.subkey, future, binding, pgptest.OverSubkey(p.key, p.sub, hard)}, nil,
	)
	vetted, vetting := readCert(t, file).Vet(nil, nil)
	assert.Equal(t, openpgp.Vetting{Packets: 8, Counted: 6, Unread: 1, Unsigned: 1}, vetting)
	assert.True(t, bytes.Contains(vetted.Bytes(), binding[2:]), "its binding is kept")
	assert.Equal(
		t, openpgp.SignerRevoked, statusOf(t, p.sub, vetted.Bytes()).Status,
		"and a revocation behind it counts for the subkey that it is of",
	)
}

// TestWhatIsTooLongEndsWithItsKey: a part that is too long takes the signatures behind it along,
// and nothing of the key that follows; keys that are too long take nothing from what was read.
func TestWhatIsTooLongEndsWithItsKey(t *testing.T) {
	t.Parallel()
	self := pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MayCertify | pgptest.MaySign)}}
	one, two := pgptest.NewKey("too long, one", pgptest.Ed25519, born), pgptest.NewKey("too long, two", pgptest.Ed25519, born)
	first := pgptest.NewCertificate(one).UserID("One", self).Bytes()
	long := pgptest.Packet(17, make([]byte, 1<<20+1))
	second := pgptest.NewCertificate(two).
		Key(two, pgptest.Sig{Type: pgptest.KeyRevocation, Created: born.AddDate(1, 0, 0)}).UserID("Two", self).Bytes()
	certs, _, err := openpgp.ReadCertificates(slices.Concat(first, long, second))
	require.NoError(t, err)
	require.Len(t, certs, 2)
	require.NotNil(t, certs[1].Revocation(), "the signature is over the key itself")

	keys := bytes.Repeat(pgptest.Packet(6, make([]byte, 64<<10+1)), 1001)
	certs, skipped, err := openpgp.ReadCertificates(slices.Concat(first, keys))
	require.NoError(t, err)
	assert.Len(t, certs, 1)
	assert.Len(t, skipped, 1001)
}
