package keyring

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/openpgp"
	"endeixis/core/openpgp/pgptest"
)

var (
	born = time.Date(2024, 3, 1, 0, 0, 0, 0, time.UTC)
	now  = time.Date(2026, 6, 1, 0, 0, 0, 0, time.UTC)
)

func rules() openpgp.Rules {
	return openpgp.Rules{Now: now, DocumentHashBits: 128, RSABits: 2048, SelfSHA1Before: born}
}

func key(t *testing.T, made *pgptest.Certificate) *Key {
	t.Helper()
	certs, _, err := openpgp.ReadCertificates(made.Bytes())
	require.NoError(t, err)
	return &Key{Certificate: certs[0]}
}

func TestStateAsOfATime(t *testing.T) {
	k := &Key{History: []Change{
		{At: born, To: Candidate},
		{At: born.AddDate(0, 1, 0), To: Admitted},
		{At: born.AddDate(1, 0, 0), To: Withdrawn},
	}}
	assert.Equal(t, Candidate, k.StateAt(born.AddDate(0, 0, -1)))
	assert.Equal(t, Candidate, k.StateAt(born.AddDate(0, 0, 20)))
	assert.Equal(t, Admitted, k.StateAt(born.AddDate(0, 1, 0)))
	assert.Equal(t, Admitted, k.StateAt(born.AddDate(0, 11, 0)))
	assert.Equal(t, Withdrawn, k.StateAt(now))
	assert.True(t, Candidate.May(Admitted))
	assert.False(t, Withdrawn.May(Admitted), "never straight back")
	assert.True(t, Withdrawn.May(Candidate))
	assert.False(t, State("").May(Admitted))
}

func TestLookup(t *testing.T) {
	primary, sub := pgptest.NewKey("p", pgptest.Ed25519, born), pgptest.NewKey("s", pgptest.Ed25519, born)
	k := key(t, pgptest.NewCertificate(primary).UserID("T", pgptest.Sig{Created: born}).
		Subkey(
			sub, pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}},
			&pgptest.Sig{Created: born},
		))
	other := key(t, pgptest.Simple("o", pgptest.Ed25519, born, "O"))
	ring := New([]*Key{k, other}, []Publisher{{Slug: "tidewright", Scope: []string{"gauge-*"}}})

	assert.Same(t, k, ring.Lookup(openpgp.Fingerprint(primary.Fingerprint())))
	assert.Nil(t, ring.Lookup(openpgp.Fingerprint(sub.Fingerprint())), "a subkey is not a key of the ring")
	for name, spec := range map[string]pgptest.Sig{
		"by fingerprint": {Created: now},
		"by key ID":      {Created: now, NoIssuer: true, Unhashed: []pgptest.Sub{{Type: 16, Body: openpgp.Fingerprint(sub.Fingerprint()).Bytes()[12:]}}},
	} {
		sigs, err := openpgp.ReadSignatures(sub.Sign([]byte("x"), spec))
		require.NoError(t, err)
		issuers := ring.Issuers(sigs[0])
		require.Len(t, issuers, 1, name)
		assert.Same(t, k.Certificate, issuers[0].Certificate)
		assert.EqualValues(t, sub.Fingerprint(), issuers[0].Key.Fingerprint)
	}
	_, ok := ring.Publisher("nobody")
	assert.False(t, ok)
	assert.Len(t, ring.Covering("dir/gauge-fw.img"), 1)
	assert.Empty(t, ring.Covering("buoy.img"))
	assert.Len(t, ring.Keys(), 2)
}

func TestParseFingerprint(t *testing.T) {
	const want = "c959bdbafa32a2f89a153b678cfde12197965a9a"
	for _, read := range []string{
		want, strings.ToUpper(want), "C959 BDBA FA32 A2F8 9A15  3B67 8CFD E121 9796 5A9A",
		"0x" + want, " c959bdba\nfa32a2f89a153b67\r\n8cfde12197965a9a\t", "C9:59:BD:BA:FA:32:A2:F8:9A:15:3B:67:8C:FD:E1:21:97:96:5A:9A",
	} {
		got, err := ParseFingerprint(read)
		require.NoError(t, err, read)
		assert.EqualValues(t, want, got)
	}
	for read, says := range map[string]string{
		"97965A9A":                         "this has 8; short forms can be forged",
		"8CFDE12197965A9A":                 "this has 16",
		strings.Replace(want, "9", "O", 1): "looks like another character",
		strings.Replace(want, "9", "x", 1): "character 2",
		"":                                 "this has 0",
	} {
		_, err := ParseFingerprint(read)
		assert.ErrorContains(t, err, says, read)
	}
	assert.Equal(t, []int{1}, Differences(want, "c059bdbafa32a2f89a153b678cfde12197965a9a"))
}

func TestObstacles(t *testing.T) {
	made := pgptest.Simple("k", pgptest.Ed25519, born, "K")
	fp := openpgp.Fingerprint(made.Primary.Fingerprint())
	two := []Sighting{{Channel: Letter, Read: fp}, {Channel: Phone, Read: fp}}
	codes := func(k *Key, s []Sighting) []string {
		out := []string{}
		for _, o := range Obstacles(k, Evidence{Sightings: s}, Demand{Channels: 2}, rules()) {
			assert.NotEmpty(t, o.Sentence)
			out = append(out, o.Code)
		}
		return out
	}
	primary := made.Primary
	revoked := pgptest.NewCertificate(primary).
		Key(primary, pgptest.Sig{Type: pgptest.KeyRevocation, Created: now}).
		UserID("K", pgptest.Sig{Created: born})
	expired := pgptest.NewCertificate(primary).
		UserID("K", pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.KeyExpires(time.Hour)}})

	assert.Empty(t, codes(key(t, made), two))
	assert.Equal(t, []string{"sightings"}, codes(key(t, made), two[:1]))
	assert.Equal(t, []string{"sightings"}, codes(key(t, made), []Sighting{two[0], two[0]}), "one channel twice is one")
	assert.Equal(t, []string{"conflict"}, codes(key(t, made), append(two, Sighting{Channel: Mirror, Read: "00"})))
	assert.Empty(t, codes(key(t, made), append(two, Sighting{Channel: Mirror, Read: "00", Resolved: true})))
	assert.Equal(t, []string{"revoked"}, codes(key(t, revoked), two))
	assert.Equal(t, []string{"expired"}, codes(key(t, expired), two))
	assert.Equal(t, []string{"no-self-signature"}, codes(key(t, pgptest.NewCertificate(primary)), two))
	strict := rules()
	strict.Curves = []string{"P-256"}
	weak := Obstacles(key(t, made), Evidence{Sightings: two}, Demand{Channels: 2}, strict)
	require.Len(t, weak, 1)
	assert.Equal(t, "weak", weak[0].Code)
	assert.Contains(t, weak[0].Sentence, "the policy does not accept keys on the curve Ed25519")
	admitted := key(t, made)
	admitted.History = []Change{{At: born, To: Admitted}}
	assert.Equal(t, []string{"wrong-state"}, codes(admitted, two))
	assert.Contains(
		t, codes(key(t, pgptest.NewCertificate(pgptest.NewKey("e", pgptest.Elgamal, born))), two), "unusable",
	)
	assert.Len(t, Channels(), 10)
}
