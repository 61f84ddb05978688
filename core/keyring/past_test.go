package keyring

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/openpgp"
	"endeixis/core/openpgp/pgptest"
)

// TestAdmissionsForThePast: a key that is good no longer can be admitted for what it
// signed while it was, unless it was compromised.
func TestAdmissionsForThePast(t *testing.T) {
	primary := pgptest.NewKey("of the past", pgptest.Ed25519, born)
	self := pgptest.Sig{Created: born}
	ended := born.AddDate(1, 0, 0)
	revoked := func(reason byte) *pgptest.Certificate {
		return pgptest.NewCertificate(primary).
			Key(
				primary,
				pgptest.Sig{
					Type:    pgptest.KeyRevocation,
					Created: ended,
					Hashed:  []pgptest.Sub{pgptest.Reason(reason, "")},
				},
			).
			UserID("K", self)
	}
	expired := pgptest.NewCertificate(primary).
		UserID("K", pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.KeyExpires(ended.Sub(born))}})
	good := pgptest.NewCertificate(primary).UserID("K", self)
	fp := openpgp.Fingerprint(primary.Fingerprint())
	sighted := Evidence{Sightings: []Sighting{{Channel: Letter, Read: fp}, {Channel: Phone, Read: fp}}}
	before, after := ended.AddDate(0, -1, 0), ended.AddDate(0, 1, 0)
	for name, c := range map[string]struct {
		made  *pgptest.Certificate
		until *time.Time
		want  string
	}{
		"expired, from now on":   {expired, nil, "expired"},
		"expired, until then":    {expired, &ended, ""},
		"expired, until before":  {expired, &before, ""},
		"expired, until later":   {expired, &after, "expired"},
		"superseded, from now":   {revoked(1), nil, "revoked"},
		"superseded, until then": {revoked(1), &ended, ""},
		"retired, until before":  {revoked(3), &before, ""},
		"retired, until later":   {revoked(3), &after, "revoked"},
		"compromised":            {revoked(2), &before, "revoked"},
		"without a reason":       {revoked(0), &before, "revoked"},
		"good, for the past":     {good, &before, ""},
		"before it was made":     {good, &born, "until"},
	} {
		var codes string
		for _, o := range Obstacles(key(t, c.made), sighted, Demand{Channels: 2, Until: c.until}, rules()) {
			codes += o.Code
			hard := name == "compromised" || name == "without a reason" || name == "before it was made"
			assert.Equal(t, hard, o.Before == nil, "%s: can it be admitted otherwise", name)
		}
		assert.Equal(t, c.want, codes, name)
	}
}

// TestWhatAnAdmissionRestsOn: an anchor that has expired since, and one that counts no
// longer, for a key that was admitted on its certification.
func TestWhatAnAdmissionRestsOn(t *testing.T) {
	const id = "Release <r@tidewright.example>"
	at := born.AddDate(0, 1, 0)
	mayCertify := []pgptest.Sub{pgptest.Flags(pgptest.MayCertify)}
	anchorKey := pgptest.NewKey("rests on", pgptest.Ed25519, born)
	fp := openpgp.Fingerprint(anchorKey.Fingerprint())
	certified := pgptest.Simple("resting", pgptest.Ed25519, born, id).
		Certify(anchorKey, id, pgptest.Sig{Type: pgptest.Certification, Created: at})
	ring := func(anchor *pgptest.Certificate, restsOn ...openpgp.Fingerprint) (*Keyring, *Key) {
		a, k := key(t, anchor), key(t, certified)
		a.Role, a.Publisher, a.History = Anchor, "tidewright", []Change{{At: born, To: Admitted}}
		k.Publisher, k.History = "tidewright", []Change{{At: at, To: Admitted, RestsOn: restsOn}}
		return New([]*Key{a, k}, nil), k
	}
	good := func() *pgptest.Certificate {
		return pgptest.NewCertificate(anchorKey).UserID("Anchor", pgptest.Sig{Created: born, Hashed: mayCertify})
	}
	expiredSince := pgptest.NewCertificate(anchorKey).UserID(
		"Anchor",
		pgptest.Sig{
			Created: born, Hashed: append([]pgptest.Sub{pgptest.KeyExpires(365 * 24 * time.Hour)}, mayCertify...),
		},
	)
	revoked := pgptest.NewCertificate(anchorKey).
		Key(anchorKey, pgptest.Sig{Type: pgptest.KeyRevocation, Created: now}).
		UserID("Anchor", pgptest.Sig{Created: born, Hashed: mayCertify})

	counts := rules()
	counts.ExpiredCounts = true
	r, k := ring(expiredSince, fp)
	path := r.Paths(k, "tidewright", rules())
	require.Len(t, path, 1)
	assert.False(t, path[0].Holds)
	assert.Contains(t, path[0].Reason, "expired since, on 2025-03-01")
	path = r.Paths(k, "tidewright", counts)
	assert.True(t, path[0].Holds, path[0].Reason)
	assert.Contains(t, path[0].Note, "expired since, on 2025-03-01")

	for name, c := range map[string]struct {
		anchor  *pgptest.Certificate
		restsOn []openpgp.Fingerprint
		rules   openpgp.Rules
		says    string
	}{
		"it certifies":             {good(), []openpgp.Fingerprint{fp}, rules(), ""},
		"it was revoked":           {revoked, []openpgp.Fingerprint{fp}, rules(), "revoked on"},
		"revoked, and not needed":  {revoked, nil, rules(), ""},
		"it has expired":           {expiredSince, []openpgp.Fingerprint{fp}, rules(), "expired since"},
		"expired, which counts":    {expiredSince, []openpgp.Fingerprint{fp}, counts, ""},
		"another, that is no more": {good(), []openpgp.Fingerprint{"00"}, rules(), "No anchor that certified it is left"},
	} {
		r, k := ring(c.anchor, c.restsOn...)
		ok, why := r.Vouched(k, c.rules)
		assert.Equal(t, c.says == "", ok, name)
		assert.Contains(t, why, c.says, name)
		assert.Len(t, r.RestingOn(fp), map[bool]int{true: 1}[len(c.restsOn) > 0 && c.restsOn[0] == fp], name)
	}
}
