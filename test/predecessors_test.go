package test

import (
	"crypto/sha256"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/judge"
	"endeixis/core/openpgp/pgptest"
	"endeixis/internal/testkit"
)

// TestUnlikeBefore: what is weaker, older or otherwise than what was cleared before is told with the record
// of that, in every output; it decides where the policy of its publisher says so, and no longer when it does
// not; and what no longer stands is held against nothing.
func TestUnlikeBefore(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	key := keyAdmitted(t, s, "sextant")
	release := func(version, content string) map[string][]byte {
		return map[string][]byte{
			"sextant-" + version + ".img": []byte(content), "sextant-" + version + "-notes.txt": []byte("notes on " + version),
		}
	}
	run := func(folder string, files map[string][]byte, more ...string) fullJSON {
		s.Write(t, folder, files)
		return verified(t, s, "quayside:"+folder, more...)
	}
	codes := func(b fullJSON, path string) []string {
		var out []string
		for _, item := range b.Items {
			if item.Path != path {
				continue
			}
			for _, g := range item.Grounds {
				out = append(out, string(g.Code))
			}
		}
		return out
	}
	shown := func(b fullJSON, item string) string {
		r := endeixis(t, s, "operator", "batch", "show", fmt.Sprint(b.ID), "--item", item)
		require.Contains(t, []int{0, 10, 11}, r.code, r.err)
		return strings.Join(strings.Fields(r.out), " ")
	}
	one := run("one", signed(key, 1, release("1.0", "one")))
	two := run("two", signed(key, 2, release("2.0", "two")))
	for _, b := range []fullJSON{one, two} {
		require.Equal(t, "cleared", *b.Verdict)
		for _, item := range b.Items {
			for _, g := range item.Grounds {
				assert.NotContains(t, judge.UnlikeBefore(), g.Code, item.Path)
			}
		}
	}

	// A list without a signature, for the first time.
	three := release("3.0", "three")
	signed(key, 3, three)
	delete(three, "SHA256SUMS.sig")
	unsigned := run("three", three, "--publisher", "corran")
	assert.Equal(t, "unproven", *unsigned.Verdict)
	assert.Contains(t, codes(unsigned, "sextant-3.0.img"), "weaker-than-before")
	assert.Contains(
		t, shown(unsigned, "sextant-3.0.img"),
		"It is not signed, and each of the 2 that were cleared before was: the last was “sextant-2.0.img”, cleared in batch",
	)
	r := endeixis(t, s, "operator", "batch", "run", "quayside:three", "--publisher", "corran", "--wait")
	assert.Contains(t, r.out, "It is not signed", "and whoever runs it sees it at once")

	// An older release under a newer name: the signature is over the bytes, and not over the name.
	old := map[string][]byte{
		"sextant-4.0.img":     []byte("from long ago"),
		"sextant-4.0.img.sig": key.Sign([]byte("from long ago"), pgptest.Sig{Created: keysBorn.AddDate(0, 0, 3)}),
	}
	back := run("four", old)
	assert.Equal(t, "cleared", *back.Verdict, "it only notes")
	assert.Contains(t, codes(back, "sextant-4.0.img"), "older-than-cleared")
	told := shown(back, "sextant-4.0.img")
	assert.Contains(t, told, "This may be a step back to an older release.")
	assert.Contains(
		t, told, "Nothing like “SHA256SUMS”, “sextant-2.0-notes.txt” came with it, as it did each of the 2 times before",
	)
	r = endeixis(t, s, "operator", "batch", "run", "quayside:four", "--wait")
	assert.Contains(t, r.out, "a step back")
	r = endeixis(t, s, "auditor", "record", "list", "--ground", "older-than-cleared")
	assert.Contains(t, r.out, "sextant-4.0.img")

	// The same name with other bytes.
	two2 := run("two-again", signed(key, 4, release("2.0", "not the same")))
	assert.Contains(t, codes(two2, "sextant-2.0.img"), "name-reused")
	assert.Equal(t, "cleared", *two2.Verdict)

	// What was cleared is a library, by publisher and name, and by its bytes.
	r = endeixis(t, s, "auditor", "reference", "list", "--publisher", "corran", "--name", "sextant-2.0.img")
	assert.Equal(t, 2, strings.Count(r.out, "sextant-2.0.img"), r.out)
	assert.Regexp(t, `sextant-2\.0\.img +2\.0 +corran .* cleared`, r.out)
	assert.NotContains(t, r.out, "notes")
	r = endeixis(t, s, "auditor", "reference", "list", "--publisher", "tidewright")
	assert.Contains(t, r.out, "No file fits.")
	sum := fmt.Sprintf("%x", sha256.Sum256([]byte("two")))
	r = endeixis(t, s, "auditor", "reference", "find", sum)
	assert.Zero(t, r.code, r.err)
	assert.Contains(t, r.out, "sextant-2.0.img")
	assert.NotContains(t, r.out, "Judged again")

	// Where the publisher's policy says that it withholds, it does; and no longer when it does not.
	set := func(text string) {
		r := endeixis(
			t, s, "curator", "policy", "set", write(t, text), "--publisher", "corran", "--reason", "they never step back",
		)
		require.Zero(t, r.code, r.out+r.err)
	}
	now := func(b fullJSON) string {
		r := endeixis(t, s, "operator", "batch", "follow", fmt.Sprint(b.ID))
		return map[int]string{0: "cleared", 10: "refused", 11: "unproven"}[r.code]
	}
	set("weaker_than_before: withholds")
	r = endeixis(t, s, "curator", "policy", "show", "--publisher", "corran")
	assert.Regexp(t, `weaker_than_before +withholds`, r.out)
	assert.Equal(t, "unproven", now(back))
	assert.Equal(t, "unproven", now(two2))
	assert.Equal(t, "cleared", now(one), "what came later is held against nothing")
	assert.Equal(t, "cleared", now(two))
	set("weaker_than_before: notes")
	r = endeixis(t, s, "curator", "policy", "show", "--publisher", "corran", "--output", "json")
	assert.Contains(t, r.out, `"weaker_than_before": "notes"`)
	assert.Equal(t, "cleared", now(back))
	set("{}")

	// What is withdrawn stands for nothing any more.
	fp := key.Fingerprint()
	r = endeixis(t, s, "curator", "keyring", "withdraw", fp, "--reason", "the key was lost")
	require.Zero(t, r.code, r.out+r.err)
	require.Eventually(t, func() bool { return now(two) == "unproven" }, time.Minute, 100*time.Millisecond)
	r = endeixis(t, s, "auditor", "reference", "find", sum)
	assert.Contains(t, r.out, "Judged again since, it is unproven now.")
	renamed := run("five", map[string][]byte{"other.img": []byte("two")})
	assert.NotContains(t, shown(renamed, "other.img"), "These bytes are known", "what is withdrawn is known no more")
	again := run("three", three, "--publisher", "corran")
	assert.NotContains(t, codes(again, "sextant-3.0.img"), "weaker-than-before")

	audit := endeixis(t, s, "auditor", "record", "audit")
	assert.Zero(t, audit.code, audit.out+audit.err)
}

// TestWhatIsClearedLaterIsKnown: a file that waited for a key is a reference from when that is admitted.
func TestWhatIsClearedLaterIsKnown(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	waits := verified(t, s, "quayside:brackwater/buoy-rx-1.9")
	require.Equal(t, "unproven", *waits.Verdict)
	file := waits.Items[0]
	find := func() ran { return endeixis(t, s, "auditor", "reference", "find", file.Digests["SHA-256"]) }
	assert.Equal(t, 11, find().code, "nothing was cleared")
	fp := keyOf(t, "brackwater-release.asc").Fingerprint
	for _, channel := range []string{"letter", "phone"} {
		r := endeixis(
			t, s, "curator", "keyring", "sight", fp, "--read", fp, "--channel", channel, "--at", "a "+channel,
		)
		require.Zero(t, r.code, r.out+r.err)
	}
	r := endeixis(
		t, s, "curator", "keyring", "admit", fp, "--typed", fp, "--publisher", "brackwater", "--reason", "both agree",
	)
	require.Zero(t, r.code, r.out+r.err)
	require.Eventually(t, func() bool { return find().code == 0 }, time.Minute, 100*time.Millisecond)
	assert.Contains(t, find().out, "buoy-rx-1.9-north.bin")
	r = endeixis(t, s, "auditor", "reference", "list", "--publisher", "brackwater")
	assert.Contains(t, r.out, "buoy-rx-1.9-south.bin")
	audit := endeixis(t, s, "auditor", "record", "audit")
	assert.Zero(t, audit.code, audit.out+audit.err)
}

// TestKnownAgain: where the policy says so, bytes that a signature of the expected publisher has cleared clear
// a file that comes alone; and no longer when that signature does not count any more.
func TestKnownAgain(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	key := keyAdmitted(t, s, "sextant")
	run := func(folder string, files map[string][]byte, more ...string) fullJSON {
		s.Write(t, folder, files)
		return verified(t, s, "quayside:"+folder, more...)
	}
	now := func(b fullJSON) string {
		r := endeixis(t, s, "operator", "batch", "follow", fmt.Sprint(b.ID))
		return map[int]string{0: "cleared", 10: "refused", 11: "unproven"}[r.code]
	}
	set := func(text string) {
		r := endeixis(
			t, s, "curator", "policy", "set", write(t, text), "--publisher", "corran", "--reason", "a mirror sends them alone",
		)
		require.Zero(t, r.code, r.out+r.err)
	}
	early := run("early", map[string][]byte{"disk.bin": []byte("three")}, "--publisher", "corran")
	first := run("first", signed(key, 1, map[string][]byte{
		"sextant-1.0.img": []byte("one"), "sextant-2.0.img": []byte("two"), "sextant-3.0.img": []byte("three"),
	}))
	require.Equal(t, "cleared", *first.Verdict)
	alone := map[string][]byte{"disk.bin": []byte("one"), "data.bin": []byte("two")}
	before := run("before", alone, "--publisher", "corran")
	nobodys := run("nobodys", alone)
	theirs := run("theirs", alone, "--publisher", "tidewright")
	for _, b := range []fullJSON{before, nobodys, theirs} {
		assert.Equal(t, "unproven", *b.Verdict)
	}

	set("reference_clears: true")
	r := endeixis(t, s, "curator", "policy", "show", "--publisher", "corran")
	assert.Regexp(t, `reference_clears +(true|yes)`, r.out)
	// What waited for it is judged again by itself, and no byte is read.
	require.Eventually(t, func() bool { return now(before) == "cleared" }, time.Minute, 100*time.Millisecond)
	assert.Equal(t, "unproven", now(nobodys), "nobody has said whose they are")
	assert.Equal(t, "unproven", now(theirs), "another's")
	assert.Equal(t, "unproven", now(early), "it came before")
	after := run("after", map[string][]byte{"disk.bin": []byte("one"), "mixed.bin": []byte("neither")}, "--publisher", "corran")
	r = endeixis(t, s, "operator", "batch", "show", fmt.Sprint(after.ID), "--item", "disk.bin")
	assert.Equal(t, 11, r.code, "the other file of it")
	said := strings.Join(strings.Fields(r.out), " ")
	assert.Contains(t, said, "Proof by known reference: complete")
	assert.Contains(t, said, "These are the bytes of sextant-1.0.img of batch "+fmt.Sprint(first.ID))
	r = endeixis(t, s, "operator", "batch", "show", fmt.Sprint(after.ID), "--item", "mixed.bin")
	assert.Equal(t, 11, r.code, r.out)
	r = endeixis(t, s, "auditor", "record", "list", "--ground", "known-reference")
	assert.Contains(t, r.out, "disk.bin")
	// It is no reference itself: only what has evidence of its own is.
	r = endeixis(t, s, "auditor", "reference", "find", fmt.Sprintf("%x", sha256.Sum256([]byte("one"))))
	assert.Contains(t, r.out, "sextant-1.0.img")
	assert.NotContains(t, r.out, "disk.bin")

	// A key that counts no longer takes what rests on it along, wherever that lies.
	fp := key.Fingerprint()
	r = endeixis(t, s, "curator", "keyring", "withdraw", fp, "--reason", "the key was lost")
	require.Zero(t, r.code, r.out+r.err)
	require.Eventually(t, func() bool { return now(before) == "unproven" }, time.Minute, 100*time.Millisecond)
	r = endeixis(t, s, "operator", "batch", "show", fmt.Sprint(after.ID), "--item", "disk.bin")
	assert.Equal(t, 11, r.code, r.out)
	last := run("last", map[string][]byte{"disk.bin": []byte("one")}, "--publisher", "corran")
	assert.Equal(t, "unproven", *last.Verdict)

	audit := endeixis(t, s, "auditor", "record", "audit")
	assert.Zero(t, audit.code, audit.out+audit.err)
}

// TestARowOfTheLibraryClearsNothing: what a row says of a file is looked up in its record and judged again.
func TestARowOfTheLibraryClearsNothing(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	keyAdmitted(t, s, "sextant")
	r := endeixis(
		t, s, "curator", "policy", "set", write(t, "reference_clears: true"), "--publisher", "corran", "--reason", "a mirror",
	)
	require.Zero(t, r.code, r.out+r.err)
	s.Write(t, "unsigned", map[string][]byte{"sextant-1.0.img": []byte("one")})
	unsigned := verified(t, s, "quayside:unsigned")
	require.Equal(t, "unproven", *unsigned.Verdict)
	sql, err := pgx.Connect(t.Context(), s.Config.Database.URL)
	require.NoError(t, err)
	defer sql.Close(t.Context())
	_, err = sql.Exec(t.Context(), `INSERT INTO library (position, batch_id, n, publisher, name, stem, release, signed_at, signers, algorithms)
		SELECT position, batch_id, n, 'corran', 'sextant-1.0.img', 'sextant', '1.0', now(), '["00"]', '[]' FROM outcomes`)
	require.NoError(t, err)
	s.Write(t, "alone", map[string][]byte{"disk.bin": []byte("one")})
	alone := verified(t, s, "quayside:alone", "--publisher", "corran")
	assert.Equal(t, "unproven", *alone.Verdict)
}

// TestWhatVouchesCameLater: a file that waited is cleared by itself when a list of its folder comes later, by the same
// bytes alone; and no longer when that counts no more.
func TestWhatVouchesCameLater(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	key := keyAdmitted(t, s, "sextant")
	now := func(b fullJSON) string {
		r := endeixis(t, s, "operator", "batch", "follow", fmt.Sprint(b.ID))
		return map[int]string{0: "cleared", 10: "refused", 11: "unproven"}[r.code]
	}
	files := map[string][]byte{"sextant-1.0.img": []byte("one"), "sextant-1.0.doc": []byte("words")}
	s.Write(t, "late", files)
	s.Write(t, "elsewhere", files)
	waits, elsewhere := verified(t, s, "quayside:late"), verified(t, s, "quayside:elsewhere")
	theirs := verified(t, s, "quayside:late", "--publisher", "tidewright")
	s.Write(t, "late", map[string][]byte{"sextant-1.0.img": []byte("damaged")})
	damaged := verified(t, s, "quayside:late")
	for _, b := range []fullJSON{waits, elsewhere, theirs, damaged} {
		require.Equal(t, "unproven", *b.Verdict)
	}
	s.Write(t, "late", signed(key, 1, files))
	whole := verified(t, s, "quayside:late")
	require.Equal(t, "cleared", *whole.Verdict)

	require.Eventually(t, func() bool { return now(waits) == "cleared" }, time.Minute, 100*time.Millisecond)
	require.Eventually(t, func() bool {
		r := endeixis(t, s, "operator", "batch", "show", fmt.Sprint(damaged.ID))
		return strings.Contains(r.out, "1 cleared, 1 unproven")
	}, time.Minute, 100*time.Millisecond, "one file of it is as it was, and the other had other bytes")
	assert.Equal(t, "unproven", now(elsewhere), "another place")
	assert.Equal(t, "unproven", now(theirs), "it was expected from somebody else")
	r := endeixis(t, s, "operator", "batch", "show", fmt.Sprint(waits.ID), "--item", "sextant-1.0.img")
	said := strings.Join(strings.Fields(r.out), " ")
	assert.Contains(t, said, "What vouches for it came later: in batch "+fmt.Sprint(whole.ID))
	r = endeixis(t, s, "auditor", "reference", "list", "--name", "sextant-1.0.img")
	assert.Equal(t, 1, strings.Count(r.out, "sextant-1.0.img"), r.out)

	r = endeixis(t, s, "curator", "keyring", "withdraw", key.Fingerprint(), "--reason", "the key was lost")
	require.Zero(t, r.code, r.err)
	require.Eventually(t, func() bool { return now(waits) == "unproven" }, time.Minute, 100*time.Millisecond)
	audit := endeixis(t, s, "auditor", "record", "audit")
	assert.Zero(t, audit.code, audit.out+audit.err)
}
