package test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/openpgp/pgptest"
	"endeixis/internal/roles"
	"endeixis/internal/testkit"
	"endeixis/internal/wire"
)

// TestWhatNeedsAttentionCanBeEmptied: each entry says why and what helps; a later cleared batch of the same folder, or
// somebody with a reason, takes it off the list, and a change brings it back. Keys concern those who decide about them.
func TestWhatNeedsAttentionCanBeEmptied(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	attention := func(role roles.Role) []wire.Attention {
		r := endeixis(t, s, role, "attention", "--limit", "0", "-o", "json")
		require.Zero(t, r.code, r.err)
		var out []wire.Attention
		require.NoError(t, json.Unmarshal([]byte(r.out), &out))
		return out
	}
	batches := func(entries []wire.Attention) (ids []int64) {
		for _, e := range entries {
			if e.Batch != nil {
				ids = append(ids, e.Batch.ID)
			}
		}
		return ids
	}
	image := []byte("a buoy's light, release 1")
	good := publishes(t, s, "buoy-1", map[string][]byte{"buoy-1.img": image})
	require.Equal(t, "cleared", *good.Verdict)
	s.Write(t, "buoy-1", map[string][]byte{"buoy-1.img": []byte("cut")})
	refused := verified(t, s, "quayside:buoy-1")
	require.Equal(t, "refused", *refused.Verdict)
	other := verified(t, s, s.Write(t, "elsewhere", map[string][]byte{"x.img": []byte("nobody speaks of it")}))

	seen := attention(roles.Operator)
	require.Equal(t, []int64{refused.ID, other.ID}, batches(seen), "the refused first, and not the good one")
	assert.Equal(t, "buoy-1.img", seen[0].Path)
	assert.Contains(t, seen[0].Why, "are not those that")
	assert.Contains(t, seen[0].Act, "Download it again")
	shown := endeixis(t, s, roles.Operator, "attention")
	assert.Contains(t, shown.out, fmt.Sprintf("✗ refused  batch %d, quayside:buoy-1: buoy-1.img", refused.ID))
	for _, e := range seen {
		assert.Nil(t, e.Key, "keys are nothing that an operator can do something about")
	}

	// The file is replaced, and the folder verified again.
	s.Write(t, "buoy-1", map[string][]byte{"buoy-1.img": image})
	mended := verified(t, s, "quayside:buoy-1")
	require.Equal(t, "cleared", *mended.Verdict)
	assert.Equal(t, []int64{other.ID}, batches(attention(roles.Operator)))

	// Another stick in the same drive says nothing of the one before.
	stick := filepath.Join(t.TempDir(), "stick")
	require.NoError(t, os.WriteFile(stick, []byte("wrong"), 0o644))
	worn := endeixis(t, s, roles.Operator, "readback", stick, "--against", "quayside:buoy-1/buoy-1.img")
	require.Equal(t, 10, worn.code, worn.out+worn.err)
	require.NoError(t, os.WriteFile(stick, image, 0o644))
	r := endeixis(t, s, roles.Operator, "readback", stick, "--against", "quayside:buoy-1/buoy-1.img")
	require.Zero(t, r.code, r.out+r.err)
	left := batches(attention(roles.Operator))
	require.Len(t, left, 2, "the first stick is still somewhere")
	known := endeixis(t, s, roles.Operator, "batch", "settle", fmt.Sprint(left[0]), "--reason", "the stick is broken")
	require.Zero(t, known.code, known.err)

	// Somebody settles the other, with a reason and once.
	none := endeixis(t, s, roles.Operator, "batch", "settle", fmt.Sprint(other.ID), "--reason", " ")
	assert.Equal(t, 1, none.code, none.err)
	auditor := endeixis(t, s, roles.Auditor, "batch", "settle", fmt.Sprint(other.ID), "--reason", "known")
	assert.NotZero(t, auditor.code)
	settled := endeixis(t, s, roles.Operator, "batch", "settle", fmt.Sprint(other.ID), "--reason", "a sample of ours")
	assert.Zero(t, settled.code, settled.err)
	assert.Contains(t, settled.err, "is settled; it stays unproven")
	assert.Empty(t, batches(attention(roles.Operator)))
	twice := endeixis(t, s, roles.Operator, "batch", "settle", fmt.Sprint(other.ID), "--reason", "again")
	assert.Equal(t, 1, twice.code)
	assert.Contains(t, twice.err, "needs no attention")
	cleared := endeixis(t, s, roles.Operator, "batch", "settle", fmt.Sprint(mended.ID), "--reason", "why not")
	assert.Contains(t, cleared.err, "needs no attention")

	// What takes the good batch's ground away brings both of its folder back, however they were left.
	var key string
	items, err := s.Client(t, roles.Auditor).Items(t.Context(), mended.ID)
	require.NoError(t, err)
	for _, item := range items {
		for _, g := range item.Grounds {
			if g.Signature != nil {
				key = string(g.Signature.Key)
			}
		}
	}
	gone := endeixis(t, s, roles.Curator, "keyring", "withdraw", key, "--reason", "they have lost it")
	require.Zero(t, gone.code, gone.err)
	read := left[0] + 1 // the good stick, which rests on the image
	assert.Equal(t, []int64{refused.ID, read, mended.ID, good.ID}, batches(attention(roles.Operator)))
	again := endeixis(t, s, roles.Operator, "batch", "settle", fmt.Sprint(mended.ID), "--reason", "they will sign it anew")
	assert.Zero(t, again.code, again.err)
	back := endeixis(t, s, roles.Curator, "keyring", "reconsider", key, "--reason", "they have found it")
	require.Zero(t, back.code, back.err)
	assert.Equal(t, []int64{refused.ID, read, good.ID}, batches(attention(roles.Operator)), "settled it stays")

	// A candidate that nobody will admit.
	stray := pgptest.NewKey("stray", pgptest.Ed25519, time.Now().AddDate(-1, 0, 0))
	made := pgptest.NewCertificate(stray).UserID("Stray", pgptest.Sig{
		Created: time.Now().AddDate(-1, 0, 0), Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)},
	})
	_, err = s.Client(t, roles.Curator).ImportKeys(t.Context(), made.Bytes(), "a test", "")
	require.NoError(t, err)
	waits := func() bool {
		for _, e := range attention(roles.Curator) {
			if e.Key != nil && strings.EqualFold(e.Key.Fingerprint, stray.Fingerprint()) {
				assert.Equal(t, "candidate", e.Word)
				return true
			}
		}
		return false
	}
	require.True(t, waits())
	dropped := endeixis(t, s, roles.Curator, "keyring", "settle", stray.Fingerprint(), "--reason", "nobody knows them")
	require.Zero(t, dropped.code, dropped.err)
	assert.False(t, waits())
	fp := stray.Fingerprint()
	_, err = s.Client(t, roles.Curator).SightKey(
		t.Context(), fp, wire.NewSighting{Read: fp, Channel: "letter", Place: "a test"},
	)
	require.NoError(t, err)
	assert.True(t, waits(), "somebody has seen it since")

	b := open(t, s)
	b.signIn(roles.Operator)
	b.visit("/attention", "Batch 1: quayside:buoy-1")
	b.accessible("what needs attention")
	b.press("Settle it")
	b.fill("Why it needs no attention as it is", "the folder is thrown away")
	b.press("Settle")
	b.gone(fmt.Sprintf("Batch %d:", refused.ID))

	audit := endeixis(t, s, roles.Auditor, "record", "audit")
	assert.Zero(t, audit.code, audit.out+audit.err)
}
