package openpgp_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"endeixis/core/openpgp"
	"endeixis/core/openpgp/pgptest"
)

// TestLess adds one thing at a time to a certificate, and asks what it takes away.
func TestLess(t *testing.T) {
	t.Parallel()
	key := pgptest.NewKey("less", pgptest.Ed25519, born)
	sub := pgptest.NewKey("less sub", pgptest.Ed25519, born)
	anchor := pgptest.NewKey("less anchor", pgptest.Ed25519, born)
	const id, second = "Quoin <q@quoin.example>", "Quoin, second"
	signs := []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}
	year := 365 * 24 * time.Hour
	whole := func() *pgptest.Certificate {
		return pgptest.NewCertificate(key).UserID(id, pgptest.Sig{Created: born, Hashed: maySign}).
			Certify(anchor, id, pgptest.Sig{Type: pgptest.Certification, Created: born}).
			UserID(second, pgptest.Sig{Created: born, Hashed: maySign}).
			Subkey(sub, pgptest.Sig{Created: born, Hashed: signs}, &pgptest.Sig{Created: born})
	}
	superseded := func() *pgptest.Certificate {
		return pgptest.NewCertificate(key).
			Key(
				key,
				pgptest.Sig{Type: pgptest.KeyRevocation, Created: now, Hashed: []pgptest.Sub{pgptest.Reason(1, "")}},
			)
	}
	subkey := func() *pgptest.Certificate { return pgptest.NewCertificate(key).Add(pgptest.Packet(14, subBody(sub))) }
	named := func(spec pgptest.Sig) *pgptest.Certificate { return pgptest.NewCertificate(key).UserID(id, spec) }
	at := born.AddDate(0, 1, 0)
	anchors := readCert(
		t, pgptest.NewCertificate(anchor).UserID("Anchor", pgptest.Sig{Created: born, Hashed: maySign}).Bytes(),
	)
	known := func(s *openpgp.Signature) []openpgp.Candidate {
		if s.IssuerFingerprint != anchors.Primary.Fingerprint {
			return nil
		}
		return []openpgp.Candidate{{Certificate: anchors, Key: anchors.Primary}}
	}
	for name, c := range map[string]struct {
		before, newer *pgptest.Certificate
		says          string
	}{
		"the same":                      {whole(), whole(), ""},
		"a new subkey":                  {whole(), pgptest.NewCertificate(key).Subkey(anchor, pgptest.Sig{Created: born, Hashed: signs}, nil), ""},
		"a new user ID":                 {whole(), pgptest.NewCertificate(key).UserID("third", pgptest.Sig{Created: born, Hashed: maySign}), ""},
		"a later expiry":                {named(pgptest.Sig{Created: born, Hashed: append([]pgptest.Sub{pgptest.KeyExpires(year)}, maySign...)}), named(pgptest.Sig{Created: at, Hashed: maySign}), ""},
		"a certification":               {whole(), named(pgptest.Sig{Created: born, Hashed: maySign}).Certify(rubbish, id, pgptest.Sig{Type: pgptest.Certification, Created: at}), ""},
		"a forged revocation":           {whole(), pgptest.NewCertificate(key).Key(rubbish, forged(key, pgptest.KeyRevocation, at)), ""},
		"a revocation":                  {whole(), superseded(), "revoked by its owner"},
		"a harder one":                  {merge2(whole(), superseded()), pgptest.NewCertificate(key).Key(key, pgptest.Sig{Type: pgptest.KeyRevocation, Created: now, Hashed: []pgptest.Sub{pgptest.Reason(2, "")}}), "(compromised)"},
		"an earlier one":                {merge2(whole(), superseded()), pgptest.NewCertificate(key).Key(key, pgptest.Sig{Type: pgptest.KeyRevocation, Created: at, Hashed: []pgptest.Sub{pgptest.Reason(1, "")}}), "(superseded)"},
		"a softer one":                  {merge2(whole(), superseded()), superseded(), ""},
		"an earlier expiry":             {whole(), named(pgptest.Sig{Created: at, Hashed: append([]pgptest.Sub{pgptest.KeyExpires(year)}, maySign...)}), "expires earlier"},
		"no signing":                    {whole(), named(pgptest.Sig{Created: at, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MayCertify)}}), "may sign no longer"},
		"no certifying":                 {whole(), named(pgptest.Sig{Created: at, Hashed: signs}), "may certify no longer"},
		"a subkey revoked":              {whole(), subkey().RevokeSubkey(sub, pgptest.Sig{Created: at, Hashed: []pgptest.Sub{pgptest.Reason(2, "")}}), "A subkey is revoked (compromised)"},
		"a subkey expires":              {whole(), pgptest.NewCertificate(key).Subkey(sub, pgptest.Sig{Created: at, Hashed: append([]pgptest.Sub{pgptest.KeyExpires(year)}, signs...)}, &pgptest.Sig{Created: at}), "subkey Ed25519 expires earlier"},
		"a subkey bound without a back": {whole(), pgptest.NewCertificate(key).Subkey(sub, pgptest.Sig{Created: at, Hashed: signs}, nil), "subkey Ed25519 may sign no longer"},
		"a user ID revoked":             {whole(), pgptest.NewCertificate(key).Add(pgptest.Packet(13, []byte(second))).Certify(key, second, pgptest.Sig{Type: pgptest.CertRevocation, Created: at}), "user ID counts no longer: Quoin, second"},
		"junk that takes one back":      {whole(), pgptest.NewCertificate(key).Add(pgptest.Packet(13, []byte(id))).Certify(rubbish, id, forged(anchor, pgptest.CertRevocation, at)), ""},
		"a stranger's taken back":       {whole(), pgptest.NewCertificate(key).Add(pgptest.Packet(13, []byte(id))).Certify(rubbish, id, pgptest.Sig{Type: pgptest.CertRevocation, Created: at}), ""},
		"a certification taken back":    {whole(), pgptest.NewCertificate(key).Add(pgptest.Packet(13, []byte(id))).Certify(anchor, id, pgptest.Sig{Type: pgptest.CertRevocation, Created: at}), "taken back"},
	} {
		certs, _, err := openpgp.ReadCertificates(c.before.Bytes())
		assert.NoError(t, err)
		before := certs[0]
		for _, more := range certs[1:] {
			before, _ = openpgp.Merge(before, more, nil)
		}
		after, _ := openpgp.Merge(before, readCert(t, c.newer.Bytes()), nil)
		says := strings.Join(openpgp.Less(before, after, known, rules()), " ")
		if c.says == "" {
			assert.Empty(t, says, name)
		}
		assert.Contains(t, says, c.says, name)
	}
}

// merge2 puts two copies of a key one behind the other.
func merge2(a, b *pgptest.Certificate) *pgptest.Certificate { return a.Add(b.Bytes()) }

// subBody is the body of a key's packet, which has a short length.
func subBody(key *pgptest.Key) []byte { return pgptest.NewCertificate(key).Bytes()[2:] }
