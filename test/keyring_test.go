package test

import (
	"bytes"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/core/openpgp/pgptest"
	"endeixis/demo/scenario"
	"endeixis/internal/client"
	"endeixis/internal/roles"
	"endeixis/internal/testkit"
	"endeixis/internal/wire"
)

// keyOf finds one of the publishers' keys by the name of its file.
func keyOf(t testing.TB, name string) scenario.KeyFile {
	t.Helper()
	for _, k := range scenario.Keys() {
		if k.Name == name {
			return k
		}
	}
	t.Fatalf("no key file %s", name)
	return scenario.KeyFile{}
}

// words puts what was printed into one line.
func words(r ran) string { return strings.Join(strings.Fields(r.out+" "+r.err), " ") }

// TestConflict notes a fingerprint with one wrong digit, which blocks a
// candidate and flags an admitted key until a curator resolves it.
func TestConflict(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	key := keyOf(t, "tidewright-release.asc")
	wrong := "f" + key.Fingerprint[1:]
	r := endeixis(
		t, s, "operator", "keyring", "sight", key.Fingerprint, "--read", wrong, "--channel", "mirror", "--at",
		"mirror.example/keys",
	)
	assert.Equal(t, 10, r.code)
	assert.Contains(t, r.out, "^", "the digits that differ are marked")
	waiting := endeixis(t, s, "auditor", "keyring", "list", "--waiting")
	assert.Contains(t, waiting.out, "conflict", "an admitted key is flagged at once")
	record := regexp.MustCompile(`keyring resolve (\d+)`).FindStringSubmatch(words(r))
	require.Len(t, record, 2, r.out)

	denied := endeixis(t, s, "operator", "keyring", "resolve", record[1], "--reason", "a typing mistake")
	assert.Equal(t, 3, denied.code)
	for _, c := range []struct{ record, reason, says string }{{record[1], " ", "needs a reason"}, {"0", "x", "Record 0 is not a sighting"}, {"x", "y", "not the number of a record"}} {
		r := endeixis(t, s, "curator", "keyring", "resolve", c.record, "--reason", c.reason)
		assert.NotZero(t, r.code)
		assert.Contains(t, words(r), c.says)
	}
	resolved := endeixis(
		t, s, "curator", "keyring", "resolve", record[1], "--reason",
		"read off the line below; checked again on the phone",
	)
	assert.Zero(t, resolved.code, resolved.err)
	assert.Contains(t, words(resolved), "Resolved by tobiah: read off the line below")
	again := endeixis(t, s, "curator", "keyring", "resolve", record[1], "--reason", "once more")
	assert.Contains(t, words(again), "tobiah resolved this conflict before")
	assert.NotContains(t, endeixis(t, s, "auditor", "keyring", "list", "--waiting").out, key.Fingerprint[:4])
	assert.Contains(
		t, endeixis(t, s, "auditor", "record", "list", "--kind", "conflict-resolved").out, "conflict-resolved",
	)
}

// TestAnchorAdmits admits a release key on the strength of the anchor's
// certification, shows the path, and loses it with the anchor.
func TestAnchorAdmits(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	dir := t.TempDir()
	require.NoError(t, scenario.WriteKeys(dir))
	next, anchor := keyOf(t, "tidewright-release-2027.asc"), keyOf(t, "tidewright-anchor.asc")
	require.Zero(
		t,
		endeixis(
			t, s, "operator", "keyring", "import", filepath.Join(dir, next.Name), "--publisher", "tidewright",
		).code,
	)
	shown := endeixis(t, s, "auditor", "keyring", "show", next.Fingerprint)
	assert.Contains(t, words(shown), "✓ holds certified on 2026-10-04")
	assert.Contains(t, words(shown), "Nothing stands in the way")

	known := endeixis(t, s, "auditor", "keyring", "show", keyOf(t, "tidewright-release.asc").Fingerprint)
	assert.Contains(
		t, words(known),
		"Certified by ✓ holds on 2025-01-16 by Tidewright Instruments (anchor; certifies release keys)",
	)
	assert.Contains(t, words(known), "Signed here Nothing that was verified")

	// For another publisher the anchor says nothing, and it makes no anchor.
	admit := func(args ...string) ran {
		return endeixis(
			t,
			s,
			"curator",
			append([]string{"keyring", "admit", next.Fingerprint, "--reason", "certified by the anchor"}, args...)...)
	}
	assert.Contains(t, words(admit("--publisher", "brackwater")), "0 of 2 distinct channels")
	assert.Contains(t, words(admit("--publisher", "tidewright", "--role", "anchor")), "0 of 2 distinct channels")

	withdrawn := endeixis(t, s, "curator", "keyring", "withdraw", anchor.Fingerprint, "--reason", "the contract ended")
	require.Zero(t, withdrawn.code, withdrawn.err)
	assert.Contains(
		t, words(endeixis(t, s, "auditor", "keyring", "show", next.Fingerprint)),
		"The certification holds, and the anchor is withdrawn",
	)
	assert.Contains(t, words(admit("--publisher", "tidewright")), "0 of 2 distinct channels")
	assert.Contains(
		t, words(endeixis(t, s, "curator", "keyring", "withdraw", anchor.Fingerprint, "--reason", "twice")),
		"only an admitted key can be withdrawn",
	)
	require.Zero(
		t, endeixis(t, s, "curator", "keyring", "reconsider", anchor.Fingerprint, "--reason", "it was renewed").code,
	)
	back := endeixis(
		t, s, "curator", "keyring", "admit", anchor.Fingerprint, "--publisher", "tidewright", "--role", "anchor",
		"--reason", "renewed; the sightings stand",
	)
	require.Zero(t, back.code, back.err)
	admitted := admit("--publisher", "tidewright")
	require.Zero(t, admitted.code, admitted.err)
	assert.Contains(t, admitted.out, "admitted")

	// A release signed by it would count now; one by a withdrawn key does not.
	require.Zero(
		t,
		endeixis(
			t, s, "curator", "keyring", "withdraw", keyOf(t, "tidewright-release.asc").Fingerprint, "--reason",
			"for a test",
		).code,
	)
	r := endeixis(t, s, "operator", "batch", "run", "quayside:tidewright/gauge-fw-4.2", "--wait")
	assert.Equal(t, 11, r.code, r.err)
	assert.Contains(t, words(r), "that key was withdrawn from the keyring")
}

// TestTwoCurators: where the policy says so, one proposes and another admits.
func TestTwoCurators(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	fields := filepath.Join(t.TempDir(), "two.yaml")
	require.NoError(t, os.WriteFile(fields, []byte("two_curators: true\n"), 0o600))
	require.Zero(
		t,
		endeixis(
			t, s, "curator", "policy", "set", fields, "--publisher", "brackwater", "--reason",
			"their site was broken into once",
		).code,
	)
	key := keyOf(t, "brackwater-release.asc")
	require.Zero(
		t,
		endeixis(
			t, s, "operator", "keyring", "sight", key.Fingerprint, "--read", key.Fingerprint, "--channel", "phone",
			"--at", "their desk",
		).code,
	)
	admit := func(role roles.Role, args ...string) ran {
		return endeixis(
			t, s, role,
			append(
				[]string{
					"keyring", "admit", key.Fingerprint, "--publisher", "brackwater", "--reason",
					"site and phone agree",
				},
				args...)...)
	}
	first := admit("curator")
	require.Zero(t, first.code, first.err)
	assert.Contains(t, words(first), "tobiah proposed it on")
	assert.Contains(t, first.err, "it counts when another admits it")
	assert.Equal(
		t, 11, endeixis(t, s, "operator", "batch", "run", "quayside:brackwater/buoy-rx-1.9", "--wait").code,
		"a proposal counts for nothing",
	)
	assert.Contains(t, words(admit("curator")), "tobiah proposed it", "the same person twice is one")
	assert.Contains(t, words(admit("administrator", "--role", "anchor")), "you ask for something else")

	declined := endeixis(
		t, s, "administrator", "keyring", "decline", key.Fingerprint, "--reason", "who answered the phone?",
	)
	require.Zero(t, declined.code, declined.err)
	assert.NotContains(t, declined.out, "proposed")
	assert.Contains(
		t, words(endeixis(t, s, "administrator", "keyring", "decline", key.Fingerprint, "--reason", "again")),
		"No proposal waits",
	)
	require.Zero(t, admit("administrator").code)
	second := admit("curator")
	require.Zero(t, second.code, second.err)
	assert.Contains(t, second.out, "admitted")
	assert.Zero(t, endeixis(t, s, "operator", "batch", "run", "quayside:brackwater/buoy-rx-1.9", "--wait").code)
	record := endeixis(t, s, "auditor", "record", "list", "--kind", "admission-proposed")
	assert.Equal(t, 3, strings.Count(record.out, "admission-proposed"), "each proposal is on record")
}

// TestPublisherSet changes a publisher, and the new scope counts.
func TestPublisherSet(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	set := endeixis(t, s, "curator", "publisher", "set", "corran", "--scope", "disc-*", "--contact", "the new desk")
	require.Zero(t, set.code, set.err)
	r := endeixis(t, s, "operator", "batch", "run", "quayside:corran/chart-disc-2026-09", "--wait")
	assert.NotContains(t, r.out, "expected from corran", "the old scope is gone")
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"corran"}, "say what to change"},
		{[]string{"corran", "--contact", "the new desk"}, "is known about corran already"},
		{[]string{"corran", "--name", " "}, "needs a name"},
		{[]string{"corran", "--scope", "[a"}, "not a name pattern"},
		{[]string{"nobody", "--name", "N"}, "no publisher"},
	} {
		r := endeixis(t, s, "curator", append([]string{"publisher", "set"}, c.args...)...)
		assert.NotZero(t, r.code)
		assert.Contains(t, words(r), c.says)
	}
	assert.Equal(t, 3, endeixis(t, s, "operator", "publisher", "set", "corran", "--name", "X").code)
}

// TestKeyListIsPaged asks for pages and parts of the keyring.
func TestKeyListIsPaged(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	c := s.Client(t, "auditor")
	all, err := c.Keys(t.Context(), client.KeyFilter{})
	require.NoError(t, err)
	require.Greater(t, len(all), 8)
	for _, test := range []struct {
		filter client.KeyFilter
		want   func(i int) bool
	}{
		{client.KeyFilter{State: "candidate"}, func(i int) bool { return all[i].State == "candidate" }},
		{client.KeyFilter{Publisher: "oarlock"}, func(i int) bool { return all[i].Publisher == "oarlock" }},
		{client.KeyFilter{Text: "WEN ashby"}, func(i int) bool { return strings.Contains(strings.Join(all[i].UserIDs, " "), "Wen Ashby") }},
		{client.KeyFilter{Text: all[2].Grouped[5:24]}, func(i int) bool { return i == 2 }},
		{client.KeyFilter{Waiting: true}, func(i int) bool { return all[i].State == "candidate" || all[i].Conflict }},
	} {
		got, err := c.Keys(t.Context(), test.filter)
		require.NoError(t, err)
		var want, have []string
		for i, k := range all {
			if test.want(i) {
				want = append(want, k.Fingerprint)
			}
		}
		for _, k := range got {
			have = append(have, k.Fingerprint)
		}
		assert.NotEmpty(t, want, "%+v", test.filter)
		assert.Equal(t, want, have, "%+v", test.filter)
	}
}

// TestWaivers grants, uses and ends one, and refuses what makes no sense.
func TestWaivers(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	run := func() ran {
		return endeixis(t, s, "operator", "batch", "run", "quayside:tidewright/gauge-fw-4.1-unsigned", "--wait")
	}
	assert.Equal(t, 11, run().code)
	day := time.Now().AddDate(0, 1, 0).Format(time.DateOnly)
	add := func(role roles.Role, args ...string) ran {
		return endeixis(t, s, role, append([]string{"waiver", "add"}, args...)...)
	}
	granted := add(
		"curator", "manifest-unsigned", "--pattern", "gauge-fw-4.1-*", "--until", day, "--reason",
		"the signature was lost on their side", "--output", "json",
	)
	require.Zero(t, granted.code, granted.err)
	var w wire.Waiver
	granted.decode(t, &w)
	cleared := run()
	assert.Zero(t, cleared.code, cleared.err)
	assert.Contains(
		t, words(cleared), "The ground manifest-unsigned was waived by tobiah to the end of "+w.Until.Add(-time.Nanosecond).Format(time.DateOnly),
	)
	assert.Contains(t, words(endeixis(t, s, "auditor", "waiver", "list")), day+" in force tobiah")

	number := strconv.FormatInt(w.ID, 10)
	assert.Equal(t, 3, endeixis(t, s, "operator", "waiver", "end", number, "--reason", "x").code)
	ended := endeixis(t, s, "curator", "waiver", "end", number, "--reason", "they sent it")
	require.Zero(t, ended.code, ended.err)
	assert.Contains(t, words(ended), "ended by tobiah: they sent it")
	assert.Equal(t, 11, run().code, "an ended waiver stops working by itself")
	assert.Contains(
		t, words(endeixis(t, s, "curator", "waiver", "end", number, "--reason", "again")), "has ended before",
	)
	assert.Contains(
		t, words(endeixis(t, s, "curator", "waiver", "end", "999", "--reason", "x")), "There is no waiver 999",
	)

	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"digest-mismatch", "--publisher", "corran", "--until", day, "--reason", "r"}, "cannot be waived"},
		{[]string{"signer-candidate", "--publisher", "corran", "--until", day, "--reason", "r"}, "cannot be waived"},
		{[]string{"manifest-unsigned", "--until", day, "--reason", "r"}, "for a publisher, or for names"},
		{[]string{"manifest-unsigned", "--pattern", "*", "--until", day, "--reason", "r"}, "narrows"},
		{[]string{"manifest-unsigned", "--pattern", "[", "--until", day, "--reason", "r"}, "narrows"},
		{[]string{"manifest-unsigned", "--publisher", "nobody", "--until", day, "--reason", "r"}, "no publisher"},
		{[]string{"manifest-unsigned", "--publisher", "corran", "--until", "2020-01-01", "--reason", "r"}, "a day to come"},
		{[]string{"manifest-unsigned", "--publisher", "corran", "--until", "2099-01-01", "--reason", "r"}, "within two years"},
		{[]string{"manifest-unsigned", "--publisher", "corran", "--until", "spring", "--reason", "r"}, "not a day"},
		{[]string{"manifest-unsigned", "--publisher", "corran", "--until", day, "--reason", " "}, "needs a reason"},
	} {
		r := add("curator", c.args...)
		assert.NotZero(t, r.code, c.args)
		assert.Contains(t, words(r), c.says)
	}
	assert.Equal(
		t, 3, add("operator", "manifest-unsigned", "--publisher", "corran", "--until", day, "--reason", "r").code,
	)
}

// TestImportPreview shows what an import would do and does nothing; then the
// import says the same, from a file, a directory and standard input.
func TestImportPreview(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	dir := t.TempDir()
	require.NoError(t, scenario.WriteKeys(dir))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "readme.txt"), []byte("keys of the harbour"), 0o600))
	born := time.Date(2025, 1, 14, 9, 30, 0, 0, time.UTC)
	// A newer copy of a known key, with a revocation, another name and subkey.
	known := pgptest.NewKey("corran editions", pgptest.Ed25519Legacy, time.Date(2024, 5, 6, 8, 0, 0, 0, time.UTC))
	newer := pgptest.NewCertificate(known).
		Key(
			known,
			pgptest.Sig{
				Type: pgptest.KeyRevocation, Created: born.AddDate(1, 0, 0),
				Hashed: []pgptest.Sub{pgptest.Reason(1, "")},
			},
		).
		UserID(
			"Corran \x1b[31mred",
			pgptest.Sig{
				Created: born,
				Hashed: []pgptest.Sub{
					pgptest.Flags(pgptest.MayCertify | pgptest.MaySign), pgptest.KeyExpires(9 * 365 * 24 * time.Hour),
				},
			},
		).
		Subkey(pgptest.NewKey("a new subkey", pgptest.P256, born), pgptest.Sig{Created: born}, nil)
	file := filepath.Join(t.TempDir(), "newer.asc")
	require.NoError(t, os.WriteFile(file, newer.Armored(), 0o600))
	preview := endeixis(t, s, "auditor", "keyring", "import", "--preview", file)
	require.Zero(t, preview.code, preview.err)
	for _, says := range []string{"updated", "It is revoked by its owner, on 2026-01-14 (superseded)", "Its expiry becomes 2033-05-04; it had none", `A user ID is added: Corran \x1b[31mred`, "A subkey is added: ECDSA P-256", "Nothing was imported"} {
		assert.Contains(t, words(preview), says)
	}
	c := s.Client(t, "auditor")
	k, err := c.Key(t.Context(), known.Fingerprint())
	require.NoError(t, err)
	assert.Nil(t, k.Revoked, "a preview keeps nothing")

	whole := endeixis(t, s, "auditor", "keyring", "import", "--preview", dir)
	require.Zero(t, whole.code, whole.err)
	assert.Contains(t, whole.err, "readme.txt was passed over")
	assert.Equal(t, 3, strings.Count(whole.out, "new  "), "three of them are not in the keyring yet")
	assert.Equal(t, 3, endeixis(t, s, "auditor", "keyring", "import", dir).code, "an auditor imports nothing")
	done := endeixis(t, s, "operator", "keyring", "import", dir, file)
	require.Zero(t, done.code, done.err)
	assert.Contains(t, words(done), "It is revoked by its owner, on 2026-01-14")
	again := endeixis(t, s, "operator", "keyring", "import", dir, file)
	assert.NotContains(t, again.out, "new  ")
	assert.NotContains(t, again.out, "updated")
	record := endeixis(t, s, "auditor", "record", "list", "--kind", "key-imported", "--output", "json")
	assert.Contains(t, record.out, known.Fingerprint())

	// What does not count is told, with how much of it there is.
	stranger := pgptest.NewKey("who certified it", pgptest.Ed25519, born)
	newer.Add(pgptest.Packet(13, []byte("not his"))).Certify(
		stranger, "not his", pgptest.Sig{Type: pgptest.Certification, Created: born},
	).
		Add(pgptest.Packet(12, []byte{1})).Add(pgptest.Packet(12, []byte{1}))
	require.NoError(t, os.WriteFile(file, newer.Bytes(), 0o600))
	odd := endeixis(t, s, "auditor", "keyring", "import", "--preview", file)
	require.Zero(t, odd.code, odd.err)
	for _, says := range []string{"6 packets count: keys, names", "one packet is kept and counts for nothing: parts of the key that its owner has not signed", "one packet is kept and counts for nothing: signatures by keys that nobody", "2 packets are dropped: remarks"} {
		assert.Contains(t, words(odd), says)
	}
	assert.NotContains(t, words(preview), "What became", "where all of it counts")

	// A secret key among others stops all of it.
	secret := filepath.Join(t.TempDir(), "secret.asc")
	require.NoError(
		t,
		os.WriteFile(
			secret, append(pgptest.Simple("fresh", pgptest.Ed25519, born, "F").Bytes(), newer.Secret()...), 0o600,
		),
	)
	for _, args := range [][]string{{"--preview", secret}, {secret}} {
		r := endeixis(t, s, "operator", append([]string{"keyring", "import"}, args...)...)
		assert.Equal(t, 1, r.code)
		assert.Contains(t, words(r), "This is a secret key")
	}
	assert.NotContains(t, endeixis(t, s, "auditor", "keyring", "list").out, " F ")
}

// TestFiftyMebibytesOfCertifications on one key are read, and a part of them is kept,
// which is told.
func TestFiftyMebibytesOfCertifications(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	born := time.Date(2024, 5, 6, 8, 0, 0, 0, time.UTC)
	made := pgptest.Simple("crowded", pgptest.Ed25519, born, "Crowded")
	certification := pgptest.NewKey("busy", pgptest.RSA2048, born).
		Sign([]byte("anything"), pgptest.Sig{Type: pgptest.Certification, Created: born})
	flood := func(n int) string {
		file := filepath.Join(t.TempDir(), "crowded.pgp")
		data := made.Bytes()
		for i := range n {
			packet := bytes.Clone(certification)
			copy(packet[len(packet)-8:], strconv.Itoa(10_000_000+i)) // each is another
			data = append(data, packet...)
		}
		require.NoError(t, os.WriteFile(file, data, 0o600))
		return file
	}
	r := endeixis(t, s, "operator", "keyring", "import", flood(50<<20/len(certification)))
	require.Zero(t, r.code, r.err)
	assert.Contains(t, r.out, "new")
	assert.Contains(t, words(r), "packets are dropped: more than one key may have here")
	start := time.Now()
	r = endeixis(t, s, "auditor", "keyring", "show", made.Primary.Fingerprint())
	assert.Zero(t, r.code, r.err)
	assert.Less(t, time.Since(start), time.Minute, "it ends at all")
}

// TestLookUp asks an honest directory, one that fails, one with a look-alike and
// a publisher's own; nothing is kept before it is taken.
func TestLookUp(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	real := keyOf(t, "brackwater-release.asc")
	r := endeixis(t, s, "operator", "keyring", "lookup", "sign@brackwater.example")
	require.Zero(t, r.code, r.err)
	for _, says := range []string{
		"harbour found 2", "tired failed: it answered “503 Service Unavailable”", "lookalike found 1", "tidewright-own not asked: it answers for addresses at tidewright.example only",
		"There are 3 different keys for this address", "only the full fingerprint, read elsewhere, tells", "candidate here", "not in the keyring",
	} {
		assert.Contains(t, words(r), says)
	}
	before := endeixis(t, s, "auditor", "keyring", "list").out
	byFingerprint := endeixis(t, s, "operator", "keyring", "lookup", real.Fingerprint)
	assert.Contains(t, words(byFingerprint), "lookalike absent: it has no such key")
	assert.Equal(t, before, endeixis(t, s, "auditor", "keyring", "list").out, "a look-up keeps nothing")

	next := keyOf(t, "brackwater-release-2026.asc")
	taken := endeixis(
		t, s, "operator", "keyring", "lookup", "sign@brackwater.example", "--take", next.Fingerprint, "--publisher",
		"brackwater",
	)
	require.Zero(t, taken.code, taken.err)
	assert.Contains(t, words(taken), "is a candidate and does not count yet")
	assert.Contains(
		t, endeixis(t, s, "auditor", "keyring", "show", next.Fingerprint).out, "from key directories: harbour",
	)
	assert.Contains(
		t,
		words(
			endeixis(
				t, s, "operator", "keyring", "lookup", "sign@brackwater.example", "--take", "ab"+next.Fingerprint[2:],
			),
		),
		"No directory has the key",
	)
	assert.Contains(t, words(endeixis(t, s, "operator", "keyring", "lookup", "97965A9A")), "short forms can be forged")
	assert.Equal(t, 3, endeixis(t, s, "auditor", "keyring", "lookup", real.Fingerprint).code)
	own := endeixis(t, s, "operator", "keyring", "lookup", "release@tidewright.example")
	assert.Contains(t, words(own), "tidewright-own found")
}

// TestLookUpKnown finds the revocation that the keyring does not know yet.
func TestLookUpKnown(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	key := keyOf(t, "tidewright-release.asc")
	// The directory's copy of the key has been revoked since.
	primary := pgptest.NewKey(
		"tidewright release", pgptest.Ed25519Legacy, time.Date(2025, 1, 14, 9, 30, 0, 0, time.UTC),
	)
	require.Equal(t, key.Fingerprint, primary.Fingerprint())
	revoked := pgptest.NewCertificate(primary).Key(
		primary,
		pgptest.Sig{
			Type: pgptest.KeyRevocation, Created: time.Date(2026, 5, 1, 0, 0, 0, 0, time.UTC),
			Hashed: []pgptest.Sub{pgptest.Reason(2, "stolen")},
		},
	)
	require.Zero(t, endeixis(t, s, "operator", "batch", "run", "quayside:tidewright/gauge-fw-4.2", "--wait").code)
	quiet := endeixis(t, s, "operator", "keyring", "lookup", "--all")
	require.Zero(t, quiet.code, quiet.err)
	assert.Contains(t, words(quiet), "there was nothing new")
	assert.Contains(t, quiet.err, "The directory tired was of no use")

	require.NoError(
		t,
		os.WriteFile(
			filepath.Join(filepath.Dir(s.Depot), "directories", "harbour", "newer.pgp"), revoked.Bytes(), 0o600,
		),
	)
	r := endeixis(t, s, "operator", "keyring", "lookup", "--known", key.Fingerprint)
	require.Zero(t, r.code, r.err)
	assert.Contains(t, words(r), "It is revoked by its owner, on 2026-05-01 (compromised)")
	assert.Equal(
		t, 10, endeixis(t, s, "operator", "batch", "run", "quayside:tidewright/gauge-fw-4.2", "--wait").code,
		"it counts at once",
	)
	assert.Contains(
		t, words(endeixis(t, s, "operator", "keyring", "lookup", "--known", "ab"+key.Fingerprint[2:])),
		"There is no key",
	)
}

// TestReach shows what rests on a key before it is withdrawn, does it, and finds
// the verdicts judged again, with the old records as they were.
func TestReach(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	for _, folder := range []string{"tidewright/gauge-fw-4.2", "tidewright/gauge-fw-4.5-archive", "tidewright/gauge-fw-4.2-flipped", "corran/chart-disc-2026-09"} {
		endeixis(t, s, "operator", "batch", "run", "quayside:"+folder, "--wait")
	}
	key := keyOf(t, "tidewright-release.asc")
	before := endeixis(t, s, "auditor", "batch", "show", "1").out
	size := endeixis(t, s, "auditor", "record", "list", "--output", "json").out
	assert.Contains(
		t, words(endeixis(t, s, "auditor", "keyring", "show", key.Fingerprint)),
		"Signed here 6 artifacts in 3 batches, last on",
	)
	reach := endeixis(t, s, "auditor", "keyring", "reach", key.Fingerprint)
	require.Zero(t, reach.code, reach.err)
	assert.Contains(t, words(reach), "If it were withdrawn: 9 from ✓ cleared to ? unproven")
	assert.Contains(t, words(reach), "that key was withdrawn from the keyring")
	assert.Contains(t, reach.out, "Batch 2")
	assert.NotContains(t, reach.out, "Batch 4", "Corran's rests on another key")
	assert.Equal(t, before, endeixis(t, s, "auditor", "batch", "show", "1").out, "nothing has happened")
	assert.Equal(
		t, size, endeixis(t, s, "auditor", "record", "list", "--output", "json").out, "and nothing was recorded",
	)

	withdrawn := endeixis(t, s, "curator", "keyring", "withdraw", key.Fingerprint, "--reason", "the laptop was stolen")
	require.Zero(t, withdrawn.code, withdrawn.err)
	assert.Contains(
		t, words(withdrawn),
		"Judged again from what was measured: 9 artifacts unproven instead of cleared, in batches 1, 2, 3 (reassessment 1).",
	)
	after := endeixis(t, s, "auditor", "batch", "show", "1")
	for _, says := range []string{
		"Batch 1 ? unproven", "0 cleared, 3 unproven, 0 refused",
		"It ended cleared, with 3 cleared, 0 unproven and 0 refused. It was judged again on",
		"? unproven gauge-fw-4.2-main.img 3.0 MiB cleared when the batch ended, unproven since it was judged again on",
	} {
		assert.Contains(t, words(after), says, "both verdicts are shown")
	}
	assert.Equal(t, 11, endeixis(t, s, "operator", "batch", "follow", "1").code, "it ends with what holds now")
	listed := func(verdict string) []wire.Batch {
		var out []wire.Batch
		endeixis(t, s, "auditor", "batch", "list", "--verdict", verdict, "--output", "json").decode(t, &out)
		return out
	}
	require.Len(t, listed("unproven"), 2)
	assert.Len(t, listed("cleared"), 1, "Corran's")
	first := listed("unproven")[1]
	assert.Equal(t, judge.Cleared, *first.Verdict)
	assert.Equal(t, wire.Counts{Unproven: 3}, first.Now.Counts)
	items := endeixis(t, s, "auditor", "batch", "show", "1", "--output", "json")
	assert.Contains(t, items.out, `"verdict": "cleared"`, "what was judged first stands")
	list := endeixis(t, s, "auditor", "reassess", "list")
	assert.Contains(t, words(list), "The key was withdrawn: the laptop was stolen")
	shown := endeixis(t, s, "auditor", "reassess", "show", "1")
	assert.Equal(t, 9, strings.Count(shown.out, "✓ cleared → ? unproven"))
	records := endeixis(t, s, "auditor", "record", "list", "--kind", "item-rejudged")
	assert.Equal(t, 9, strings.Count(records.out, "item-rejudged"))

	// Judged again without a change, nothing is recorded but that; admitted
	// once more, all is cleared again.
	again := endeixis(t, s, "operator", "reassess", "--publisher", "tidewright", "--reason", "to be sure")
	require.Zero(t, again.code, again.err)
	assert.Contains(t, words(again), "and 0 verdicts changed")
	require.Zero(
		t,
		endeixis(t, s, "curator", "keyring", "reconsider", key.Fingerprint, "--reason", "it was another laptop").code,
	)
	admitted := endeixis(
		t, s, "curator", "keyring", "admit", key.Fingerprint, "--publisher", "tidewright", "--reason",
		"the sightings stand",
	)
	require.Zero(t, admitted.code, admitted.err)
	assert.Contains(t, words(admitted), "9 artifacts cleared instead of unproven, in batches 1, 2, 3", "by itself")
	back := endeixis(t, s, "operator", "reassess", "--key", key.Fingerprint, "--reason", "it counts again")
	require.Zero(t, back.code, back.err)
	assert.Contains(t, words(back), "and 0 verdicts changed")
	again = endeixis(t, s, "auditor", "batch", "show", "1")
	assert.Contains(t, words(again), "Batch 1 ✓ cleared")
	assert.Contains(t, words(again), "cleared again, as when the batch ended, since it was judged again on")
	assert.Zero(t, endeixis(t, s, "operator", "batch", "follow", "1").code)
	assert.Empty(t, listed("unproven"))
	audit := endeixis(t, s, "auditor", "record", "audit")
	assert.Zero(t, audit.code, audit.out)

	today := time.Now().UTC().Format(time.DateOnly)
	period := endeixis(
		t, s, "operator", "reassess", "--from", today, "--to", today, "--reason", "a period", "--output", "json",
	)
	var r wire.Reassessment
	period.decode(t, &r)
	assert.Greater(t, r.Judged, 15)
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"--reason", "x"}, "Say what is to be judged again"},
		{[]string{"--all"}, "say with --reason"},
		{[]string{"--all", "--reason", " "}, "needs a reason"},
		{[]string{"--batch", "99", "--reason", "x"}, "There is no batch 99"},
		{[]string{"--publisher", "nobody", "--reason", "x"}, "no publisher"},
		{[]string{"--key", "97965A9A", "--reason", "x"}, "short forms can be forged"},
		{[]string{"--from", "spring", "--reason", "x"}, "not a day"},
	} {
		r := endeixis(t, s, "operator", append([]string{"reassess"}, c.args...)...)
		assert.NotZero(t, r.code)
		assert.Contains(t, words(r), c.says)
	}
	assert.Equal(t, 3, endeixis(t, s, "auditor", "reassess", "--all", "--reason", "x").code)
	assert.Contains(t, words(endeixis(t, s, "auditor", "reassess", "show", "99")), "There is no reassessment 99")
	assert.Contains(
		t, words(endeixis(t, s, "auditor", "keyring", "reach", strings.Repeat("ab", 20))), "There is no key",
	)
}

// TestRevocationArrives shows the reach of an import before it happens, and
// judges again afterwards.
func TestRevocationArrives(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	require.Zero(t, endeixis(t, s, "operator", "batch", "run", "quayside:corran/chart-disc-2026-09", "--wait").code)
	known := pgptest.NewKey("corran editions", pgptest.Ed25519Legacy, time.Date(2024, 5, 6, 8, 0, 0, 0, time.UTC))
	revoked := pgptest.NewCertificate(known).Key(
		known,
		pgptest.Sig{
			Type: pgptest.KeyRevocation, Created: time.Now().UTC(), Hashed: []pgptest.Sub{pgptest.Reason(2, "")},
		},
	)
	file := filepath.Join(t.TempDir(), "revoked.pgp")
	require.NoError(t, os.WriteFile(file, revoked.Bytes(), 0o600))
	preview := endeixis(t, s, "curator", "keyring", "import", "--preview", file)
	require.Zero(t, preview.code, preview.err)
	assert.Contains(
		t,
		words(preview),
		"A signature by this key bears on 6 artifacts in one batch. If it were imported: 2 from ✓ cleared to ✗ refused 4 from ✓ cleared to ? unproven",
	)
	imported := endeixis(t, s, "operator", "keyring", "import", file)
	require.Zero(t, imported.code, imported.err)
	assert.Contains(t, words(imported), "2 artifacts refused instead of cleared, 4 artifacts unproven instead of cleared, in batch 1")
	shown := words(endeixis(t, s, "auditor", "batch", "show", "1"))
	assert.Contains(t, shown, "0 cleared, 4 unproven, 2 refused")
	assert.Equal(t, 2, strings.Count(shown, "cleared when the batch ended, refused since"))
	assert.Equal(t, 4, strings.Count(shown, "cleared when the batch ended, unproven since"))
	assert.Contains(
		t, words(endeixis(t, s, "auditor", "reassess", "list")), "The key is revoked: It is revoked by its owner",
	)
}

// TestAdmissionOfUnfitKeys: one that has expired, was revoked, is too weak or
// cannot sign is not admitted, whatever the sightings; and nobody does anything
// without having signed in.
func TestAdmissionOfUnfitKeys(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	born := time.Date(2022, 5, 6, 8, 0, 0, 0, time.UTC)
	self := func(subs ...pgptest.Sub) pgptest.Sig {
		return pgptest.Sig{
			Created: born, Hashed: append([]pgptest.Sub{pgptest.Flags(pgptest.MayCertify | pgptest.MaySign)}, subs...),
		}
	}
	revoked := pgptest.NewKey("unfit, revoked", pgptest.Ed25519, born)
	for says, made := range map[string]*pgptest.Certificate{
		"It expired on 2023-05-06":                   pgptest.NewCertificate(pgptest.NewKey("unfit, expired", pgptest.Ed25519, born)).UserID("E", self(pgptest.KeyExpires(365*24*time.Hour))),
		"Its owner revoked it on 2022-05-06":         pgptest.NewCertificate(revoked).Key(revoked, pgptest.Sig{Type: pgptest.KeyRevocation, Created: born}).UserID("R", self()),
		"an RSA key of 1024 bits is below the 2048":  pgptest.NewCertificate(pgptest.NewKey("unfit, short", pgptest.RSA1024, born)).UserID("S", self()),
		"No signature by this key could be verified": pgptest.NewCertificate(pgptest.NewKey("unfit, Elgamal", pgptest.Elgamal, born)),
		"It has no self-signature that holds":        pgptest.NewCertificate(pgptest.NewKey("unfit, bare", pgptest.Ed25519, born)),
	} {
		fp := made.Primary.Fingerprint()
		_, err := s.Client(t, "operator").ImportKeys(t.Context(), made.Bytes(), "a test", "corran")
		require.NoError(t, err, says)
		for _, channel := range []string{"letter", "phone"} {
			_, err := s.Client(t, "operator").
				SightKey(
					t.Context(), fp,
					wire.NewSighting{Read: fp, Channel: keyring.Channel(channel), Place: "a test", Note: ""},
				)
			require.NoError(t, err)
		}
		r := endeixis(
			t, s, "curator", "keyring", "admit", fp, "--publisher", "corran", "--reason", "two channels agree",
		)
		assert.Equal(t, 1, r.code, says)
		assert.Contains(t, words(r), says)
		assert.Contains(t, endeixis(t, s, "auditor", "keyring", "show", fp).out, "candidate")
	}

	key := keyOf(t, "brackwater-release.asc").Fingerprint
	nobody, err := client.New(s.URL, "")
	require.NoError(t, err)
	_, err = nobody.SightKey(
		t.Context(), key, wire.NewSighting{Read: key, Channel: "phone", Place: "somewhere", Note: ""},
	)
	assert.ErrorContains(t, err, "Sign in first")
	_, err = nobody.WithdrawKey(t.Context(), key, "because")
	assert.ErrorContains(t, err, "Sign in first")
	// Spacing of any kind is accepted; letters that look alike are told.
	broken := key[:10] + "\n \t" + strings.ToUpper(key[10:30]) + "\u00a0" + key[30:]
	_, err = s.Client(t, "operator").
		SightKey(t.Context(), key, wire.NewSighting{Read: broken, Channel: "phone", Place: "their desk", Note: ""})
	assert.NoError(t, err)
	_, err = s.Client(t, "operator").
		SightKey(
			t.Context(), key, wire.NewSighting{Read: "О" + key[1:], Channel: "phone", Place: "their desk", Note: ""},
		)
	assert.ErrorContains(t, err, "looks like another character")
}
