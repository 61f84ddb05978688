package keyring

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"endeixis/core/openpgp"
	"endeixis/core/openpgp/pgptest"
)

// TestPaths makes one thing wrong with a certification at a time.
func TestPaths(t *testing.T) {
	const id = "Release <r@tidewright.example>"
	at := born.AddDate(0, 1, 0)
	anchorKey := pgptest.NewKey("anchor", pgptest.Ed25519, born)
	other := pgptest.NewKey("other anchor", pgptest.P256, born)
	mayCertify := pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MayCertify)}}
	plainAnchor := func() *pgptest.Certificate { return pgptest.NewCertificate(anchorKey).UserID("Anchor", mayCertify) }
	release := func() *pgptest.Certificate { return pgptest.Simple("release", pgptest.Ed25519, born, id) }
	certify := func(spec pgptest.Sig) *pgptest.Certificate {
		if spec.Type == 0 {
			spec.Type = pgptest.Certification
		}
		if spec.Created.IsZero() {
			spec.Created = at
		}
		return release().Certify(anchorKey, id, spec)
	}
	good := certify(pgptest.Sig{})
	revoke := func(reason byte, when time.Time) *pgptest.Certificate {
		return pgptest.NewCertificate(anchorKey).
			Key(
				anchorKey,
				pgptest.Sig{
					Type:    pgptest.KeyRevocation,
					Created: when,
					Hashed:  []pgptest.Sub{pgptest.Reason(reason, "")},
				},
			).
			UserID("Anchor", mayCertify)
	}
	forged := release().Add(pgptest.Packet(2, nil)) // something that is no signature
	for _, c := range []struct {
		name    string
		key     *pgptest.Certificate
		anchor  *pgptest.Certificate
		history []Change
		says    string
	}{
		{name: "it holds", key: good},
		{name: "missing", key: release(), says: "has not certified this key"},
		{name: "damaged", key: forged, says: "has not certified this key"},
		{name: "by another", key: release().Certify(other, id, pgptest.Sig{Type: pgptest.Certification, Created: at}), says: "has not certified this key"},
		{name: "over another user ID", key: release().Certify(anchorKey, "Somebody", pgptest.Sig{Type: pgptest.Certification, Created: at}), says: "its cryptography does not hold"},
		{name: "of the wrong kind", key: certify(pgptest.Sig{Type: 0x11}), says: "says nothing was verified"},
		{name: "expired", key: certify(pgptest.Sig{Hashed: []pgptest.Sub{pgptest.Expires(24 * time.Hour)}}), says: "was valid until"},
		{name: "taken back", key: certify(pgptest.Sig{}).Certify(anchorKey, id, pgptest.Sig{Type: pgptest.CertRevocation, Created: at.AddDate(0, 1, 0)}), says: "took it back"},
		{name: "from the future", key: certify(pgptest.Sig{Created: now.AddDate(1, 0, 0)}), says: "has not come yet"},
		{name: "anchor compromised later", key: good, anchor: revoke(2, now), says: "was revoked on"},
		{name: "anchor retired before", key: good, anchor: revoke(3, born.AddDate(0, 0, 2)), says: "was revoked on"},
		{name: "anchor retired later", key: good, anchor: revoke(3, now)},
		{name: "anchor expired before", key: good, anchor: pgptest.NewCertificate(anchorKey).UserID("Anchor", pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MayCertify), pgptest.KeyExpires(24 * time.Hour)}}), says: "had expired"},
		{name: "anchor may not certify", key: good, anchor: pgptest.NewCertificate(anchorKey).UserID("Anchor", pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}}), says: "did not mark the certifying key"},
		{name: "anchor is a candidate", key: good, history: []Change{}, says: "the anchor is candidate"},
		{name: "anchor was withdrawn", key: good, history: []Change{{At: born, To: Admitted}, {At: born, To: Withdrawn}}, says: "the anchor is withdrawn"},
	} {
		t.Run(c.name, func(t *testing.T) {
			if c.anchor == nil {
				c.anchor = plainAnchor()
			}
			if c.history == nil {
				c.history = []Change{{At: born, To: Admitted}}
			}
			anchor, k := key(t, c.anchor), key(t, c.key)
			anchor.Role, anchor.Publisher, anchor.History = Anchor, "tidewright", c.history
			ring := New([]*Key{anchor, k}, nil)
			paths := ring.Paths(k, "tidewright", rules())
			assert.Len(t, paths, 1)
			assert.Equal(t, c.says == "", paths[0].Holds, paths[0].Reason)
			assert.Contains(t, paths[0].Reason, c.says)
			assert.Empty(t, ring.Paths(k, "brackwater", rules()), "an anchor counts for its publisher only")
			assert.Empty(t, ring.Paths(anchor, "tidewright", rules()), "and not for itself")

			missing := Obstacles(k, Evidence{Paths: paths}, Demand{Channels: 2, AnchorAdmits: true}, rules())
			assert.Equal(t, c.says == "", len(missing) == 0, "a path that holds admits")
			assert.NotEmpty(
				t, Obstacles(k, Evidence{Paths: paths}, Demand{Channels: 2}, rules()), "where the policy says so",
			)
			toBeAnchor := *k
			toBeAnchor.Role = Anchor
			assert.NotEmpty(
				t, Obstacles(&toBeAnchor, Evidence{Paths: paths}, Demand{Channels: 2, AnchorAdmits: true}, rules()),
				"no anchor by certification",
			)
			conflict := Evidence{
				Paths: paths, Sightings: []Sighting{{Channel: Mirror, Read: openpgp.Fingerprint("00")}},
			}
			assert.NotEmpty(
				t, Obstacles(k, conflict, Demand{Channels: 2, AnchorAdmits: true}, rules()),
				"a conflict blocks whatever certifies",
			)
		})
	}
}

// TestCertifiersAndNamesakes: what other keys say of a user ID is judged where
// they are here, and counted where they are not.
func TestCertifiersAndNamesakes(t *testing.T) {
	const id = "Release <r@tidewright.example>"
	friend, gone := pgptest.NewKey("friend", pgptest.Ed25519, born), pgptest.NewKey("gone", pgptest.Ed25519, born)
	spec := pgptest.Sig{Type: pgptest.Certification, Created: born.AddDate(0, 1, 0)}
	old := spec
	old.Version = 3 // names its maker by the key ID alone
	k := key(
		t,
		pgptest.Simple("certified", pgptest.Ed25519, born, id).
			Certify(friend, id, spec).
			Certify(gone, id, spec).
			Certify(pgptest.NewKey("gone too", pgptest.RSA2048, born), id, old),
	)
	f := key(
		t,
		pgptest.NewCertificate(friend).
			UserID("Friend", pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MayCertify)}}),
	)
	sub := pgptest.NewKey("shared", pgptest.P256, born)
	listed := key(t, pgptest.Simple("one", pgptest.Ed25519, born, "One").Subkey(sub, pgptest.Sig{Created: born}, nil))
	two := key(t, pgptest.Simple("two", pgptest.Ed25519, born, "Two").Subkey(sub, pgptest.Sig{Created: born}, nil))
	ring := New([]*Key{k, f, listed, two}, nil)
	known, unknown := ring.Certifiers(k, rules())
	assert.Equal(t, 2, unknown)
	if assert.Len(t, known, 1) {
		assert.Same(t, f, known[0].By)
		assert.Equal(t, openpgp.CertificationHolds, known[0].Status)
		assert.Equal(t, id, known[0].UserID)
	}
	assert.Equal(t, []*Key{two}, ring.Namesakes(listed))
	assert.Empty(t, ring.Namesakes(k))

	later := *k
	later.History = []Change{{At: born, To: Admitted}}
	changed := ring.With(&later)
	assert.Equal(t, Admitted, changed.Lookup(k.Certificate.Primary.Fingerprint).StateAt(now))
	assert.Equal(
		t, Candidate, ring.Lookup(k.Certificate.Primary.Fingerprint).StateAt(now), "the first keyring is as it was",
	)
}
