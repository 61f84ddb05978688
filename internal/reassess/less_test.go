package reassess_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/keyring"
	"endeixis/core/openpgp/pgptest"
	"endeixis/internal/keys"
)

// TestWhatSaysLess: anything that makes a certificate say less than before has what
// rests on it judged again, not only a revocation of the primary key.
func TestWhatSaysLess(t *testing.T) {
	t.Parallel()
	day := 24 * time.Hour
	signs := []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}
	revocation := func(of *pgptest.Key, reason byte, at time.Time) []byte {
		return pgptest.NewCertificate(of).Key(
			of,
			pgptest.Sig{Type: pgptest.KeyRevocation, Created: at, Hashed: []pgptest.Sub{pgptest.Reason(reason, "")}},
		).Bytes()
	}
	for name, c := range map[string]struct {
		steps [][]byte
		want  string
	}{
		"superseded after it signed": {[][]byte{revocation(fallingKey, 1, born.AddDate(0, 2, 0))}, "cleared"},
		"superseded, then compromised": {[][]byte{
			revocation(fallingKey, 1, born.AddDate(0, 2, 0)), revocation(fallingKey, 2, born.AddDate(0, 3, 0)),
		}, "refused"},
		"retired later, then earlier": {[][]byte{
			revocation(fallingKey, 3, born.AddDate(0, 2, 0)), revocation(fallingKey, 3, born.AddDate(0, 0, 2)),
		}, "refused"},
		"the expiry is shortened": {[][]byte{
			pgptest.NewCertificate(fallingKey).UserID("Quoin", pgptest.Sig{Created: born.AddDate(0, 2, 0), Hashed: append([]pgptest.Sub{pgptest.KeyExpires(10 * day)}, signs...)}).Bytes(),
		}, "unproven"},
		"it may sign no longer": {[][]byte{
			pgptest.NewCertificate(fallingKey).UserID("Quoin", pgptest.Sig{Created: born.AddDate(0, 2, 0), Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MayCertify)}}).Bytes(),
		}, "unproven"},
		"its only user ID is revoked": {[][]byte{
			pgptest.NewCertificate(fallingKey).UserID("Quoin", pgptest.Sig{Created: born, Hashed: signs}).
				Certify(fallingKey, "Quoin", pgptest.Sig{Type: pgptest.CertRevocation, Created: born.AddDate(0, 2, 0)}).Bytes(),
		}, "unproven"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := clearedBy(t)
			for _, step := range c.steps {
				_, _, err := s.Keys.Import(t.Context(), "tobiah", "", "a test", step, nil)
				require.NoError(t, err)
			}
			s.judgeAgain(t)
			assert.Equal(t, c.want, s.present(t))
		})
	}
}

// TestAnchorFalls: a key that was admitted on an anchor's certification alone falls
// with the anchor, and so does what it signed.
func TestAnchorFalls(t *testing.T) {
	t.Parallel()
	anchor := pgptest.NewKey("the anchor", pgptest.Ed25519, born)
	certify := []pgptest.Sub{pgptest.Flags(pgptest.MayCertify)}
	at := born.AddDate(0, 0, 3)
	s := clearedWith(t, func(s *cleared, certificate *pgptest.Certificate) {
		_, _, err := s.Keys.Import(
			t.Context(), "tobiah", "quoin", "a test",
			pgptest.NewCertificate(anchor).UserID("A", pgptest.Sig{Created: born, Hashed: certify}).Bytes(), nil,
		)
		require.NoError(t, err)
		s.sighted(t, anchor.Fingerprint(), keyring.Anchor)
		_, _, err = s.Keys.Import(
			t.Context(), "tobiah", "quoin", "a test",
			certificate.Certify(anchor, "Quoin", pgptest.Sig{Type: pgptest.Certification, Created: at}).Bytes(), nil,
		)
		require.NoError(t, err)
		fp := s.key.Fingerprint()
		v, err := s.Keys.Admit(
			t.Context(), "tobiah",
			keys.Admission{Fingerprint: fp, Typed: fp, Publisher: "quoin", Reason: "the anchor certified it"},
		)
		require.NoError(t, err)
		require.Len(t, v.Steps[len(v.Steps)-1].RestsOn, 1)
	})
	_, err := s.Keys.Withdraw(t.Context(), "tobiah", anchor.Fingerprint(), "its owner lost it")
	require.NoError(t, err)
	s.judgeAgain(t)
	assert.Equal(t, "unproven", s.present(t))
}

// TestContradiction: what a key cleared waits while a sighting contradicts it, and counts
// again once that is explained.
func TestContradiction(t *testing.T) {
	t.Parallel()
	s := clearedBy(t)
	fp := s.key.Fingerprint()
	other := "0" + fp[1:]
	if other == fp {
		other = "1" + fp[1:]
	}
	v, agrees, err := s.Keys.Sight(
		t.Context(), "ines", fp, keys.NewSighting{Read: fp, Channel: keyring.Mirror, Place: "a test"},
	)
	require.NoError(t, err)
	assert.True(t, agrees)
	assert.Zero(t, v.Reassessment, "what agrees changes nothing")
	v, agrees, err = s.Keys.Sight(
		t.Context(), "ines", fp, keys.NewSighting{Read: other, Channel: keyring.Slide, Place: "a test"},
	)
	require.NoError(t, err)
	assert.False(t, agrees)
	assert.NotZero(t, v.Reassessment)
	s.judgeAgain(t)
	assert.Equal(t, "unproven", s.present(t))
	var record int64
	for _, sighting := range v.Sightings {
		if sighting.Read != v.Key.Certificate.Primary.Fingerprint {
			record = sighting.Record
		}
	}
	require.NotZero(t, record)
	v, err = s.Keys.Resolve(t.Context(), "tobiah", record, "the slide has a misprint")
	require.NoError(t, err)
	assert.NotZero(t, v.Reassessment)
	s.judgeAgain(t)
	assert.Equal(t, "cleared", s.present(t))
}
