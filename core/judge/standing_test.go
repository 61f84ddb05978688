package judge_test

import (
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	. "endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/core/openpgp"
	"endeixis/core/openpgp/pgptest"
)

// signedBy is a file with a signature by a key, of a time.
func signedBy(key *pgptest.Key, at time.Time) map[string]string {
	return map[string]string{
		"gauge-fw.img":     "firmware",
		"gauge-fw.img.sig": string(key.Sign([]byte("firmware"), pgptest.Sig{Created: at})),
	}
}

// entry makes a key of the ring.
func entry(t *testing.T, made *pgptest.Certificate, role keyring.Role, history ...keyring.Change) *keyring.Key {
	t.Helper()
	certs, _, err := openpgp.ReadCertificates(made.Bytes())
	require.NoError(t, err)
	return &keyring.Key{Certificate: certs[0], Publisher: "tidewright", Role: role, History: history}
}

// TestStrangersThatAdopt: a candidate that claims an admitted key as its subkey, and
// was imported earlier, changes nothing, nor does one that is admitted itself.
func TestStrangersThatAdopt(t *testing.T) {
	signing := pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}}
	adopter := pgptest.NewCertificate(stranger).UserID("S", pgptest.Sig{Created: born}).Subkey(tidewright, signing, nil)
	for name, history := range map[string][]keyring.Change{"a candidate": nil, "admitted": {{At: born, To: keyring.Admitted}}} {
		for _, own := range []map[string]Policy{nil, {"tidewright": DefaultPolicy()}} {
			adopted := entry(t, adopter, keyring.Release, history...)
			adopted.Publisher = "brackwater"
			r := judgeFolder(t, signedBy(tidewright, signedAt), "tidewright", func(b *Basis) {
				b.Own = own
				b.Keyring = keyring.New(append([]*keyring.Key{adopted}, b.Keyring.Keys()...), nil)
			})
			assert.Equal(t, Cleared, r.artifacts["gauge-fw.img"].Verdict, name)
		}
	}
	// A subkey that really belongs to two certificates counts for the admitted one.
	sub := pgptest.NewKey("shared sub", pgptest.Ed25519, born)
	shared := func(of *pgptest.Key) *pgptest.Certificate {
		return pgptest.NewCertificate(of).
			UserID("X", pgptest.Sig{Created: born}).
			Subkey(sub, signing, &pgptest.Sig{Created: born})
	}
	first := entry(t, shared(candidate), keyring.Release)
	second := entry(t, shared(withdrawn), keyring.Release, keyring.Change{At: born, To: keyring.Admitted})
	for _, order := range [][]*keyring.Key{{first, second}, {second, first}} {
		r := judgeFolder(
			t, signedBy(sub, signedAt), "tidewright", func(b *Basis) { b.Keyring = keyring.New(order, nil) },
		)
		assert.Equal(t, Cleared, r.artifacts["gauge-fw.img"].Verdict)
	}
}

// TestKeysOfThePast: what was signed before the time until which a key was admitted
// counts as its policy says of expired keys, and nothing later does.
func TestKeysOfThePast(t *testing.T) {
	until := signedAt.AddDate(0, 0, -1)
	retired := pgptest.NewCertificate(tidewright).Key(
		tidewright,
		pgptest.Sig{
			Type: pgptest.KeyRevocation, Created: now.AddDate(0, -1, 0), Hashed: []pgptest.Sub{pgptest.Reason(3, "")},
		},
	).
		UserID("T", pgptest.Sig{Created: born})
	lapsed := pgptest.NewCertificate(tidewright).
		UserID(
			"T", pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.KeyExpires(now.AddDate(0, -1, 0).Sub(born))}},
		)
	judged := func(made *pgptest.Certificate, at time.Time, expired Effect) Outcome {
		k := entry(t, made, keyring.Release, keyring.Change{At: born, To: keyring.Admitted, Until: &until})
		return judgeFolder(t, signedBy(tidewright, at), "tidewright", func(b *Basis) {
			b.Keyring = keyring.New([]*keyring.Key{k}, nil)
			b.Policy.ExpiredSigner = expired
		}).artifacts["gauge-fw.img"]
	}
	assert.Equal(t, Cleared, judged(retired, until.Add(-time.Second), Withholds).Verdict)
	assert.Equal(t, Cleared, judged(lapsed, until.Add(-time.Second), Notes).Verdict)
	assert.Equal(t, Unproven, judged(lapsed, until.Add(-time.Second), Withholds).Verdict)
	for _, made := range []*pgptest.Certificate{retired, lapsed} {
		late := judged(made, until, Notes)
		assert.Equal(t, Unproven, late.Verdict)
		assert.Contains(t, late.Grounds[0].Sentence, "admitted for what it signed before 2025-05-31")
	}
}

// TestContradictedSigners: a key of which somebody has seen another fingerprint does not count
// until that is explained, or is only noted where the policy says so.
func TestContradictedSigners(t *testing.T) {
	judged := func(conflict bool, effect Effect) Outcome {
		k := entry(
			t, pgptest.NewCertificate(tidewright).UserID("T", pgptest.Sig{Created: born}), keyring.Release,
			keyring.Change{At: born, To: keyring.Admitted},
		)
		k.Conflict = conflict
		return judgeFolder(t, signedBy(tidewright, signedAt), "tidewright", func(b *Basis) {
			b.Keyring = keyring.New([]*keyring.Key{k}, nil)
			b.Policy.ContradictedSigner = effect
		}).artifacts["gauge-fw.img"]
	}
	assert.Equal(t, Cleared, judged(false, Withholds).Verdict)
	held := judged(true, Withholds)
	assert.Equal(t, Unproven, held.Verdict)
	assert.Contains(t, codes(held), SignerContradicted)
	noted := judged(true, Notes)
	assert.Equal(t, Cleared, noted.Verdict)
	assert.Contains(t, codes(noted), SignerContradicted)
	assert.Equal(t, Unproven, judged(true, "").Verdict, "a policy of before there was a choice")
}

// TestAnchorsThatFall: a key that was admitted on a certification alone counts for as
// long as that does.
func TestAnchorsThatFall(t *testing.T) {
	const id = "Release <r@tidewright.example>"
	anchor := pgptest.NewKey("an anchor", pgptest.Ed25519, born)
	self := pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MayCertify)}}
	at := born.AddDate(0, 1, 0)
	certified := func() *pgptest.Certificate {
		return pgptest.NewCertificate(tidewright).
			UserID(id, pgptest.Sig{Created: born}).
			Certify(anchor, id, pgptest.Sig{Type: pgptest.Certification, Created: at})
	}
	whole := pgptest.NewCertificate(anchor).UserID("A", self)
	fp := openpgp.Fingerprint(anchor.Fingerprint())
	takenBack := certified().Certify(
		anchor, id, pgptest.Sig{Type: pgptest.CertRevocation, Created: now.AddDate(0, -1, 0)},
	)
	disowned := certified().Certify(
		tidewright, id, pgptest.Sig{Type: pgptest.CertRevocation, Created: now.AddDate(0, -1, 0)},
	).
		UserID("Other", pgptest.Sig{Created: born})
	revoked := pgptest.NewCertificate(anchor).Key(
		anchor,
		pgptest.Sig{
			Type: pgptest.KeyRevocation, Created: now.AddDate(0, -1, 0), Hashed: []pgptest.Sub{pgptest.Reason(2, "")},
		},
	).UserID("A", self)
	for name, c := range map[string]struct {
		key, anchor *pgptest.Certificate
		want        Verdict
	}{
		"it stands":                 {certified(), whole, Cleared},
		"the certification is gone": {takenBack, whole, Unproven},
		"the user ID is disowned":   {disowned, whole, Unproven},
		"the anchor is revoked":     {certified(), revoked, Unproven},
	} {
		k := entry(
			t, c.key, keyring.Release, keyring.Change{At: at, To: keyring.Admitted, RestsOn: []openpgp.Fingerprint{fp}},
		)
		a := entry(t, c.anchor, keyring.Anchor, keyring.Change{At: born, To: keyring.Admitted})
		out := judgeFolder(t, signedBy(tidewright, signedAt), "tidewright", func(b *Basis) { b.Keyring = keyring.New([]*keyring.Key{k, a}, nil) }).artifacts["gauge-fw.img"]
		assert.Equal(t, c.want, out.Verdict, name)
		if c.want == Unproven {
			assert.Equal(t, SignerUncertified, out.Grounds[0].Code, name)
		}
		k.History[0].RestsOn = nil
		out = judgeFolder(t, signedBy(tidewright, signedAt), "tidewright", func(b *Basis) { b.Keyring = keyring.New([]*keyring.Key{k, a}, nil) }).artifacts["gauge-fw.img"]
		assert.Equal(t, Cleared, out.Verdict, "%s, and it was sighted", name)
	}
}

// TestSurplusInCompressedFiles: a signature over the uncompressed form vouches for
// nothing else that a compressed file has.
func TestSurplusInCompressedFiles(t *testing.T) {
	pack := func(h gzip.Header) string {
		var b bytes.Buffer
		w := gzip.NewWriter(&b)
		w.Header = h
		_, err := w.Write([]byte("firmware"))
		require.NoError(t, err)
		require.NoError(t, w.Close())
		return b.String()
	}
	sig := string(tidewright.Sign([]byte("firmware"), pgptest.Sig{Created: signedAt}))
	other := string(tidewright.Sign([]byte("other"), pgptest.Sig{Created: signedAt}))
	for name, c := range map[string]struct {
		file, sig string
		want      Verdict
		code      Code
	}{
		"as it should be":        {pack(gzip.Header{Name: "gauge-fw.img", ModTime: born}), sig, Cleared, SignatureValid},
		"with an extra field":    {pack(gzip.Header{Extra: []byte("evil")}), sig, Unproven, SurplusBytes},
		"with a comment":         {pack(gzip.Header{Comment: "evil"}), sig, Unproven, SurplusBytes},
		"with data behind":       {pack(gzip.Header{}) + "evil", sig, Unproven, SurplusBytes},
		"and another's, extra":   {pack(gzip.Header{Comment: "evil"}), other, Refused, SignatureInvalid},
		"an extra part with one": {pack(gzip.Header{}) + pack(gzip.Header{Comment: "evil"}), other, Refused, SignatureInvalid},
	} {
		out := judgeFolder(t, map[string]string{"gauge-fw.img.gz": c.file, "gauge-fw.img.sig": c.sig}, "tidewright", nil).artifacts["gauge-fw.img.gz"]
		assert.Equal(t, c.want, out.Verdict, name)
		if assert.NotEmpty(t, out.Grounds, name) {
			assert.Equal(t, c.code, out.Grounds[0].Code, "%s: %s", name, out.Grounds[0].Sentence)
		}
	}
	// One over the compressed form itself vouches for all of it.
	commented := pack(gzip.Header{Comment: "a comment"})
	out := judgeFolder(t, map[string]string{"gauge-fw.img.gz": commented, "gauge-fw.img.gz.sig": string(tidewright.Sign([]byte(commented), pgptest.Sig{Created: signedAt}))}, "tidewright", nil).artifacts["gauge-fw.img.gz"]
	assert.Equal(t, Cleared, out.Verdict)
}

// TestSignedDescriptions: a text in a cleartext frame that lists files is a manifest,
// whatever it is called.
func TestSignedDescriptions(t *testing.T) {
	sum := sha256.Sum256([]byte("firmware"))
	text := fmt.Sprintf("Format: 3.0\nSource: gauge\nChecksums-Sha256:\n %x 8 gauge-fw.img", sum)
	frame := string(pgptest.Cleartext(text, pgptest.Sig{Created: signedAt}, tidewright))
	for _, name := range []string{"gauge_1.2-1.dsc", "InRelease", "gauge.changes", "anything.at-all"} {
		r := judgeFolder(t, map[string]string{"gauge-fw.img": "firmware", name: frame}, "tidewright", nil)
		assert.Equal(t, Cleared, r.artifacts["gauge-fw.img"].Verdict, name)
		assert.Contains(t, r.manifests, name)
		r = judgeFolder(
			t, map[string]string{"gauge-fw.img": "firmware", name: strings.Replace(frame, " 8 gauge", " 9 gauge", 1)},
			"tidewright", nil,
		)
		assert.Equal(t, Refused, r.artifacts["gauge-fw.img"].Verdict, name)
	}
	letter := string(
		pgptest.Cleartext("Dear all,\nnothing in this is a digest.", pgptest.Sig{Created: signedAt}, tidewright),
	)
	r := judgeFolder(t, map[string]string{"gauge-fw.img": "firmware", "letter.sgn": letter}, "tidewright", nil)
	assert.NotContains(t, r.manifests, "letter.sgn")
}
