package openpgp_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/openpgp"
	"endeixis/core/openpgp/pgptest"
)

// TestCertifications judges what an anchor says of a release key.
func TestCertifications(t *testing.T) {
	const id = "Tidewright Instruments (2026)"
	anchorKey := pgptest.NewKey("anchor", pgptest.P384, born)
	releaseKey := pgptest.NewKey("release 2026", pgptest.Ed25519, born)
	self := pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MayCertify)}}
	anchor := func() *pgptest.Certificate { return pgptest.NewCertificate(anchorKey) }
	good := anchor().UserID("Anchor", self)
	certified := pgptest.Sig{Type: pgptest.Certification, Created: signedAt}
	release := func(sigs ...pgptest.Sig) *pgptest.Certificate {
		c := pgptest.NewCertificate(releaseKey).UserID(id, pgptest.Sig{Created: born})
		for _, s := range sigs {
			c.Certify(anchorKey, id, s)
		}
		return c
	}
	taken := pgptest.Sig{Type: pgptest.CertRevocation, Created: signedAt.AddDate(0, 1, 0)}
	other := pgptest.NewCertificate(releaseKey).
		UserID(id, pgptest.Sig{Created: born}).
		Certify(anchorKey, "Somebody else", certified)
	for name, test := range map[string]struct {
		anchor, release *pgptest.Certificate
		want            []openpgp.CertificationStatus
		says            string
	}{
		"a good one":              {good, release(certified), []openpgp.CertificationStatus{openpgp.CertificationHolds}, ""},
		"none":                    {good, release(), nil, ""},
		"over another name":       {good, other, []openpgp.CertificationStatus{openpgp.CertificationInvalid}, "cryptography"},
		"taken back":              {good, release(certified, taken), []openpgp.CertificationStatus{openpgp.CertificationRevoked}, "took it back on 2025-07-01"},
		"given again after that":  {good, release(certified, taken, pgptest.Sig{Type: pgptest.Certification, Created: signedAt.AddDate(0, 2, 0)}), []openpgp.CertificationStatus{openpgp.CertificationHolds, openpgp.CertificationRevoked}, ""},
		"expired":                 {good, release(pgptest.Sig{Type: pgptest.Certification, Created: signedAt, Hashed: []pgptest.Sub{pgptest.Expires(24 * time.Hour)}}), []openpgp.CertificationStatus{openpgp.CertificationExpired}, "2025-06-02"},
		"from the future":         {good, release(pgptest.Sig{Type: pgptest.Certification, Created: now.AddDate(0, 0, 1)}), []openpgp.CertificationStatus{openpgp.CertificationInvalid}, "has not come yet"},
		"by SHA-1, too late":      {good, release(pgptest.Sig{Type: pgptest.Certification, Created: signedAt, Hash: pgptest.SHA1}), []openpgp.CertificationStatus{openpgp.CertificationWeak}, "SHA-1"},
		"with a critical part":    {good, release(pgptest.Sig{Type: pgptest.Certification, Created: signedAt, Hashed: []pgptest.Sub{{Type: 101, Critical: true}}}), []openpgp.CertificationStatus{openpgp.CertificationInvalid}, "marked critical"},
		"an anchor without flags": {anchor().UserID("A", pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}}), release(certified), []openpgp.CertificationStatus{openpgp.CertifierUnfit}, "did not mark"},
		"a revoked anchor": {
			anchor().Key(anchorKey, pgptest.Sig{Type: pgptest.KeyRevocation, Created: now, Hashed: []pgptest.Sub{pgptest.Reason(2, "")}}).UserID("A", self),
			release(certified),
			[]openpgp.CertificationStatus{openpgp.CertifierUnfit},
			"revoked",
		},
		"an anchor retired since": {
			anchor().Key(anchorKey, pgptest.Sig{Type: pgptest.KeyRevocation, Created: now, Hashed: []pgptest.Sub{pgptest.Reason(3, "")}}).UserID("A", self),
			release(certified),
			[]openpgp.CertificationStatus{openpgp.CertificationHolds},
			"",
		},
		"an anchor that had expired": {
			anchor().UserID("A", pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MayCertify), pgptest.KeyExpires(24 * time.Hour)}}),
			release(certified),
			[]openpgp.CertificationStatus{openpgp.CertifierUnfit},
			"expired",
		},
		"an anchor without a self-signature": {anchor(), release(certified), []openpgp.CertificationStatus{openpgp.CertifierUnfit}, "no self-signature"},
	} {
		found := readCert(t, test.release.Bytes()).CertifiedBy(readCert(t, test.anchor.Bytes()), rules())
		require.Len(t, found, len(test.want), name)
		var got []openpgp.CertificationStatus
		for _, c := range found {
			got = append(got, c.Status)
			assert.Equal(t, id, c.UserID)
			if c.Status != openpgp.CertificationHolds && len(found) == 1 {
				assert.Contains(t, c.Reason, test.says, name)
			}
		}
		assert.ElementsMatch(t, test.want, got, name)
	}
	stranger := readCert(t, simple("stranger", pgptest.Ed25519).Bytes())
	assert.Empty(t, readCert(t, release(certified).Bytes()).CertifiedBy(stranger, rules()), "only what that key made")
}

// TestTimeline tells the life of a key that was extended, got a subkey, and was
// revoked.
func TestTimeline(t *testing.T) {
	day := 24 * time.Hour
	key, sub := pgptest.NewKey("life", pgptest.Ed25519, born), pgptest.NewKey("life, sub", pgptest.P256, born)
	self := func(at time.Time, life time.Duration) pgptest.Sig {
		return pgptest.Sig{
			Type: pgptest.Certification, Created: at,
			Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MayCertify), pgptest.KeyExpires(life)},
		}
	}
	made := pgptest.NewCertificate(key).
		Key(
			key,
			pgptest.Sig{
				Type: pgptest.KeyRevocation, Created: born.Add(300 * day), Hashed: []pgptest.Sub{pgptest.Reason(1, "")},
			},
		).
		UserID("L", self(born, 100*day)).Certify(key, "L", self(born.Add(90*day), 400*day)).
		UserID("M", self(born.Add(90*day), 400*day)).
		Subkey(
			sub, pgptest.Sig{Created: born.Add(10 * day), Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}},
			&pgptest.Sig{Created: born},
		).
		RevokeSubkey(sub, pgptest.Sig{Created: born.Add(200 * day), Hashed: []pgptest.Sub{pgptest.Reason(2, "")}})
	var kinds []string
	var days []int
	for _, e := range readCert(t, made.Bytes()).Timeline(rules()) {
		kinds = append(kinds, string(e.Kind))
		days = append(days, int(e.At.Sub(born)/day))
		assert.NotEmpty(t, e.Detail)
	}
	assert.Equal(
		t, []string{"created", "expiry-set", "subkey-bound", "expiry-set", "subkey-revoked", "revoked", "expires"},
		kinds,
	)
	assert.Equal(t, []int{0, 0, 10, 90, 200, 300, 400}, days)
	kinds = nil
	for _, e := range readCert(t, simple("plain life", pgptest.Ed25519).Bytes()).Timeline(rules()) {
		kinds = append(kinds, string(e.Kind))
	}
	assert.Equal(t, []string{"created"}, kinds)
}

// TestOldHashesInCertifications: SHA-1 and RIPEMD-160 count in certifications as
// they do in self-signatures, up to the cut-off date.
func TestOldHashesInCertifications(t *testing.T) {
	long := time.Date(2019, 1, 1, 0, 0, 0, 0, time.UTC)
	anchorKey := pgptest.NewKey("old anchor", pgptest.RSA2048, long)
	releaseKey := pgptest.NewKey("old release", pgptest.Ed25519, long)
	const id = "Release <release@example.org>"
	anchor := parseOne(
		t,
		pgptest.NewCertificate(anchorKey).UserID(
			"A", pgptest.Sig{Created: long, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MayCertify)}},
		).Bytes(),
	)
	rules := rules()
	rules.SelfSHA1Before = time.Date(2023, 2, 1, 0, 0, 0, 0, time.UTC)
	for name, hash := range map[string]byte{"SHA-1": pgptest.SHA1, "RIPEMD-160": pgptest.RIPEMD160} {
		for year, want := range map[int]openpgp.CertificationStatus{
			2022: openpgp.CertificationHolds,
			2024: openpgp.CertificationWeak,
		} {
			made := pgptest.Sig{
				Type: pgptest.Certification, Created: time.Date(year, 5, 1, 0, 0, 0, 0, time.UTC), Hash: hash,
			}
			release := parseOne(
				t,
				pgptest.NewCertificate(releaseKey).UserID(
					id, pgptest.Sig{Created: long},
				).Certify(anchorKey, id, made).Bytes(),
			)
			got := release.CertifiedBy(anchor, rules)
			require.Len(t, got, 1)
			assert.Equal(t, want, got[0].Status, "%s in %d: %s", name, year, got[0].Reason)
		}
	}
}

func parseOne(t *testing.T, data []byte) *openpgp.Certificate {
	t.Helper()
	certs, _, err := openpgp.ReadCertificates(data)
	require.NoError(t, err)
	require.Len(t, certs, 1)
	return certs[0]
}
