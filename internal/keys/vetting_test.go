package keys_test

import (
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/keyring"
	"endeixis/core/openpgp"
	"endeixis/core/openpgp/pgptest"
	"endeixis/internal/keys"
	"endeixis/internal/publishers"
	"endeixis/internal/testkit"
)

// TestJunkIsDroppedAndTold imports a key with forgeries, before and behind the
// genuine, and again over time: what is kept is what holds, and the report says what
// was dropped.
func TestJunkIsDroppedAndTold(t *testing.T) {
	t.Parallel()
	p := testkit.Assemble(t, testkit.Prepare(t), testkit.Now)
	key, stranger := pgptest.NewKey("vetted", pgptest.Ed25519, born), pgptest.NewKey("forger", pgptest.Ed25519, born)
	self := pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}}
	clean := pgptest.NewCertificate(key).UserID("X", self).Bytes()
	forged := pgptest.NewCertificate(key).UserID("X", self)
	issuer := append([]byte{4}, openpgp.Fingerprint(key.Fingerprint()).Bytes()...)
	for i := range 50 {
		forged.Certify(
			stranger, "X",
			pgptest.Sig{
				Type: pgptest.Certification, Created: born.Add(time.Duration(i) * time.Hour), NoIssuer: true,
				Hashed: []pgptest.Sub{{Type: 33, Body: issuer}},
			},
		)
	}
	_, report, err := p.Keys.Import(t.Context(), "tobiah", "", "a test", forged.Bytes(), nil)
	require.NoError(t, err)
	assert.Empty(t, report.Notes)
	require.Len(t, report.Packets, 2)
	of := []openpgp.Fingerprint{openpgp.Fingerprint(key.Fingerprint())}
	assert.Equal(
		t, keys.Packets{Fate: openpgp.Fate{Packets: 3, Became: openpgp.Counts, Why: report.Packets[0].Why}, Keys: of},
		report.Packets[0],
	)
	assert.Equal(
		t,
		keys.Packets{
			Fate: openpgp.Fate{
				Packets: 50, Became: openpgp.Dropped, Why: "signatures said to be by the owner, which do not hold",
			},
			Keys: of,
		},
		report.Packets[1],
	)
	ring, err := p.Keys.ToJudge(t.Context())
	require.NoError(t, err)
	kept := ring.Lookup(openpgp.Fingerprint(key.Fingerprint())).Certificate
	assert.Len(t, kept.Bytes(), len(clean)+3*4, "as each packet is framed with four bytes more")
	for range 3 {
		done, _, err := p.Keys.Import(t.Context(), "tobiah", "", "a test", forged.Bytes(), nil)
		require.NoError(t, err)
		assert.Equal(t, keyring.Unchanged, done[0].Result)
	}
	var seen []int
	_, _, err = p.Keys.Preview(
		t.Context(), append(clean, pgptest.Simple("another", pgptest.Ed25519, born, "Y").Bytes()...),
		func(done, total int) { seen = append(seen, done, total) },
	)
	require.NoError(t, err)
	assert.Equal(t, []int{0, 2, 1, 2}, seen)
}

// TestManyImportOneKeyAtOnce: one of them adds it, and the others find it there.
func TestManyImportOneKeyAtOnce(t *testing.T) {
	t.Parallel()
	p := testkit.Assemble(t, testkit.Prepare(t), testkit.Now)
	for _, seed := range []string{"at once", "at once again", "a third time"} {
		made := pgptest.Simple(seed, pgptest.Ed25519, born, "X").Bytes()
		var wg sync.WaitGroup
		var mu sync.Mutex
		results := map[keyring.Arrival]int{}
		for range 12 {
			wg.Go(func() {
				done, _, err := p.Keys.Import(t.Context(), "tobiah", "", "a test", made, nil)
				mu.Lock()
				defer mu.Unlock()
				if assert.NoError(t, err) {
					results[done[0].Result]++
				}
			})
		}
		wg.Wait()
		assert.Equal(t, map[keyring.Arrival]int{keyring.NewlyArrived: 1, keyring.Unchanged: 11}, results)
	}
}

// TestAdmittedForThePast: an expired key is admitted with a time, which is kept, shown,
// and proposed where two curators are asked for.
func TestAdmittedForThePast(t *testing.T) {
	t.Parallel()
	p := testkit.Assemble(t, testkit.Prepare(t), testkit.Now)
	ended := born.Add(100 * 24 * time.Hour)
	made := pgptest.NewCertificate(pgptest.NewKey("past", pgptest.Ed25519, born)).
		UserID(
			"X",
			pgptest.Sig{
				Created: born,
				Hashed:  []pgptest.Sub{pgptest.Flags(pgptest.MaySign), pgptest.KeyExpires(ended.Sub(born))},
			},
		)
	fp := made.Primary.Fingerprint()
	_, err := p.Publishers.Add(t.Context(), "tobiah", publishers.Details{Slug: "corran", Name: "Corran"})
	require.NoError(t, err)
	_, _, err = p.Keys.Import(t.Context(), "tobiah", "corran", "a test", made.Bytes(), nil)
	require.NoError(t, err)
	for _, channel := range []keyring.Channel{keyring.Letter, keyring.Phone} {
		_, _, err := p.Keys.Sight(
			t.Context(), "ines", fp, keys.NewSighting{Read: fp, Channel: channel, Place: "a test"},
		)
		require.NoError(t, err)
	}
	admit := func(by string, until *time.Time) (keys.View, error) {
		return p.Keys.Admit(
			t.Context(), by,
			keys.Admission{Fingerprint: fp, Typed: fp, Publisher: "corran", Reason: "old releases", Until: until},
		)
	}
	late, future := ended.AddDate(0, 0, 1), testkit.Now().AddDate(1, 0, 0)
	for _, until := range []*time.Time{nil, &late, &future} {
		_, err := admit("tobiah", until)
		assert.Error(t, err)
	}
	now, err := p.Policy.InForce(t.Context(), 0)
	require.NoError(t, err)
	now.TwoCurators = true
	_, err = p.Policy.Set(t.Context(), "tobiah", "", now.Policy, "a test")
	require.NoError(t, err)
	v, err := admit("tobiah", &ended)
	require.NoError(t, err)
	require.NotNil(t, v.Proposal)
	assert.True(t, ended.Equal(*v.Proposal.Until))
	earlier := ended.AddDate(0, 0, -1)
	_, err = admit("ines", &earlier)
	assert.ErrorContains(t, err, "you ask for something else")
	v, err = admit("ines", &ended)
	require.NoError(t, err)
	last := v.Key.LastAt(testkit.Now().AddDate(1, 0, 0))
	assert.Equal(t, keyring.Admitted, last.To)
	require.NotNil(t, last.Until)
	assert.True(t, ended.Equal(*last.Until))
	again, _, err := p.Keys.Import(t.Context(), "tobiah", "", "a test", made.Bytes(), nil)
	require.NoError(t, err)
	assert.Equal(t, keyring.Admitted, again[0].State, "an import tells where a known key stands")
	ring, err := p.Keys.ToJudge(t.Context())
	require.NoError(t, err)
	assert.True(
		t, ended.Equal(*ring.Lookup(openpgp.Fingerprint(fp)).LastAt(testkit.Now().AddDate(1, 0, 0)).Until),
		"what is judged by has it too",
	)
}
