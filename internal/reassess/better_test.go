package reassess_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/core/openpgp/pgptest"
	"endeixis/internal/batches"
	"endeixis/internal/policy"
	"endeixis/internal/publishers"
	"endeixis/internal/query"
	"endeixis/internal/records"
	"endeixis/internal/sources"
	"endeixis/internal/state"
	"endeixis/internal/store"
	"endeixis/internal/testkit"
)

// certificate is that of the key, as it says itself how long it is good for; 0 is for ever.
func certificate(made time.Time, expires time.Duration) []byte {
	hashed := []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}
	if expires > 0 {
		hashed = append(hashed, pgptest.KeyExpires(expires))
	}
	return pgptest.NewCertificate(fallingKey).UserID("Quoin", pgptest.Sig{Created: made, Hashed: hashed}).Bytes()
}

func (c *cleared) imported(t *testing.T, text []byte) {
	t.Helper()
	_, _, err := c.Keys.Import(t.Context(), "tobiah", "quoin", "a test", text, nil)
	require.NoError(t, err)
}

// expired sets what the policy makes of signers that have expired since.
func (c *cleared) expired(t *testing.T, effect judge.Effect) {
	t.Helper()
	p, err := c.Policy.InForce(t.Context(), 0)
	require.NoError(t, err)
	if p.ExpiredSigner == effect {
		return
	}
	p.ExpiredSigner = effect
	_, err = c.Policy.Set(t.Context(), "tobiah", "", p.Policy, "a test")
	require.NoError(t, err)
}

// now is what the batch comes to.
func (c *cleared) now(t *testing.T) query.Batch {
	t.Helper()
	b, err := c.Batches.Get(t.Context(), c.batch)
	require.NoError(t, err)
	return b
}

// TestWhatWaitedIsJudgedAgain: every decision that can change a verdict has what it concerns judged again,
// for the better as for the worse, by itself and from what was measured.
func TestWhatWaitedIsJudgedAgain(t *testing.T) {
	t.Parallel()
	const day = 24 * time.Hour
	admitted := func(t *testing.T, text []byte) func(*cleared, *pgptest.Certificate) {
		return func(c *cleared, _ *pgptest.Certificate) {
			c.imported(t, text)
			c.sighted(t, fallingKey.Fingerprint(), keyring.Release)
		}
	}
	for name, c := range map[string]struct {
		before func(*testing.T) func(*cleared, *pgptest.Certificate)
		decide func(*testing.T, *cleared)
		// was and is are the verdicts.
		was, is judge.Verdict
	}{
		"a candidate is admitted": {
			func(t *testing.T) func(*cleared, *pgptest.Certificate) {
				return func(c *cleared, _ *pgptest.Certificate) { c.imported(t, certificate(born, 0)) }
			},
			func(t *testing.T, c *cleared) { c.sighted(t, fallingKey.Fingerprint(), keyring.Release) },
			judge.Unproven, judge.Cleared,
		},
		"an unknown key is imported and admitted": {
			func(*testing.T) func(*cleared, *pgptest.Certificate) { return func(*cleared, *pgptest.Certificate) {} },
			func(t *testing.T, c *cleared) {
				c.imported(t, certificate(born, 0))
				c.sighted(t, fallingKey.Fingerprint(), keyring.Release)
			},
			judge.Unproven, judge.Cleared,
		},
		"its validity is longer than was known": {
			func(t *testing.T) func(*cleared, *pgptest.Certificate) {
				return func(c *cleared, _ *pgptest.Certificate) {
					admitted(t, certificate(born, 0))(c, nil)
					c.imported(t, certificate(born.Add(day), 10*day))
				}
			},
			func(t *testing.T, c *cleared) { c.imported(t, certificate(born.Add(2*day), 0)) },
			judge.Unproven, judge.Cleared,
		},
		"the policy is loosened": {
			func(t *testing.T) func(*cleared, *pgptest.Certificate) {
				return func(c *cleared, certificate *pgptest.Certificate) {
					c.expired(t, judge.Withholds)
					admitted(t, certificate.Bytes())(c, certificate)
					c.imported(t, pgptest.NewCertificate(fallingKey).UserID("Quoin", pgptest.Sig{
						Created: born.Add(time.Hour),
						Hashed:  []pgptest.Sub{pgptest.Flags(pgptest.MaySign), pgptest.KeyExpires(60 * day)},
					}).Bytes())
				}
			},
			func(t *testing.T, c *cleared) { c.expired(t, judge.Notes) }, judge.Unproven, judge.Cleared,
		},
		"the policy is tightened": {
			func(t *testing.T) func(*cleared, *pgptest.Certificate) {
				return func(c *cleared, certificate *pgptest.Certificate) {
					c.expired(t, judge.Notes)
					admitted(t, certificate.Bytes())(c, certificate)
					c.imported(t, pgptest.NewCertificate(fallingKey).UserID("Quoin", pgptest.Sig{
						Created: born.Add(time.Hour),
						Hashed:  []pgptest.Sub{pgptest.Flags(pgptest.MaySign), pgptest.KeyExpires(60 * day)},
					}).Bytes())
				}
			},
			func(t *testing.T, c *cleared) { c.expired(t, judge.Withholds) }, judge.Cleared, judge.Unproven,
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := verifiedWith(t, c.before(t))
			require.EqualValues(t, c.was, s.present(t))
			s.judgeAgain(t)
			require.Nil(t, s.now(t).Now, "nothing has changed yet")
			c.decide(t, s)
			s.judgeAgain(t)
			assert.EqualValues(t, c.is, s.present(t))
			b := s.now(t)
			require.NotNil(t, b.Now)
			assert.Equal(t, c.was, *b.Verdict, "how it ended stands")
			assert.Equal(t, c.is, b.Now.Verdict)
			for verdict, n := range map[judge.Verdict]int{
				judge.Cleared: b.Now.Cleared, judge.Unproven: b.Now.Unproven, judge.Refused: b.Now.Refused,
			} {
				want := 0
				if verdict == c.is {
					want = 1
				}
				assert.Equal(t, want, n, verdict)
				listed, err := s.Store.Batches(t.Context(), store.BatchFilter{Verdict: string(verdict), Limit: 10})
				require.NoError(t, err)
				assert.Len(t, listed, want, "batches that are %s", verdict)
				items, err := s.Store.ItemRows(
					t.Context(), s.batch, store.ItemFilter{Verdict: string(verdict), Limit: 10},
				)
				require.NoError(t, err)
				assert.Len(t, items, want, "items that are %s", verdict)
			}
			report, err := s.Records.Audit(t.Context(), records.AuditQuestion{}, func(int64, int64) {})
			require.NoError(t, err)
			assert.True(t, report.Clean, report.Sentence)
		})
	}
}

// TestWaiversAreFollowed grants waivers for all that is said against a folder, and ends one of them.
func TestWaiversAreFollowed(t *testing.T) {
	t.Parallel()
	p := testkit.Assemble(t, testkit.Prepare(t), testkit.Now)
	c := &cleared{Parts: p}
	_, err := p.Publishers.Add(
		t.Context(), "tobiah", publishers.Details{Slug: "lanternfell", Name: "L", Scope: []string{"lamp-ctl-*"}},
	)
	require.NoError(t, err)
	made, err := p.Batches.Create(
		t.Context(), "ines",
		batches.Request{Source: sources.Source{Kind: sources.Depot, Reference: "quayside:lanternfell/lamp-ctl-3.6"}},
	)
	require.NoError(t, err)
	c.batch = made.ID
	for _, slice := range p.Surveyed(t, made.ID) {
		require.NoError(t, p.Batches.Measure(t.Context(), made.ID, slice))
	}
	_, err = p.Batches.Finish(t.Context(), made.ID)
	require.NoError(t, err)
	require.Equal(t, judge.Unproven, *c.now(t).Verdict)
	var first policy.Waiver
	for _, ground := range []judge.Code{judge.WeakDigestOnly, judge.ManifestUnsigned} {
		first, err = p.Policy.Grant(t.Context(), "tobiah", policy.NewWaiver{
			Ground: ground, Publisher: "lanternfell", Until: time.Now().AddDate(0, 1, 0), Reason: "a test",
		})
		require.NoError(t, err)
		assert.NotZero(t, first.Reassessment)
		c.judgeAgain(t)
	}
	require.NotNil(t, c.now(t).Now)
	assert.Equal(t, judge.Cleared, c.now(t).Now.Verdict)
	ended, err := p.Policy.End(t.Context(), "tobiah", first.ID, "they sign by now")
	require.NoError(t, err)
	assert.NotZero(t, ended.Reassessment)
	c.judgeAgain(t)
	assert.Equal(t, judge.Unproven, c.now(t).Now.Verdict)
	// Where everything is cleared or nothing was verified, nothing has to follow.
	again, err := p.Store.Reassessments(t.Context(), store.RunFilter{Rules: true, Limit: 10})
	require.NoError(t, err)
	assert.Len(t, again, 3)
	for _, r := range again {
		assert.Equal(t, state.RunDone, r.State)
	}
}
