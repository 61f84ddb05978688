package openpgp_test

import (
	"bytes"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/openpgp"
	"endeixis/core/openpgp/pgptest"
)

// TestMergeStaysReadable merges copies of one key that together pass every bound:
// what was known stays, a revocation is let in before anything else, and what comes
// out can be read again, which is how it is stored.
func TestMergeStaysReadable(t *testing.T) {
	t.Parallel()
	born := time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC)
	key := pgptest.NewKey("bounds", pgptest.Ed25519, born)
	read := func(c *pgptest.Certificate) *openpgp.Certificate {
		certs, _, err := openpgp.ReadCertificates(c.Bytes())
		require.NoError(t, err)
		return certs[0]
	}
	names := func(prefix string) *openpgp.Certificate {
		c := pgptest.NewCertificate(key)
		for i := range 600 {
			c = c.UserID(fmt.Sprintf("%s %d", prefix, i), pgptest.Sig{Created: born})
		}
		return read(c)
	}
	first, second := names("first"), names("second")
	merged, left := openpgp.Merge(first, second, nil)
	assert.Positive(t, left)
	again, _, err := openpgp.ReadCertificates(merged.Bytes())
	require.NoError(t, err)
	require.Len(t, again, 1)
	for _, u := range first.UserIDs {
		found := false
		for _, v := range again[0].UserIDs {
			found = found || u.ID == v.ID
		}
		require.True(t, found, "%s was known", u.ID)
	}
	revoked := read(
		pgptest.NewCertificate(key).Key(
			key,
			pgptest.Sig{
				Type: pgptest.KeyRevocation, Created: born.AddDate(1, 0, 0),
				Hashed: []pgptest.Sub{pgptest.Reason(2, "")},
			},
		),
	)
	full, _ := openpgp.Merge(merged, revoked, nil)
	assert.NotNil(t, full.Revocation(), "a key that is full can still be revoked")
	onceMore, left := openpgp.Merge(full, merged, nil)
	assert.Zero(t, left)
	assert.True(t, bytes.Equal(full.Bytes(), onceMore.Bytes()))
}

// TestRevocationOfAnother: a revocation by one key, whoever it names as its issuer,
// does not revoke another.
func TestRevocationOfAnother(t *testing.T) {
	t.Parallel()
	born := time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC)
	ownKey, other := pgptest.NewKey("mine", pgptest.Ed25519, born), pgptest.NewKey("other", pgptest.Ed25519, born)
	read := func(key *pgptest.Key) *openpgp.Certificate {
		certs, _, err := openpgp.ReadCertificates(
			pgptest.NewCertificate(key).UserID("U", pgptest.Sig{Created: born}).Bytes(),
		)
		require.NoError(t, err)
		return certs[0]
	}
	revocation := func(of, by *pgptest.Key) *openpgp.Signature {
		whole := pgptest.NewCertificate(of).Key(
			by, pgptest.Sig{Type: pgptest.KeyRevocation, Created: born.AddDate(1, 0, 0)},
		).Bytes()
		lone := openpgp.LoneRevocations(whole[len(pgptest.NewCertificate(of).Bytes()):])
		require.Len(t, lone, 1)
		return lone[0]
	}
	bare, ok := read(ownKey).RevokedBy(revocation(ownKey, ownKey))
	require.True(t, ok)
	assert.NotNil(t, bare.Revocation())
	for what, forged := range map[string]*openpgp.Signature{
		"over this key, by another": revocation(ownKey, other),
		"by this key, over another": revocation(other, ownKey),
		"of another altogether":     revocation(other, other),
	} {
		_, ok := read(ownKey).RevokedBy(forged)
		assert.False(t, ok, what)
	}
}
