package keys_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/keyring"
	"endeixis/core/openpgp"
	"endeixis/core/openpgp/pgptest"
	"endeixis/core/plain"
	"endeixis/internal/basis"
	"endeixis/internal/client"
	"endeixis/internal/fault"
	"endeixis/internal/keys"
	"endeixis/internal/publishers"
	"endeixis/internal/reassess"
	"endeixis/internal/records"
	"endeixis/internal/testkit"
	"endeixis/internal/wire"
)

func TestMain(m *testing.M) { testkit.Main(m) }

var born = time.Date(2024, 3, 1, 0, 0, 0, 0, time.UTC)

// TestTwoCuratorsAtOnce lets several admit the same key at the same moment:
// one decision is recorded.
func TestTwoCuratorsAtOnce(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	c := s.Client(t, "curator")
	made := pgptest.Simple("at once", pgptest.Ed25519, born, "X")
	fp := made.Primary.Fingerprint()
	_, err := c.ImportKeys(t.Context(), made.Bytes(), "a test", "")
	require.NoError(t, err)
	for _, channel := range []string{"letter", "phone"} {
		_, err := c.SightKey(
			t.Context(), fp, wire.NewSighting{Read: fp, Channel: keyring.Channel(channel), Place: "here", Note: ""},
		)
		require.NoError(t, err)
	}
	var wg sync.WaitGroup
	var admitted atomic.Int32
	for range 40 { // more than there are connections
		wg.Go(func() {
			if _, err := c.AdmitKey(
				t.Context(), fp, wire.Admission{Typed: fp, Publisher: "tidewright", Reason: "both agree"},
			); err == nil {
				admitted.Add(1)
			} else {
				assert.ErrorContains(t, err, "only a candidate can be admitted")
			}
		})
	}
	wg.Wait()
	assert.EqualValues(t, 1, admitted.Load())
	k, err := c.Key(t.Context(), fp)
	require.NoError(t, err)
	assert.Len(t, k.History, 1)
	assert.Equal(t, "tidewright", k.Publisher)
}

// TestImportMerges adds what is new and drops nothing.
func TestImportMerges(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	c := s.Client(t, "curator")
	key := pgptest.NewKey("merging", pgptest.Ed25519, born)
	day := 24 * time.Hour
	self := func(days int) pgptest.Sig {
		return pgptest.Sig{
			Created: born.Add(time.Duration(days) * day),
			Hashed:  []pgptest.Sub{pgptest.Flags(pgptest.MaySign), pgptest.KeyExpires(time.Duration(days+3000) * day)},
		}
	}
	old := pgptest.NewCertificate(key).UserID("X", self(0)).Bytes()
	extended := pgptest.NewCertificate(key).UserID("X", self(10)).Bytes()
	revoked := pgptest.NewCertificate(key).Key(
		key, pgptest.Sig{Type: pgptest.KeyRevocation, Created: born.Add(20 * day)},
	).Bytes()
	results := []string{}
	for _, data := range [][]byte{old, extended, old, revoked, extended} {
		r, err := c.ImportKeys(t.Context(), data, "a test", "")
		require.NoError(t, err)
		results = append(results, string(r.Keys[0].Result))
	}
	assert.Equal(t, []string{"new", "updated", "unchanged", "updated", "unchanged"}, results)
	k, err := c.Key(t.Context(), key.Fingerprint())
	require.NoError(t, err)
	assert.Equal(t, born.Add(3010*day), *k.Expires)
	require.NotNil(t, k.Revoked, "a revocation stays")
	codes := []string{}
	for _, o := range k.Obstacles {
		codes = append(codes, o.Code)
	}
	assert.Contains(t, codes, "revoked")
}

// TestADamagedKeySpoilsNoOther imports a good key with a damaged one.
func TestADamagedKeySpoilsNoOther(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	c := s.Client(t, "curator")
	before, err := c.Keys(t.Context(), client.KeyFilter{})
	require.NoError(t, err)
	good := pgptest.Simple("good", pgptest.Ed25519, born, "X").Bytes()
	bad := pgptest.Simple("bad", pgptest.Ed25519, born, "Y").Bytes()
	out, err := c.ImportKeys(t.Context(), append(good, bad[:len(bad)-5]...), "a test", "")
	require.NoError(t, err)
	require.Len(t, out.Keys, 1)
	require.Len(t, out.Notes, 1)
	assert.Contains(t, out.Notes[0], "One key was left out: signature packet at byte")
	require.Len(t, out.Packets, 1)
	assert.Equal(
		t,
		wire.ImportedPackets{
			Packets: 3, Became: openpgp.Counts, Why: out.Packets[0].Why, Keys: 1,
			Fingerprints: []string{out.Keys[0].Fingerprint},
		},
		out.Packets[0],
	)
	after, err := c.Keys(t.Context(), client.KeyFilter{})
	require.NoError(t, err)
	assert.Len(t, after, len(before)+1)
	_, err = c.ImportKeys(t.Context(), bad[:len(bad)-5], "a test", "")
	assert.ErrorContains(t, err, "damaged", "by itself it is none")
}

// TestKeyringInMemory is the same one until something changes, and then has the
// change, whoever made it.
func TestKeyringInMemory(t *testing.T) {
	t.Parallel()
	c := testkit.Prepare(t)
	p := testkit.Assemble(t, c, testkit.Now)
	service, other := p.Keys, keys.New(
		p.Store, p.Records, basis.New(p.Store, p.Records), p.Publishers, p.Policy, nil,
		reassess.NewOrders(p.Queue, p.Records, testkit.Now), testkit.Now,
	) // two processes
	ring := func(k *keys.Service) *keyring.Keyring {
		out, err := k.ToJudge(t.Context())
		require.NoError(t, err)
		return out
	}
	empty := ring(service)
	assert.Same(t, empty, ring(service))
	key := pgptest.NewKey("memory", pgptest.Ed25519, born)
	self := pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}}
	_, _, err := other.Import(
		t.Context(), "tobiah", "", "a test", pgptest.NewCertificate(key).UserID("X", self).Bytes(), nil,
	)
	require.NoError(t, err)
	assert.Empty(t, empty.Keys(), "what was handed out does not change")
	fp := openpgp.Fingerprint(key.Fingerprint())
	first := ring(service).Lookup(fp)
	require.NotNil(t, first)
	_, err = p.Publishers.Add(t.Context(), "tobiah", publishers.Details{Slug: "x", Name: "X"})
	require.NoError(t, err)
	assert.Same(
		t, first.Certificate, ring(service).Lookup(fp).Certificate, "an unchanged certificate is not read again",
	)
	revoked := pgptest.NewCertificate(key).Key(key, pgptest.Sig{Type: pgptest.KeyRevocation, Created: born}).Bytes()
	_, _, err = other.Import(t.Context(), "tobiah", "", "a test", revoked, nil)
	require.NoError(t, err)
	assert.NotNil(t, ring(service).Lookup(fp).Certificate.Revocation(), "a revocation is seen at once")
	for _, channel := range []keyring.Channel{keyring.Letter, keyring.Phone} {
		_, agrees, err := other.Sight(
			t.Context(), "tobiah", string(fp), keys.NewSighting{Read: string(fp), Channel: channel, Place: "a test"},
		)
		require.NoError(t, err)
		assert.True(t, agrees)
	}
	views, _, err := service.List(t.Context(), keys.Filter{})
	require.NoError(t, err)
	assert.Len(t, views[0].Sightings, 2)
}

// TestPoliciesOfPublishers sets, replaces and ends what one publisher has
// otherwise; what was in force at a version stays so.
func TestPoliciesOfPublishers(t *testing.T) {
	t.Parallel()
	c := testkit.Prepare(t)
	s := testkit.StartWith(t, c)
	curator, auditor := s.Client(t, "curator"), s.Client(t, "auditor")
	fields := func(text string) json.RawMessage { return json.RawMessage(text) }
	set, err := curator.SetOwnPolicy(t.Context(), "corran", fields(`{"rsa_bits": 4096}`), "their new press room")
	require.NoError(t, err)
	assert.Equal(t, []string{"rsa_bits"}, set.Own)
	assert.Equal(t, 4096, set.Document.RSABits)
	assert.Equal(t, 128, set.Document.DigestBits)

	whole := set.Document
	whole.RSABits, whole.DigestBits = 3072, 192
	_, err = curator.SetPolicy(t.Context(), mustJSON(t, whole), "stronger for everybody")
	require.NoError(t, err)
	ended, err := curator.SetOwnPolicy(t.Context(), "corran", fields(`{}`), "they follow the rest")
	require.NoError(t, err)
	assert.Empty(t, ended.Own)
	assert.Equal(t, 3072, ended.Document.RSABits)

	history, err := auditor.Policies(t.Context())
	require.NoError(t, err)
	require.Len(t, history, 4)
	assert.Equal(
		t, []string{"corran", "", "corran", ""},
		[]string{history[0].Publisher, history[1].Publisher, history[2].Publisher, history[3].Publisher},
	)
	shown := map[int64][2]int{1: {2048, 2048}, 2: {2048, 4096}, 3: {3072, 4096}, 4: {3072, 3072}}
	service := testkit.Assemble(t, c, testkit.Now).Policy
	for version, want := range shown {
		p, err := service.InForce(t.Context(), version)
		require.NoError(t, err)
		assert.Equal(t, version, p.Version)
		assert.Equal(t, want, [2]int{p.RSABits, p.Of("corran").RSABits}, "version %d", version)
		assert.Equal(t, want[0], p.Of("tidewright").RSABits)
	}

	for text, says := range map[string]string{
		`{"rsa_bytes": 1}`: `no field "rsa_bytes"`, `{"rsa_bits": -5}`: "negative", `{"rsa_bits": "many"}`: "cannot be read", `{}`: "in force", `[]`: "cannot be read",
	} {
		_, err := curator.SetOwnPolicy(t.Context(), "corran", fields(text), "a mistake")
		assert.ErrorContains(t, err, says, text)
	}
	_, err = curator.SetOwnPolicy(t.Context(), "nobody", fields(`{"rsa_bits": 4096}`), "a mistake")
	assert.ErrorContains(t, err, "no publisher")
	_, err = s.Client(t, "operator").SetOwnPolicy(t.Context(), "corran", fields(`{"rsa_bits": 4096}`), "a try")
	assert.ErrorContains(t, err, "curator")
}

func mustJSON(t *testing.T, v any) json.RawMessage {
	t.Helper()
	text, err := json.Marshal(v)
	require.NoError(t, err)
	return text
}

// TestExpiring notices a key 60, 30 and 7 days ahead.
func TestExpiring(t *testing.T) {
	t.Parallel()
	c := testkit.Prepare(t)
	clock := born.AddDate(0, 1, 0)
	p := testkit.Assemble(t, c, func() time.Time { return clock })
	k := p.Keys
	_, err := p.Publishers.Add(t.Context(), "tobiah", publishers.Details{Slug: "corran", Name: "Corran"})
	require.NoError(t, err)
	made := pgptest.NewCertificate(pgptest.NewKey("expiring", pgptest.Ed25519, born)).
		UserID(
			"X",
			pgptest.Sig{
				Created: born,
				Hashed:  []pgptest.Sub{pgptest.Flags(pgptest.MaySign), pgptest.KeyExpires(365 * 24 * time.Hour)},
			},
		)
	fp := made.Primary.Fingerprint()
	_, _, err = k.Import(t.Context(), "tobiah", "corran", "a test", made.Bytes(), nil)
	require.NoError(t, err)
	for _, channel := range []keyring.Channel{keyring.Letter, keyring.Phone} {
		_, _, err := k.Sight(t.Context(), "ines", fp, keys.NewSighting{Read: fp, Channel: channel, Place: "a test"})
		require.NoError(t, err)
	}
	_, err = k.Admit(
		t.Context(), "tobiah", keys.Admission{Fingerprint: fp, Typed: fp, Publisher: "corran", Reason: "a test"},
	)
	require.NoError(t, err)
	end := born.Add(365 * 24 * time.Hour)
	for days, want := range map[int]int{61: 0, 59: 60, 31: 60, 29: 30, 8: 30, 6: 7, 1: 7, -1: 0} {
		clock = end.AddDate(0, 0, -days)
		got, err := k.Expiring(t.Context())
		require.NoError(t, err)
		if want == 0 {
			assert.Empty(t, got, "%d days", days)
			continue
		}
		if assert.Len(t, got, 1, "%d days", days) {
			assert.Equal(t, want, got[0].Stage, "%d days", days)
		}
	}
}

// TestKeyBeyondBounds imports one key whose copies together pass every bound, again
// and again: what is stored can always be read.
func TestKeyBeyondBounds(t *testing.T) {
	t.Parallel()
	p := testkit.Assemble(t, testkit.Bare(t), testkit.Now)
	born := time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC)
	key := pgptest.NewKey("bounds", pgptest.Ed25519, born)
	copyOf := func(prefix string) []byte {
		c := pgptest.NewCertificate(key)
		for i := range 600 {
			c = c.UserID(fmt.Sprintf("%s %d", prefix, i), pgptest.Sig{Created: born})
		}
		return c.Bytes()
	}
	_, report, err := p.Keys.Import(
		t.Context(), "tobiah", "", "a test", append(copyOf("first"), copyOf("second")...), nil,
	)
	require.NoError(t, err)
	// Each copy is a key, 600 names and as many signatures; 1,000 parts are one key's bound.
	require.Len(t, report.Packets, 3)
	assert.Equal(
		t, openpgp.Fate{Packets: 1 + 2*999, Became: openpgp.Counts, Why: report.Packets[0].Why},
		report.Packets[0].Fate,
	)
	assert.Equal(
		t, openpgp.Fate{Packets: 2 * (2*600 - 999), Became: openpgp.Dropped, Why: "more than one key may have here"},
		report.Packets[1].Fate,
	)
	assert.Equal(
		t, openpgp.Fate{Packets: 1, Became: openpgp.Dropped, Why: "copies of what the file says elsewhere"},
		report.Packets[2].Fate,
	)
	out, _, err := p.Keys.Import(t.Context(), "tobiah", "", "a test", copyOf("third"), nil)
	require.NoError(t, err)
	assert.Contains(t, strings.Join(out[0].Changes, " ")+string(out[0].Result), "unchanged")
	views, _, err := p.Keys.List(t.Context(), keys.Filter{})
	require.NoError(t, err)
	require.Len(t, views, 1)
	unreadable, err := p.Keys.Unreadable(t.Context())
	require.NoError(t, err)
	assert.Empty(t, unreadable)
}

// TestUnreadableKey stores rubbish in the place of one key: it counts for nothing and
// is named, and the others are as they were.
func TestUnreadableKey(t *testing.T) {
	t.Parallel()
	p := testkit.Assemble(t, testkit.Bare(t), testkit.Now)
	born := time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC)
	good := pgptest.Simple("good", pgptest.Ed25519, born, "Good")
	bad := pgptest.Simple("bad", pgptest.Ed25519, born, "Bad")
	_, _, err := p.Keys.Import(t.Context(), "tobiah", "", "a test", append(good.Armored(), bad.Armored()...), nil)
	require.NoError(t, err)
	_, err = p.Store.Pool.Exec(
		t.Context(), `UPDATE keys SET certificate = '\x99' WHERE encode(fingerprint, 'hex') = $1`,
		bad.Primary.Fingerprint(),
	)
	require.NoError(t, err)
	restarted := func() *keys.Service {
		return keys.New(
			p.Store, p.Records, basis.New(p.Store, p.Records), p.Publishers, p.Policy, nil, nil, testkit.Now,
		)
	}
	p.Keys = restarted()
	views, _, err := p.Keys.List(t.Context(), keys.Filter{})
	require.NoError(t, err)
	require.Len(t, views, 2, "what was recorded is stored in another place too")
	_, err = p.Store.Pool.Exec(t.Context(), `ALTER TABLE key_versions DISABLE TRIGGER USER`)
	require.NoError(t, err)
	_, err = p.Store.Pool.Exec(
		t.Context(), `UPDATE key_versions SET certificate = '\x99' WHERE encode(fingerprint, 'hex') = $1`,
		bad.Primary.Fingerprint(),
	)
	require.NoError(t, err)
	p.Keys = restarted()
	_, err = p.Keys.ToJudge(t.Context())
	assert.True(t, fault.Is(err, fault.KeyringAltered), "%v", err)
	views, _, err = p.Keys.List(t.Context(), keys.Filter{})
	require.NoError(t, err)
	require.Len(t, views, 1)
	assert.EqualValues(t, good.Primary.Fingerprint(), views[0].Key.Certificate.Primary.Fingerprint)
	unreadable, err := p.Keys.Unreadable(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []string{plain.Grouped(bad.Primary.Fingerprint())}, unreadable)
	_, err = p.Keys.Show(t.Context(), bad.Primary.Fingerprint())
	assert.True(t, fault.Is(err, fault.KeyUnreadable))
	_, _, err = p.Keys.Import(t.Context(), "tobiah", "", "a test", bad.Armored(), nil)
	assert.True(
		t, fault.Is(err, fault.KeyringAltered), "what was altered is not merged, and recorded as if it had been imported",
	)
}

// TestRevocationAlone imports a revocation without its key, in every form that it comes
// in: it takes effect on the key it revokes, and on no other.
func TestRevocationAlone(t *testing.T) {
	t.Parallel()
	revocation := func(by *pgptest.Key) []byte {
		whole := pgptest.NewCertificate(by).Key(
			by,
			pgptest.Sig{
				Type: pgptest.KeyRevocation, Created: born.AddDate(1, 0, 0),
				Hashed: []pgptest.Sub{pgptest.Reason(2, "the laptop was stolen")},
			},
		).Bytes()
		bare := pgptest.NewCertificate(by).Bytes()
		require.Equal(t, bare, whole[:len(bare)])
		return whole[len(bare):]
	}
	for what, form := range map[string]func([]byte) []byte{
		"binary":         func(b []byte) []byte { return b },
		"as a signature": func(b []byte) []byte { return pgptest.Armor("PGP SIGNATURE", b) },
		"as a key":       func(b []byte) []byte { return pgptest.Armor("PGP PUBLIC KEY BLOCK", b) },
	} {
		p := testkit.Assemble(t, testkit.Bare(t), testkit.Now)
		key := pgptest.Simple("lone", pgptest.Ed25519, born, "Lone")
		other := pgptest.Simple("other", pgptest.Ed25519, born, "Other")
		_, _, err := p.Keys.Import(t.Context(), "tobiah", "", "a test", append(key.Bytes(), other.Bytes()...), nil)
		require.NoError(t, err)
		stranger := pgptest.NewKey("stranger", pgptest.Ed25519, born)
		_, _, err = p.Keys.Import(t.Context(), "tobiah", "", "a test", form(revocation(stranger)), nil)
		assert.True(t, fault.Is(err, fault.RevocationUnknown), "%s: %v", what, err)
		out, _, err := p.Keys.Import(t.Context(), "tobiah", "", "a test", form(revocation(key.Primary)), nil)
		require.NoError(t, err, what)
		require.Len(t, out, 1)
		assert.True(t, out[0].Revokes, what)
		views, _, err := p.Keys.List(t.Context(), keys.Filter{})
		require.NoError(t, err)
		for _, v := range views {
			isIt := string(v.Key.Certificate.Primary.Fingerprint) == key.Primary.Fingerprint()
			assert.Equal(t, isIt, v.Key.Certificate.Revocation() != nil, what)
			assert.NotEmpty(t, v.Key.Certificate.Names(), "what was known stays")
		}
		again, _, err := p.Keys.Import(t.Context(), "tobiah", "", "a test", form(revocation(key.Primary)), nil)
		require.NoError(t, err)
		assert.Equal(t, keyring.Unchanged, again[0].Result)
		differences, err := records.Discrepancies(t.Context(), p.Store.Reads, 0, func(int64, int64) {})
		require.NoError(t, err)
		assert.Empty(t, differences, what)
	}
}
