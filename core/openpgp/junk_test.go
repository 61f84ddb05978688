package openpgp_test

import (
	"bytes"
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/openpgp"
	"endeixis/core/openpgp/pgptest"
)

const junkID = "Oarlock <release@oarlock.example>"

var (
	maySign  = []pgptest.Sub{pgptest.Flags(pgptest.MayCertify | pgptest.MaySign)}
	rubbish  = pgptest.NewKey("rubbish", pgptest.Ed25519, born)
	anyTime  = func(i int) time.Time { return now.Add(-time.Duration(i) * time.Second) }
	signsNow = pgptest.Sig{Created: signedAt}
)

// forged is a signature by another key that says to be by this one.
func forged(of *pgptest.Key, t byte, at time.Time) pgptest.Sig {
	issuer := append([]byte{4}, openpgp.Fingerprint(of.Fingerprint()).Bytes()...)
	return pgptest.Sig{
		Type: t, Created: at, NoIssuer: true, Hashed: append([]pgptest.Sub{{Type: 33, Body: issuer}}, maySign...),
	}
}

// TestJunkHidesNothing puts thousands of forgeries before, between and behind what is
// genuine, all newer, and merged over time.
func TestJunkHidesNothing(t *testing.T) {
	t.Parallel()
	const many = 2500
	key := pgptest.NewKey("crowded out", pgptest.Ed25519, born)
	sub := pgptest.NewKey("crowded sub", pgptest.Ed25519, born)
	signing := pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}}
	short := pgptest.Sig{Created: born, Hashed: append([]pgptest.Sub{pgptest.KeyExpires(24 * time.Hour)}, maySign...)}
	longer := pgptest.Sig{Type: pgptest.Certification, Created: born.AddDate(0, 1, 0), Hashed: maySign}
	compromised := pgptest.Sig{
		Type: pgptest.KeyRevocation, Created: born.AddDate(0, 2, 0), Hashed: []pgptest.Sub{pgptest.Reason(2, "")},
	}

	junk := func(c *pgptest.Certificate, t byte) {
		for i := range many {
			switch t {
			case pgptest.KeyRevocation, pgptest.DirectKey:
				c.Key(rubbish, forged(key, t, anyTime(i)))
			default:
				c.Certify(rubbish, junkID, forged(key, t, anyTime(i)))
			}
		}
	}
	build := func(revoked bool) *pgptest.Certificate {
		c := pgptest.NewCertificate(key)
		junk(c, pgptest.KeyRevocation)
		junk(c, pgptest.DirectKey)
		if revoked {
			c.Key(key, compromised)
		}
		c.UserID(junkID, short)
		junk(c, pgptest.Certification)
		c.Certify(key, junkID, longer)
		junk(c, pgptest.CertRevocation)
		return c.Subkey(sub, signing, &pgptest.Sig{Created: born})
	}
	status := func(certs ...*openpgp.Certificate) openpgp.Status {
		return verify(t, sub.Sign(document, signsNow), document, rules(), certs...).Status
	}
	clean := readCert(
		t,
		pgptest.NewCertificate(key).UserID(junkID, short).Certify(key, junkID, longer).Subkey(
			sub, signing, &pgptest.Sig{Created: born},
		).Bytes(),
	)
	assert.Equal(t, openpgp.Valid, status(clean))
	crowded := readCert(t, build(false).Bytes())
	assert.Equal(t, openpgp.Valid, status(crowded), "the expiry was extended")
	assert.Equal(t, openpgp.SignerRevoked, status(readCert(t, build(true).Bytes())))

	vetted, vetting := crowded.Vet(nil, nil)
	assert.Equal(t, openpgp.Vetting{Packets: 6 + 4*many, Counted: 6, Forged: 4 * many}, vetting)
	assert.Equal(t, clean.Bytes(), vetted.Bytes(), "nothing is left of the junk")
	merged, left := openpgp.Merge(clean, readCert(t, build(false).Bytes()), nil)
	assert.Zero(t, left)
	assert.Equal(t, clean.Bytes(), merged.Bytes())
	revoked, _ := openpgp.Merge(merged, readCert(t, build(true).Bytes()), nil)
	assert.Equal(t, openpgp.SignerRevoked, status(revoked))
	assert.Equal(t, openpgp.SignerRevoked, status(readCert(t, revoked.Bytes())), "as it is stored")
}

// TestJunkTakesNoRoom fills every part that a certificate may have, before what is
// genuine comes.
func TestJunkTakesNoRoom(t *testing.T) {
	t.Parallel()
	key, sub := pgptest.NewKey("no room", pgptest.Ed25519, born), pgptest.NewKey("late", pgptest.Ed25519, born)
	known := readCert(
		t, pgptest.NewCertificate(key).UserID(junkID, pgptest.Sig{Created: born, Hashed: maySign}).Bytes(),
	)
	for round := range 3 {
		c := pgptest.NewCertificate(key)
		for i := range 990 {
			c.Add(pgptest.Packet(13, []byte(fmt.Sprint("nobody ", round, i)))).
				Certify(rubbish, "x", pgptest.Sig{Type: pgptest.Certification, Created: now})
		}
		known, _ = openpgp.Merge(known, readCert(t, c.Bytes()), nil)
	}
	assert.LessOrEqual(t, len(known.UserIDs), 51)
	late := pgptest.NewCertificate(key).
		Subkey(
			sub, pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}},
			&pgptest.Sig{Created: born},
		)
	known, left := openpgp.Merge(known, readCert(t, late.Bytes()), nil)
	assert.Zero(t, left)
	assert.Equal(t, openpgp.Valid, verify(t, sub.Sign(document, signsNow), document, rules(), known).Status)

	// Certifications by nobody in particular leave room for one by a known key.
	anchor := simple("anchor of it", pgptest.Ed25519)
	strangers := pgptest.NewCertificate(key).UserID(junkID, pgptest.Sig{Created: born, Hashed: maySign})
	for i := range 19_000 {
		strangers.Add(pgptest.Packet(2, fmt.Appendf(nil, "\x05 of a later version, %d", i)))
	}
	full, vetting := readCert(t, strangers.Bytes()).Vet(nil, nil)
	assert.Equal(t, 9001, vetting.Surplus, "one of the 10,000 is the owner's")
	certified := pgptest.NewCertificate(key).UserID(junkID, pgptest.Sig{Created: born, Hashed: maySign}).
		Certify(anchor.Primary, junkID, pgptest.Sig{Type: pgptest.Certification, Created: signedAt})
	by := readCert(t, anchor.Bytes())
	finds := func(s *openpgp.Signature) []openpgp.Candidate {
		if s.IssuerFingerprint != by.Primary.Fingerprint {
			return nil
		}
		return []openpgp.Candidate{{Certificate: by, Key: by.Primary}}
	}
	genuine, _ := readCert(t, certified.Bytes()).Vet(nil, finds)
	full, left = openpgp.Merge(full, genuine, finds)
	assert.Zero(t, left)
	says := full.CertifiedBy(by, rules())
	require.Len(t, says, 1)
	assert.Equal(t, openpgp.CertificationHolds, says[0].Status)
}

// TestEffortIsBounded: signatures on curves that are slow to compute with are left
// unchecked where there are too many, and that is told; revocations come first.
func TestEffortIsBounded(t *testing.T) {
	t.Parallel()
	key := pgptest.NewKey("slow", pgptest.Brainpool256, born)
	c := pgptest.NewCertificate(key)
	c.UserID(junkID, pgptest.Sig{Created: born, Hashed: maySign})
	size := len(c.Bytes())
	c.Certify(pgptest.NewKey("slow too", pgptest.Brainpool256, born), junkID, forged(key, pgptest.Certification, now))
	forgery := c.Bytes()[size:]
	for i := range 2000 {
		second := bytes.Clone(forgery)
		second[len(second)-1], second[len(second)-2] = byte(i), byte(i>>8)
		c.Add(second)
	}
	data := append(
		c.Bytes(),
		pgptest.NewCertificate(key).Key(
			key, pgptest.Sig{Type: pgptest.KeyRevocation, Created: born.AddDate(0, 1, 0)},
		).Bytes()...)
	certs, _, err := openpgp.ReadCertificates(data)
	require.NoError(t, err)
	require.Len(t, certs, 2)
	vetted, vetting := certs[0].Vet(openpgp.NewEffort(time.Second/2), nil)
	assert.Positive(t, vetting.Unchecked)
	assert.Less(t, vetting.Forged, 100)
	assert.Equal(t, 2002, vetting.Forged+vetting.Unchecked+len(vetted.Names()), "every one is accounted for")
	merged, _ := openpgp.Merge(vetted, certs[1], nil)
	assert.NotNil(t, merged.Revocation())

	whole := openpgp.NewEffort(3 * time.Second)
	part, giveBack := whole.Share(4)
	certs[1].Vet(part, nil)
	giveBack()
	again, _ := whole.Share(1)
	_, vetting = readCert(t, c.Bytes()).Vet(again, nil)
	assert.Greater(t, vetting.Forged, 100, "what one did not need is there for the next")
}

// TestWhatRestrictsCounts: the newest self-signature cannot be accepted, and takes
// something away.
func TestWhatRestrictsCounts(t *testing.T) {
	t.Parallel()
	key := pgptest.NewKey("restricted", pgptest.Ed25519, born)
	sub := pgptest.NewKey("restricted sub", pgptest.Ed25519, born)
	later := born.AddDate(0, 1, 0)
	critical := pgptest.Sub{Type: 20, Critical: true, Body: []byte("\x80\x00\x00\x00\x00\x04\x00\x01a@b.c")}
	expiry := pgptest.KeyExpires(60 * 24 * time.Hour)
	certifies := pgptest.Flags(pgptest.MayCertify)
	signs := pgptest.Flags(pgptest.MaySign)
	for name, c := range map[string]struct {
		newest pgptest.Sig
		want   openpgp.Status
	}{
		"SHA-1, expires":           {pgptest.Sig{Hash: pgptest.SHA1, Created: later, Hashed: append([]pgptest.Sub{expiry}, maySign...)}, openpgp.SignerExpired},
		"SHA-1, may not sign":      {pgptest.Sig{Hash: pgptest.SHA1, Created: later, Hashed: []pgptest.Sub{certifies}}, openpgp.SignerUnfit},
		"critical, expires":        {pgptest.Sig{Created: later, Hashed: append([]pgptest.Sub{expiry, critical}, maySign...)}, openpgp.SignerExpired},
		"critical, may not sign":   {pgptest.Sig{Created: later, Hashed: []pgptest.Sub{certifies, critical}}, openpgp.SignerUnfit},
		"MD5, expires":             {pgptest.Sig{Hash: pgptest.MD5, Created: later, Hashed: append([]pgptest.Sub{expiry}, maySign...)}, openpgp.SignerExpired},
		"SHA-1, takes nothing":     {pgptest.Sig{Hash: pgptest.SHA1, Created: later, Hashed: maySign}, openpgp.Valid},
		"SHA-1, older":             {pgptest.Sig{Hash: pgptest.SHA1, Created: born.Add(-time.Hour), Hashed: append([]pgptest.Sub{expiry}, maySign...)}, openpgp.Valid},
		"SHA-1, of the future":     {pgptest.Sig{Hash: pgptest.SHA1, Created: now.AddDate(1, 0, 0), Hashed: append([]pgptest.Sub{expiry}, maySign...)}, openpgp.Valid},
		"accepted, and gives more": {pgptest.Sig{Created: later, Hashed: append([]pgptest.Sub{pgptest.KeyExpires(5000 * 24 * time.Hour)}, maySign...)}, openpgp.Valid},
	} {
		c.newest.Type = pgptest.Certification
		made := pgptest.NewCertificate(key).
			UserID(junkID, pgptest.Sig{Created: born, Hashed: maySign}).
			Certify(key, junkID, c.newest)
		r := verify(t, key.Sign(document, signsNow), document, rules(), readCert(t, made.Bytes()))
		assert.Equal(t, c.want, r.Status, "%s: %s", name, r.Reason)

		// The same on the binding of a subkey.
		c.newest.Type = pgptest.SubkeyBinding
		c.newest.Hashed = slices.Clone(c.newest.Hashed)
		for i := range c.newest.Hashed {
			if c.newest.Hashed[i].Type == 27 && c.newest.Hashed[i].Body[0]&pgptest.MaySign != 0 {
				c.newest.Hashed[i] = signs
			}
		}
		back := &pgptest.Sig{Created: born}
		first := pgptest.NewCertificate(key).UserID(junkID, pgptest.Sig{Created: born, Hashed: maySign}).
			Subkey(sub, pgptest.Sig{Created: born, Hashed: []pgptest.Sub{signs}}, back)
		second := pgptest.NewCertificate(key).Subkey(sub, c.newest, back)
		merged, _ := openpgp.Merge(readCert(t, first.Bytes()), readCert(t, second.Bytes()), nil)
		r = verify(t, sub.Sign(document, signsNow), document, rules(), merged)
		assert.Equal(t, c.want, r.Status, "subkey, %s: %s", name, r.Reason)
	}
}

// TestTheHardestReasonCounts: a revocation with two reasons, in either order, and two
// revocations.
func TestTheHardestReasonCounts(t *testing.T) {
	t.Parallel()
	for _, reasons := range [][]byte{{1, 2}, {2, 1}, {3, 0}, {0, 3}, {3, 99}, {99, 3}} {
		made := simple("two reasons", pgptest.Ed25519)
		var subs []pgptest.Sub
		for _, r := range reasons {
			subs = append(subs, pgptest.Reason(r, ""))
		}
		lone := pgptest.NewCertificate(made.Primary).
			Key(made.Primary, pgptest.Sig{Type: pgptest.KeyRevocation, Created: now, Hashed: subs})
		cert, _ := openpgp.Merge(readCert(t, made.Bytes()), readCert(t, lone.Bytes()), nil)
		assert.Equal(
			t, openpgp.SignerRevoked, verify(t, made.Primary.Sign(document, signsNow), document, rules(), cert).Status,
			reasons,
		)
	}
}

// TestStrippedCopies: a copy of a binding without its signature back, or with one
// that does not hold, poisons nothing, whichever comes first.
func TestStrippedCopies(t *testing.T) {
	t.Parallel()
	primary := pgptest.NewKey("stripped", pgptest.Ed25519, born)
	sub := pgptest.NewKey("stripped sub", pgptest.Ed25519, born)
	signing := pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}}
	start := func() *pgptest.Certificate {
		return pgptest.NewCertificate(primary).
			UserID(junkID, pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MayCertify)}})
	}
	whole := start().Subkey(sub, signing, &pgptest.Sig{Created: born}).Bytes()
	stripped := start().Subkey(sub, signing, nil).Bytes()
	withJunk := signing
	withJunk.Unhashed = []pgptest.Sub{
		{Type: 32, Body: pgptest.BackSignature(rubbish, sub, pgptest.Sig{Created: born})},
		{Type: 16, Body: make([]byte, 8)},
	}
	junk := start().Subkey(sub, withJunk, nil).Bytes()
	noHints := signing
	noHints.NoIssuer = true
	other := start().Subkey(sub, noHints, nil).Bytes() // another binding, of the same time
	sig := sub.Sign(document, signsNow)
	all := map[string][]byte{"whole": whole, "stripped": stripped, "junk": junk, "another of that time": other}
	for a, first := range all {
		for b, second := range all {
			want := openpgp.SignerUnfit
			if a == "whole" || b == "whole" {
				want = openpgp.Valid
			}
			merged, _ := openpgp.Merge(readCert(t, first), readCert(t, second), nil)
			assert.Equal(t, want, verify(t, sig, document, rules(), merged).Status, "%s, then %s", a, b)
			assert.Equal(
				t, want, verify(t, sig, document, rules(), readCert(t, merged.Bytes())).Status, "%s, then %s, stored",
				a, b,
			)
			again, _ := openpgp.Merge(merged, readCert(t, second), nil)
			assert.Equal(t, merged.Bytes(), again.Bytes(), "%s, then %s, again", a, b)

			certs, _, err := openpgp.ReadCertificates(append(bytes.Clone(first), second...))
			require.NoError(t, err)
			cert, _ := openpgp.Merge(certs[0], certs[1], nil)
			assert.Equal(t, want, verify(t, sig, document, rules(), cert).Status, "%s and %s in one file", a, b)
		}
	}
	// Two copies with a signature back each: the one is of a hash that does not count.
	weak := start().Subkey(sub, signing, &pgptest.Sig{Created: born, Hash: pgptest.SHA1}).Bytes()
	merged, _ := openpgp.Merge(readCert(t, weak), readCert(t, whole), nil)
	assert.Equal(t, openpgp.Valid, verify(t, sig, document, rules(), readCert(t, merged.Bytes())).Status)
}

// TestAdoptedKeys: a stranger's certificate claims an honest key as its subkey. It
// changes nothing, in whichever order the candidates stand.
func TestAdoptedKeys(t *testing.T) {
	t.Parallel()
	stranger := pgptest.NewKey("adopter", pgptest.Ed25519, born)
	honest := simple("honest", pgptest.Ed25519)
	adopt := func(key *pgptest.Key, spec pgptest.Sig) *openpgp.Certificate {
		return readCert(
			t,
			pgptest.NewCertificate(stranger).UserID(
				"Stranger", pgptest.Sig{Created: born, Hashed: maySign},
			).Subkey(key, spec, nil).Bytes(),
		)
	}
	signing := pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}}
	cert := readCert(t, honest.Bytes())
	sig := honest.Primary.Sign(document, signsNow)
	for name, adopter := range map[string]*openpgp.Certificate{
		"for signing":    adopt(honest.Primary, signing),
		"for encryption": adopt(honest.Primary, pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MayEncrypt)}}),
		"short-lived":    adopt(honest.Primary, pgptest.Sig{Created: born, Hashed: append([]pgptest.Sub{pgptest.KeyExpires(time.Hour)}, signing.Hashed...)}),
	} {
		for _, order := range [][]*openpgp.Certificate{{adopter, cert}, {cert, adopter}} {
			r := verify(t, sig, document, rules(), order...)
			assert.Equal(t, openpgp.Valid, r.Status, "%s: %s", name, r.Reason)
			assert.Same(t, cert, r.Signer.Certificate, name)
			assert.Equal(t, 2, r.Tried)
		}
		assert.Equal(t, openpgp.SignerUnfit, verify(t, sig, document, rules(), adopter).Status, name)
	}
	// The honest key is revoked: an adopter does not hide it.
	revoked := readCert(
		t,
		pgptest.NewCertificate(honest.Primary).Key(
			honest.Primary, pgptest.Sig{Type: pgptest.KeyRevocation, Created: now},
		).UserID(junkID, pgptest.Sig{Created: born, Hashed: maySign}).Bytes(),
	)
	for _, order := range [][]*openpgp.Certificate{{adopt(honest.Primary, signing), revoked}, {
		revoked,
		adopt(honest.Primary, signing),
	}} {
		assert.Equal(t, openpgp.SignerRevoked, verify(t, sig, document, rules(), order...).Status)
	}
}

// TestDSACutsItsDigest: with a q of 160 bits a collision of 80 bits is enough.
func TestDSACutsItsDigest(t *testing.T) {
	t.Parallel()
	made := simple("short q", pgptest.DSA2048Short)
	cert := readCert(t, made.Bytes())
	r := verify(t, made.Primary.Sign(document, signsNow), document, rules(), cert)
	assert.Equal(t, openpgp.Weak, r.Status)
	assert.Contains(t, r.Reason, "160 bits")
	low := rules()
	low.DocumentHashBits = 80
	assert.Equal(t, openpgp.Valid, verify(t, made.Primary.Sign(document, signsNow), document, low, cert).Status)
}

// TestCertifiedUserIDsAreTheOwners: a certification of a user ID that the owner has
// not signed, or has revoked, vouches for nothing.
func TestCertifiedUserIDsAreTheOwners(t *testing.T) {
	t.Parallel()
	anchor := simple("vouches", pgptest.Ed25519)
	by := readCert(t, anchor.Bytes())
	key := pgptest.NewKey("vouched for", pgptest.Ed25519, born)
	certification := pgptest.Sig{Type: pgptest.Certification, Created: signedAt}
	revocation := pgptest.Sig{Type: pgptest.CertRevocation, Created: signedAt}
	own := func(spec pgptest.Sig) *pgptest.Certificate { return pgptest.NewCertificate(key).UserID(junkID, spec) }
	usual := pgptest.Sig{Created: born, Hashed: maySign}
	for name, c := range map[string]struct {
		made *pgptest.Certificate
		want openpgp.CertificationStatus
	}{
		"self-signed":  {own(usual), openpgp.CertificationHolds},
		"not":          {pgptest.NewCertificate(key).Add(pgptest.Packet(13, []byte(junkID))), openpgp.CertificationDisowned},
		"by another":   {pgptest.NewCertificate(key).Add(pgptest.Packet(13, []byte(junkID))).Certify(rubbish, junkID, forged(key, pgptest.Certification, born)), openpgp.CertificationDisowned},
		"revoked":      {own(usual).Certify(key, junkID, revocation), openpgp.CertificationDisowned},
		"by SHA-1":     {own(pgptest.Sig{Created: born, Hash: pgptest.SHA1}), openpgp.CertificationDisowned},
		"signed anew":  {own(usual).Certify(key, junkID, revocation).Certify(key, junkID, pgptest.Sig{Type: pgptest.Certification, Created: now}), openpgp.CertificationHolds},
		"anew, weakly": {own(usual).Certify(key, junkID, revocation).Certify(key, junkID, pgptest.Sig{Type: pgptest.Certification, Created: now, Hash: pgptest.SHA1}), openpgp.CertificationDisowned},
	} {
		says := readCert(t, c.made.Certify(anchor.Primary, junkID, certification).Bytes()).CertifiedBy(by, rules())
		require.Len(t, says, 1, name)
		assert.Equal(t, c.want, says[0].Status, "%s: %s", name, says[0].Reason)
	}
}
