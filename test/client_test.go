package test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/judge"
	"endeixis/demo/scenario"
	"endeixis/internal/roles"
	"endeixis/internal/testkit"
)

// batchJSON is what the client promises in JSON.
type batchJSON struct {
	ID      int64   `json:"id"`
	State   string  `json:"state"`
	Verdict *string `json:"verdict"`
	Counts  struct {
		Cleared, Unproven, Refused, Absent int
	} `json:"counts"`
	Items []struct {
		Path     string            `json:"path"`
		Role     string            `json:"role"`
		Size     int64             `json:"size"`
		Verdict  *string           `json:"verdict"`
		Compared judge.Comparison  `json:"compared"`
		Grounds  []judge.Ground    `json:"grounds"`
		Paths    []judge.ProofPath `json:"paths"`
		Record   *int64            `json:"record"`
	} `json:"items"`
	Absent []struct{ Name, Manifest string } `json:"absent"`
}

func (b batchJSON) codes(path string) []string {
	var out []string
	for _, item := range b.Items {
		if item.Path == path {
			for _, g := range item.Grounds {
				out = append(out, string(g.Code))
			}
		}
	}
	return out
}

// TestFolders runs every folder of the demo depot and expects of each what a
// person would.
func TestFolders(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	// The inner group ends when all of its parallel parts have.
	t.Run("all", func(t *testing.T) { runFolders(t, s) })
	audit := endeixis(t, s, "auditor", "record", "audit")
	assert.Zero(t, audit.code, audit.out+audit.err)
}

func runFolders(t *testing.T, s *testkit.Service) {
	for _, c := range []struct {
		folder                             string
		code                               int
		cleared, unproven, refused, absent int
		item                               string
		has                                string
		says                               string
	}{
		{"tidewright/gauge-fw-4.2", 0, 3, 0, 0, 0, "gauge-fw-4.2-main.img", "signature-valid", ""},
		{"tidewright/gauge-fw-4.2-flipped", 10, 2, 0, 1, 0, "gauge-fw-4.2-main.img", "digest-mismatch", "Download it again"},
		{"tidewright/gauge-fw-4.2-truncated", 10, 2, 0, 1, 0, "gauge-fw-4.2-main.img", "digest-mismatch", ""},
		{"tidewright/gauge-fw-4.3-unlisted", 11, 3, 1, 0, 0, "gauge-fw-4.3-extra.img", "not-listed", ""},
		{"tidewright/gauge-fw-4.3-partial", 0, 2, 0, 0, 1, "", "", "no failure by itself"},
		{"tidewright/gauge-fw-4.3-outward", 0, 3, 0, 0, 0, "SHA256SUMS", "manifest-unreadable", "leads out of the folder"},
		{"tidewright/gauge-fw-4.4-rewritten", 10, 0, 0, 3, 0, "gauge-fw-4.4-boot.img", "signature-invalid", ""},
		{"tidewright/gauge-fw-4.1-unsigned", 11, 0, 3, 0, 0, "gauge-fw-4.1-boot.img", "manifest-unsigned", ""},
		{"tidewright/gauge-fw-4.2-swapped", 10, 1, 0, 2, 0, "gauge-fw-4.2-main.img", "digest-mismatch", "These bytes are those of “gauge-fw-4.2-boot.img”, as SHA256SUMS states in line 1"},
		{"tidewright/gauge-fw-4.2-error-page", 10, 2, 0, 1, 0, "gauge-fw-4.2-main.img", "digest-mismatch", "The content is an HTML page"},
		{"tidewright/gauge-fw-4.2-hole", 10, 2, 0, 1, 0, "gauge-fw-4.2-main.img", "digest-mismatch", "The last 1048576 bytes are all zero"},
		{"tidewright/gauge-fw-4.2-converted", 10, 2, 0, 1, 0, "gauge-fw-4.2-notes.txt", "digest-mismatch", "CR LF line endings are turned into LF"},
		{"corran/chart-2026-10", 11, 0, 1, 0, 0, "chart-2026-10.img", "manifest-unsigned", ""},
		{"corran/chart-2026-10-damaged", 10, 0, 0, 1, 0, "chart-2026-10.img", "digest-mismatch", "The damage lies in 2 parts, 524288 bytes of 4194304 together; the first begins at byte 524288"},
		{"corran/chart-2026-10-padded", 10, 0, 0, 1, 0, "chart-2026-10.img", "size-mismatch", "307200 bytes more follow, all of them zero"},
		{"corran/chart-2026-10-short", 10, 0, 0, 1, 0, "chart-2026-10.img", "size-mismatch", "3000000 of 4194304 bytes are here"},
		{"lanternfell/lamp-ctl-3.1", 11, 0, 2, 0, 0, "lamp-ctl-3.1-head.bin", "weak-digest-only", ""},
		{"lanternfell/lamp-ctl-3.2", 10, 0, 0, 2, 0, "lamp-ctl-3.2-head.bin", "digest-mismatch", "CRC-32/BZIP2 digest of exactly these bytes, not CRC-32"},
		{"lanternfell/lamp-ctl-3.3-names", 11, 0, 7, 0, 0, "two\nlines.bin", "digest-match", `two\nlines.bin`},
		{"tidewright/gauge-fw-4.3-renamed", 11, 2, 1, 0, 1, "gauge-main-new.img", "not-listed", "These bytes are those of “gauge-fw-4.3-main.img”, as SHA256SUMS states in line 2"},
		{"brackwater/buoy-rx-2.1", 11, 0, 1, 0, 0, "buoy-rx-2.1.tar.gz", "signer-candidate", "The signature buoy-rx-2.1.tar.sig holds"},
		{"lanternfell/lamp-ctl-3.4-archive", 11, 0, 3, 0, 0, "lamp-ctl-3.4.zip//fw/lamp-ctl-3.4-head.img", "weak-digest-only", "speaks of 2 files inside it"},
		{"lanternfell/lamp-ctl-3.4-damaged", 10, 0, 2, 1, 0, "lamp-ctl-3.4.zip//fw/lamp-ctl-3.4-drive.img", "digest-mismatch", "nothing that usually goes wrong explains it"},
		{"lanternfell/lamp-ctl-3.5-archive", 10, 0, 0, 1, 0, "lamp-ctl-3.5.zip", "digest-mismatch", "the MD5 digest of “fw/lamp-ctl-3.5-head.img” inside this file"},
		{"tidewright/gauge-fw-4.5-archive", 0, 4, 0, 0, 0, "gauge-fw-4.5.zip//gauge-fw-4.5-boot.img", "within-cleared", "It is a part of gauge-fw-4.5.zip, which is cleared"},
		{"corran/chart-disc-2026-10", 0, 6, 0, 0, 0, "chart-disc-2026-10.iso", "signature-valid", ""},
		{"corran/chart-disc-2026-10-retold", 10, 1, 4, 1, 0, "chart-disc-2026-10.iso", "digest-mismatch", "The SHA-256 digest that SHA256SUMS states in line 1 does match"},
		{"brackwater/buoy-rx-2.2-unclear", 11, 0, 2, 0, 0, "buoy-rx-2.2-west.bin", "signer-candidate", "the signature itself decides that it is over this one"},
		{"oarlock/logger-2.4-signed", 0, 2, 0, 0, 4, "oarlock-logger-2.4-armv7.img", "signature-valid", "Wen Ashby (Oarlock) <wen@oarlock.example>"},
		{"oarlock/logger-2.4-unknown", 11, 0, 2, 0, 4, "oarlock-logger-2.4-armv7.img", "signer-unknown", "Get the publisher's key"},
		{"oarlock/logger-2.4-edited", 10, 0, 0, 2, 4, "oarlock-logger-2.4-armv7.img", "signature-invalid", "does not hold over these bytes"},
		{"oarlock/logger-2.4-framed", 0, 2, 0, 0, 4, "oarlock-logger-2.4-announcement.txt", "manifest-unreadable", "Ode Marsh"},
		{"oarlock/logger-2.4", 11, 0, 3, 0, 3, "oarlock-logger-2.4-arm64.img", "manifest-unsigned", "not in the folder, which is no failure by itself"},
		{"brackwater/buoy-rx-1.9", 11, 0, 2, 0, 0, "buoy-rx-1.9-north.bin", "signer-candidate", "have a curator admit it"},
		{"brackwater/buoy-rx-1.9-no-signature", 11, 0, 1, 0, 0, "buoy-rx-1.9-south.bin", "signature-malformed", "the file is empty"},
		{"brackwater/buoy-rx-1.8-wrong-signer", 10, 0, 0, 1, 0, "buoy-rx-1.8-north.bin", "wrong-publisher", ""},
		{"brackwater/buoy-rx-2.0-new-signer", 11, 0, 2, 0, 0, "buoy-rx-2.0-north.bin", "signer-unknown", "Get the publisher's key"},
		{"corran/chart-proof-14", 11, 0, 1, 0, 0, "chart-proof-14.img", "signer-withdrawn", "Ask a curator why"},
		{"lanternfell/lamp-ctl-3.6", 0, 2, 0, 0, 0, "lamp-ctl-3.6-head.bin", "waived", "The ground weak-digest-only was waived by tobiah to the end of"},
		{"tidewright/gauge-fw-4.6-weak-hash", 11, 0, 2, 0, 0, "SHA256SUMS", "signature-hash-short", "SHA-1 is too short for a key of the kind Ed25519"},
		{"tidewright/gauge-fw-4.6-future", 11, 0, 2, 0, 0, "SHA256SUMS", "signature-in-future", "which has not come yet"},
		{"tidewright/gauge-fw-4.6-lapsed", 11, 0, 2, 0, 0, "SHA256SUMS", "signature-expired", "valid until 2026-04-02 only"},
		{"tidewright/gauge-fw-4.6-timestamp", 11, 0, 2, 0, 0, "SHA256SUMS", "signature-unacceptable", "it is a timestamp signature, which says nothing about a document"},
		{"tidewright/gauge-fw-4.6-critical", 11, 0, 2, 0, 0, "SHA256SUMS", "signature-unacceptable", "subpacket type 99 marked critical"},
		{"tidewright/gauge-fw-4.6-text", 0, 2, 0, 0, 0, "SHA256SUMS", "signature-valid", ""},
		{"tidewright/gauge-fw-4.6-text-image", 11, 0, 1, 0, 0, "gauge-fw-4.6-probe.img", "signature-unacceptable", "this file is no text"},
		{"tidewright/gauge-fw-4.6-version-5", 11, 0, 2, 0, 0, "SHA256SUMS", "signature-unsupported", "signature version 5 is not supported"},
		{"tidewright/gauge-fw-4.6-cut", 11, 0, 2, 0, 0, "SHA256SUMS", "signature-malformed", "claims"},
		{"tidewright/gauge-fw-4.6-several", 0, 2, 0, 0, 0, "SHA256SUMS", "signer-unknown", ""},
		{"tidewright/gauge-fw-4.6-message", 11, 0, 2, 0, 2, "SHA256SUMS", "manifest-unsigned", "No signature vouches for SHA256SUMS"},
		{"tidewright/gauge-fw-3.9-retired", 0, 2, 0, 0, 0, "SHA256SUMS", "signature-valid", ""},
		{"tidewright/gauge-fw-4.0-after-retirement", 10, 0, 0, 2, 0, "SHA256SUMS", "signer-revoked", "the key was revoked on 2025-02-03 (retired)"},
		{"tidewright/gauge-fw-3.2-compromised", 10, 0, 0, 2, 0, "SHA256SUMS", "signer-revoked", "the key was revoked on 2023-06-21 (compromised)"},
		{"brackwater/buoy-rx-1.7-expired-since", 11, 0, 1, 0, 0, "buoy-rx-1.7-north.bin", "signer-expired", "that key has expired since, on 2026-06-13"},
		{"brackwater/buoy-rx-2.3-expired-before", 11, 0, 1, 0, 0, "buoy-rx-2.3-north.bin", "signer-expired", "the key had expired on 2026-06-13, before the signature was made"},
		{"incoming/two-publishers", 10, 3, 0, 1, 0, "buoy-rx-2.4-north.bin", "wrong-publisher", "that key counts for tidewright, and these files are expected from brackwater"},
		{"tidewright/gauge-fw-4.6-surplus", 11, 0, 1, 0, 0, "gauge-fw-4.6-manual.txt.gz", "surplus-bytes", "a comment of 29 bytes in its header"},
		{"oarlock/logger-2.5-anybody", 11, 0, 1, 0, 0, "oarlock-logger-2.5-arm64.img", "signature-unsupported", "its point has a small order"},
		{"brackwater/buoy-rx-1.2-superseded", 0, 1, 0, 0, 0, "buoy-rx-1.2-north.bin", "signature-valid", ""},
		{"brackwater/buoy-rx-2.4-superseded", 10, 0, 0, 1, 0, "buoy-rx-2.4-north.bin", "signer-revoked", "the key was revoked on 2024-05-06 (superseded)"},
		{"brackwater/buoy-rx-2.3-unbound", 11, 0, 1, 0, 0, "buoy-rx-2.3-north.bin", "signer-unfit", "lacks a valid signature back to the primary key"},
	} {
		t.Run(c.folder, func(t *testing.T) {
			t.Parallel()
			r := endeixis(t, s, "operator", "batch", "run", scenario.Depot+":"+c.folder, "--wait", "--output", "json")
			require.Equal(t, c.code, r.code, r.err)
			var b batchJSON
			r.decode(t, &b)
			assert.EqualValues(t, "done", b.State)
			assert.Equal(
				t, []int{c.cleared, c.unproven, c.refused, c.absent},
				[]int{b.Counts.Cleared, b.Counts.Unproven, b.Counts.Refused, b.Counts.Absent},
			)
			if c.has != "" {
				assert.Contains(t, b.codes(c.item), c.has)
			}
			for _, item := range b.Items {
				assert.NotNil(t, item.Record, "every item has its record")
				assert.Equal(
					t, item.Role == "artifact", item.Verdict != nil, "artifacts have verdicts, the others have not",
				)
			}
			shown := endeixis(t, s, "auditor", "batch", "show", strconv.FormatInt(b.ID, 10))
			assert.Equal(t, c.code, shown.code, "the verdict tells the code")
			assert.Contains(t, strings.Join(strings.Fields(shown.out), " "), c.says)
		})
	}
}

// TestCopiesOfAManifest holds the list of a project that does not sign against
// copies of it: the mirrors of the stand-in world, one of them altered, and a
// printed one.
func TestCopiesOfAManifest(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	const list = "oarlock-logger-2.4-digests.txt"
	run := func(folder string, args ...string) (ran, string) {
		r := endeixis(
			t,
			s,
			"operator",
			append([]string{"batch", "run", "quayside:oarlock/" + folder, "--wait"}, args...)...)
		return r, strings.Join(strings.Fields(r.out), " ")
	}
	north, south := list+"=oarlock-north:2.4/"+list, list+"=oarlock-south:2.4/"+list
	r, said := run("logger-2.4", "--copy", north)
	assert.Equal(t, 11, r.code, r.err)
	assert.Contains(t, said, "It is the same, byte for byte, with 6 entries.")
	r, said = run("logger-2.4", "--copy", south)
	assert.Equal(t, 10, r.code, r.err)
	assert.Contains(t, said, "states another SHA-256 digest for this file")
	assert.Contains(t, said, "It agrees in 5 entries, and differs in 1. • changed: oarlock-logger-2.4-armv6.img")
	r, _ = run("logger-2.4-altered", "--copy", north)
	assert.Equal(t, 10, r.code, "an altered image with an altered list: "+r.err)
	r, said = run("logger-2.4", "--copy", list+"=oarlock-page:2.4/"+list)
	assert.Equal(t, 11, r.code, r.err)
	assert.Contains(t, said, "It could not be compared: it answered with a page, not with a file.")

	// The curator lets two channels clear, and the operator has two.
	shown := endeixis(t, s, "curator", "policy", "show", "--output", "json")
	require.Zero(t, shown.code, shown.err)
	dir := t.TempDir()
	file := filepath.Join(dir, "policy.json")
	require.NoError(
		t,
		os.WriteFile(
			file, []byte(strings.Replace(shown.out, `"corroboration_channels": 0`, `"corroboration_channels": 2`, 1)),
			0o600,
		),
	)
	denied := endeixis(t, s, "operator", "policy", "set", file, "--reason", "why not")
	assert.Equal(t, 3, denied.code, denied.err)
	set := endeixis(t, s, "curator", "policy", "set", file, "--reason", "Oarlock does not sign its lists")
	require.Zero(t, set.code, set.err)
	r, _ = run("logger-2.4", "--copy", north)
	assert.Equal(t, 11, r.code, "one channel is not two: "+r.err)
	r, said = run("logger-2.4", "--copy", north, "--origin", list+"=vendor-site:oarlock.example/releases")
	assert.Zero(t, r.code, r.err+r.out)
	assert.Contains(t, said, "was seen on 2 channels: vendor site (oarlock.example/releases), mirror (")
	printed := filepath.Join(s.Depot, "oarlock", "logger-2.4", list)
	r, _ = run("logger-2.4", "--copy", north, "--copy-file", list+"=paper:"+printed)
	assert.Zero(t, r.code, r.err+r.out)
	corran := filepath.Join(dir, "corran.yaml")
	require.NoError(t, os.WriteFile(corran, []byte("rsa_bits: 4096\n"), 0o600))
	own := endeixis(t, s, "curator", "policy", "set", corran, "--publisher", "corran", "--reason", "their new press")
	assert.Zero(t, own.code, own.err)
	assert.Contains(t, own.out, "corran has of its own: rsa_bits")
	compared := endeixis(t, s, "auditor", "policy", "show", "--publisher", "corran")
	assert.Regexp(t, `rsa_bits +4096 .*of its own`, compared.out)
	assert.Regexp(t, `rsa_bits +2048 `, endeixis(t, s, "auditor", "policy", "show").out)
	assert.Equal(
		t, "rsa_bits: 4096\n",
		endeixis(t, s, "auditor", "policy", "show", "--publisher", "corran", "--output", "yaml").out,
	)
	assert.Contains(
		t, endeixis(t, s, "auditor", "policy", "show", "--publisher", "tidewright").out, "nothing of its own",
	)

	history := endeixis(t, s, "auditor", "policy", "history")
	assert.Contains(t, history.out, "Oarlock does not sign its lists")

	for _, bad := range []struct {
		args []string
		says string
	}{
		{[]string{"--copy", list}, "write it as manifest=origin:path"},
		{[]string{"--copy", list + "=east:x"}, "There is no origin called “east”"},
		{[]string{"--copy", list + "=oarlock-north:../x"}, "leads out of the folder"},
		{[]string{"--copy", "none.txt=oarlock-north:x"}, "“none.txt” is not a manifest in this folder"},
		{[]string{"--origin", list + "=radio:x"}, "channel"},
		{[]string{"--copy-file", list + "=paper:/none"}, "no such file"},
	} {
		r, _ := run("logger-2.4", bad.args...)
		assert.NotZero(t, r.code, bad.args)
		assert.Contains(t, strings.Join(strings.Fields(r.err), " "), bad.says, bad.args)
	}
	for text, says := range map[string]string{
		"digest_bits: 128\n": "expected required property", strings.Replace(shown.out, `"rsa_bits"`, `"rsa_bytes"`, 1): "rsa_b", "{": "not a policy",
		strings.Replace(shown.out, `"corroboration_channels": 0`, `"corroboration_channels": 1`, 1): "one channel corroborates nothing", "": "",
	} {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		r := endeixis(t, s, "curator", "policy", "set", file, "--reason", "a mistake")
		assert.Equal(t, 1, r.code, text)
		assert.Contains(t, r.err, says)
	}
}

// TestOtherRelease verifies a release, and then finds its image again under
// the name of another.
func TestOtherRelease(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	older := endeixis(t, s, "operator", "batch", "run", "quayside:tidewright/gauge-fw-4.3-older", "--wait")
	assert.Equal(t, 10, older.code, older.err)
	assert.Contains(t, older.out, "nothing that usually goes wrong explains it")
	first := endeixis(
		t, s, "operator", "batch", "run", "quayside:tidewright/gauge-fw-4.2", "--label", "March", "--wait",
	)
	require.Zero(t, first.code, first.err)
	older = endeixis(t, s, "operator", "batch", "run", "quayside:tidewright/gauge-fw-4.3-older", "--wait")
	assert.Equal(t, 10, older.code, older.err)
	words := strings.Join(strings.Fields(older.out), " ")
	assert.Contains(
		t,
		words,
		"These bytes are known: they are those of “gauge-fw-4.2-main.img” in quayside:tidewright/gauge-fw-4.2, cleared on",
	)
	assert.Contains(t, words, "in batch 2 (March)")
}

// TestFlippedByteNamesEverything expects file, expected and computed digest to
// be named.
func TestFlippedByteNamesEverything(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	r := endeixis(t, s, "operator", "batch", "run", "quayside:tidewright/gauge-fw-4.2-flipped", "--wait")
	require.Equal(t, 10, r.code, r.err)
	assert.Contains(t, r.out, "gauge-fw-4.2-main.img")
	assert.Contains(t, r.out, "expected  AFEF CE87")
	assert.Contains(t, r.out, "computed  31FE 20A5")
	assert.Contains(t, r.out, "another value altogether")
	assert.NotContains(t, r.out, "\x1b[", "no colour but on a terminal")
}

// TestLifeOfAKey imports, sights and admits, and then the same folder clears.
func TestLifeOfAKey(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	key := scenario.Keys()[2]
	file := filepath.Join(t.TempDir(), key.Name)
	require.NoError(t, os.WriteFile(file, key.Armored, 0o600))
	fp := key.Fingerprint
	spaced := strings.ToUpper(fp[:20]) + "  " + fp[20:]
	other := "0" + fp[1:]

	require.Equal(
		t, 11, endeixis(t, s, "operator", "batch", "run", "quayside:brackwater/buoy-rx-2.0-new-signer", "--wait").code,
	)
	r := endeixis(t, s, "operator", "keyring", "import", file, "--publisher", "brackwater")
	require.Zero(t, r.code, r.err)
	assert.Contains(t, r.out, "new")
	assert.Contains(t, r.err, "does not count yet")
	r = endeixis(t, s, "operator", "keyring", "import", file)
	assert.Contains(t, r.out, "unchanged")

	admit := func(role roles.Role, typed string) ran {
		return endeixis(
			t, s, role, "keyring", "admit", fp, "--typed", typed, "--publisher", "brackwater", "--reason",
			"two channels agree",
		)
	}
	r = admit("curator", fp)
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.err, "0 of 2 distinct channels")
	r = admit("operator", fp)
	assert.Equal(t, 3, r.code, "an operator does not decide")
	assert.Contains(t, r.err, "needs the role curator")

	sight := func(read, channel string) ran {
		return endeixis(
			t, s, "operator", "keyring", "sight", fp, "--read", read, "--channel", channel, "--at", "a page",
		)
	}
	require.Zero(t, sight(spaced, "letter").code)
	r = sight(fp[24:], "phone")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.err, "this has 16; short forms can be forged")
	assert.Contains(t, sight(fp, "pigeon").err, "it can be vendor-site, mirror")
	require.Zero(t, sight(fp, "phone").code)

	r = admit("curator", other)
	assert.Contains(t, r.err, "differs from the key's fingerprint in 1 places")
	r = admit("curator", spaced)
	require.Zero(t, r.code, r.err)
	assert.Contains(t, r.out, "admitted")
	r = admit("curator", fp)
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.err, "only a candidate can be admitted")
	require.Zero(
		t, endeixis(t, s, "operator", "batch", "run", "quayside:brackwater/buoy-rx-2.0-new-signer", "--wait").code,
	)

	r = sight(other, "mirror")
	assert.Equal(t, 10, r.code, "a conflict is not overlooked")
	assert.Contains(t, r.err, "conflict was recorded")
	list := endeixis(t, s, "auditor", "keyring", "list")
	assert.Contains(t, list.out, "conflict")
	show := endeixis(t, s, "auditor", "publisher", "show", "brackwater", "--output", "yaml")
	assert.Contains(t, show.out, "fingerprint: "+fp)
}

// TestReceiptsAndAudit hands out a receipt, checks it without the service, and
// finds a forged one out.
func TestReceiptsAndAudit(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	dir := t.TempDir()
	r := endeixis(t, s, "operator", "batch", "run", "quayside:tidewright/gauge-fw-4.2", "--wait", "--output", "json")
	var b batchJSON
	r.decode(t, &b)
	record := strconv.FormatInt(*b.Items[0].Record, 10) // what is cleared stands before the evidence

	file := filepath.Join(dir, "receipt.json")
	require.Zero(t, endeixis(t, s, "auditor", "record", "receipt", record, "--file", file).code)
	again := endeixis(t, s, "auditor", "record", "receipt", record, "--file", file)
	assert.Equal(t, 1, again.code)
	assert.Contains(t, again.err, "was not overwritten")

	offline := func(file string) ran {
		return endeixisWith(t, nil, "", "record", "verify-receipt", file, "--public-key", s.PublicKey)
	}
	r = offline(file)
	require.Zero(t, r.code, r.err)
	assert.Contains(t, r.out, b.Items[0].Path)
	assert.Contains(t, r.out, "cleared")

	text, err := os.ReadFile(file)
	require.NoError(t, err)
	var receipt map[string]any
	require.NoError(t, json.Unmarshal(text, &receipt))
	receipt["record"] = strings.Replace(receipt["record"].(string), `"verdict":"cleared"`, `"verdict":"refused"`, 1)
	forged, err := json.Marshal(receipt)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file+".forged", forged, 0o600))
	r = offline(file + ".forged")
	assert.Equal(t, 10, r.code)
	assert.Contains(t, r.err, "does not hold")
	assert.Equal(
		t, 2, endeixisWith(t, nil, "", "record", "verify-receipt", file).code, "without a key it cannot be checked",
	)

	kept := filepath.Join(dir, "checkpoint.txt")
	require.Zero(t, endeixis(t, s, "auditor", "record", "audit", "--save", kept).code)
	require.Zero(t, endeixis(t, s, "operator", "batch", "run", "quayside:tidewright/gauge-fw-4.2", "--wait").code)
	r = endeixis(t, s, "auditor", "record", "audit", "--against", kept)
	assert.Zero(t, r.code, r.err)
	r = endeixis(t, s, "auditor", "record", "audit", "--against", file)
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.err, "was not signed by this service")

	r = endeixis(
		t, s, "auditor", "record", "list", "--kind", "item-outcome", "--verdict", "cleared", "--name", "MAIN",
		"--output", "csv",
	)
	assert.Contains(t, r.out, "gauge-fw-4.2-main.img")
	assert.NotContains(t, r.out, "boot")
	r = endeixis(t, s, "auditor", "record", "show", record)
	assert.Contains(t, r.out, `"kind": "item-outcome"`)
}

// TestSigningIn goes through login, profile and logout.
func TestSigningIn(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	profile := "ENDEIXIS_PROFILE=" + filepath.Join(t.TempDir(), "profile.yaml")
	person := scenario.People()[1]
	env := []string{profile, "ENDEIXIS_TOKEN="}

	r := endeixisWith(t, env, "", "status")
	assert.Equal(t, 3, r.code)
	assert.Contains(t, r.err, "endeixis login")
	r = endeixisWith(t, env, "not the password\n", "login", "--server", s.URL, "--user", person.Name)
	assert.Equal(t, 3, r.code)
	assert.Contains(t, r.err, "Name and password do not fit together")
	r = endeixisWith(t, env, person.Name+"\n"+person.Password+"\n", "login", "--server", s.URL)
	require.Zero(t, r.code, r.err)
	info, err := os.Stat(strings.TrimPrefix(profile, "ENDEIXIS_PROFILE="))
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, info.Mode().Perm(), "only its owner may read the token")
	r = endeixisWith(t, env, "", "status")
	require.Zero(t, r.code, r.err)
	assert.Contains(t, r.out, "ines (operator)")
	assert.Contains(t, r.out, s.PublicKey)
	require.Zero(t, endeixisWith(t, env, "", "logout").code)
	assert.Equal(t, 3, endeixisWith(t, env, "", "status").code)

	r = endeixisWith(t, []string{"ENDEIXIS_SERVER=http://127.0.0.1:1", "ENDEIXIS_TOKEN=x"}, "", "status")
	assert.Equal(t, 3, r.code)
	assert.Contains(t, r.err, "cannot be reached")
}

func TestUsage(t *testing.T) {
	t.Parallel()
	for _, args := range [][]string{{"--output", "pdf", "status"}, {"batch", "run"}, {"batch", "show", "x"}, {"bogus"}, {"batch", "bogus"}, {"batch", "resume", "x"}, {"--nope"}} {
		r := endeixisWith(t, []string{"ENDEIXIS_SERVER=http://127.0.0.1:1"}, "", args...)
		assert.Equal(t, 2, r.code, "%v: %s", args, r.err)
		assert.NotEmpty(t, r.err)
	}
	help := endeixisWith(t, nil, "", "batch", "run", "--help")
	assert.Zero(t, help.code)
	assert.Contains(t, help.out, "quayside:tidewright/gauge-fw-4.2")
	assert.Contains(t, endeixisWith(t, nil, "", "completion", "bash").out, "endeixis")
}

// TestTokensAndPeople covers what an administrator does.
func TestTokensAndPeople(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	env := []string{"ENDEIXIS_SERVER=" + s.URL, "ENDEIXIS_TOKEN=" + s.Token(t, "administrator")}
	r := endeixisWith(
		t, env, "a-long-password\n", "user", "add", "wenna", "--role", "operator", "--full-name", "Wenna Pascoe",
	)
	require.Zero(t, r.code, r.err)
	assert.Contains(t, endeixisWith(t, env, "x\n", "user", "add", "short").err, "at least 10 characters")
	assert.Contains(t, endeixisWith(t, env, "a-long-password\n", "user", "add", "wenna").err, "already")
	assert.Contains(t, endeixisWith(t, env, "", "user", "list").out, "Wenna Pascoe")
	assert.Equal(t, 3, endeixis(t, s, "curator", "user", "list").code)

	r = endeixis(t, s, "operator", "token", "issue", "--label", "nightly", "--role", "curator")
	assert.Equal(t, 3, r.code)
	assert.Contains(t, r.err, "cannot be allowed more than its owner")
	r = endeixis(t, s, "operator", "token", "issue", "--label", "nightly", "--role", "auditor", "--output", "json")
	require.Zero(t, r.code, r.err)
	var issued struct {
		ID   int64  `json:"id"`
		Text string `json:"text"`
	}
	r.decode(t, &issued)
	as := []string{"ENDEIXIS_SERVER=" + s.URL, "ENDEIXIS_TOKEN=" + issued.Text}
	require.Zero(t, endeixisWith(t, as, "", "batch", "list").code)
	assert.Equal(
		t, 3, endeixisWith(t, as, "", "batch", "run", "quayside:tidewright/gauge-fw-4.2").code,
		"the token is for reading",
	)
	require.Zero(t, endeixis(t, s, "operator", "token", "end", strconv.FormatInt(issued.ID, 10)).code)
	r = endeixisWith(t, as, "", "batch", "list")
	assert.Equal(t, 3, r.code)
	assert.Contains(t, r.err, "This token was ended")
	assert.Contains(t, endeixis(t, s, "operator", "token", "list").out, "nightly")
}

// TestSurveyAndCorrection looks at the plan of a folder whose signature lies
// apart, sets it by hand, and finds that in the record.
func TestSurveyAndCorrection(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	source := filepath.Join(s.Depot, "tidewright", "gauge-fw-4.2")
	content := map[string][]byte{"MD5.txt": []byte("unrelated\n")}
	for name, as := range map[string]string{"SHA256SUMS": "SHA256SUMS", "SHA256SUMS.sig": "signatures/release.sig", "gauge-fw-4.2-main.img": "gauge-fw-4.2-main.img"} {
		text, err := os.ReadFile(filepath.Join(source, name))
		require.NoError(t, err)
		content[as] = text
	}
	content["other.sha256"] = []byte(strings.Repeat("ab", 32) + "  elsewhere.img\n")
	folder := s.Write(t, "incoming/mixed", content)

	r := endeixis(t, s, "operator", "batch", "survey", folder)
	require.Zero(t, r.code, r.err)
	assert.Contains(t, r.out, "gauge-fw-4.2-main.img")
	assert.Contains(t, r.out, "SHA256SUMS, line 2")
	assert.Contains(t, r.out, "no file here is named for it")
	assert.Contains(t, r.out, "elsewhere.img")
	set := "signatures/release.sig=SHA256SUMS"
	r = endeixis(t, s, "operator", "batch", "survey", folder, "--set", set)
	assert.Contains(t, r.out, "signatures/release.sig  it was set by hand for this file")
	assert.Equal(t, 2, endeixis(t, s, "operator", "batch", "survey", folder, "--set", "x").code)
	r = endeixis(t, s, "operator", "batch", "run", folder, "--set", "none.sig=SHA256SUMS")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.err, "is not a signature in this folder")

	verdict := func(args ...string) string {
		r := endeixis(
			t,
			s,
			"operator",
			append([]string{"batch", "run", folder, "--wait", "--output", "json"}, args...)...)
		var b batchJSON
		r.decode(t, &b)
		for _, item := range b.Items {
			if item.Path == "gauge-fw-4.2-main.img" {
				return *item.Verdict
			}
		}
		return "none"
	}
	assert.Equal(t, "unproven", verdict())
	assert.Equal(t, "cleared", verdict("--set", set))
	r = endeixis(t, s, "auditor", "record", "list", "--kind", "batch-result", "--output", "json")
	var records []struct{ Position int64 }
	r.decode(t, &records)
	r = endeixis(t, s, "auditor", "record", "show", strconv.FormatInt(records[0].Position, 10), "--output", "json")
	assert.Contains(t, r.out, "\"signature\": \"signatures/release.sig\"")
	assert.Zero(t, endeixis(t, s, "auditor", "record", "audit").code)
}

// TestMatch shows only the files whose names fit.
func TestMatch(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	folder := s.Write(
		t, "incoming/match", map[string][]byte{"a_1.img": nil, "ab1.img": nil, "deep/a_2.img": nil, "100%.img": nil},
	)
	require.Equal(t, 11, endeixis(t, s, "operator", "batch", "run", folder, "--wait").code)
	for pattern, want := range map[string][]string{
		"a_*": {"a_1.img", "deep/a_2.img"}, "*.img": {"100%.img", "a_1.img", "ab1.img", "deep/a_2.img"}, "deep/*": {"deep/a_2.img"},
		"?b1.img": {"ab1.img"}, "100%*": {"100%.img"}, "none": {},
	} {
		r := endeixis(t, s, "auditor", "batch", "show", "1", "--match", pattern, "--output", "json")
		var b batchJSON
		r.decode(t, &b)
		got := []string{}
		for _, item := range b.Items {
			got = append(got, item.Path)
		}
		assert.Equal(t, want, got, pattern)
	}
}

// TestHarmlessRename: a file that a browser saved under a name of its own is the one that
// the list names; the entry counts, both names are told, and nothing is absent.
func TestHarmlessRename(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	r := endeixis(t, s, "operator", "batch", "run", "quayside:oarlock/logger-2.6-letter", "--wait", "--output", "json")
	require.Equal(t, 11, r.code, r.err)
	var b batchJSON
	require.NoError(t, json.Unmarshal([]byte(r.out), &b))
	assert.Equal(t, 2, b.Counts.Unproven)
	assert.Zero(t, b.Counts.Absent)
	told := 0
	for _, item := range b.Items {
		for _, g := range item.Grounds {
			if g.Code == judge.ListedAs {
				told++
				assert.Equal(t, "oarlock-logger-2.6-armv6 (1).img", item.Path)
				assert.Contains(t, g.Sentence, "“oarlock-logger-2.6-armv6.img”")
				assert.Equal(t, judge.Notes, g.Effect)
			}
		}
	}
	assert.Equal(t, 1, told)
	shown := endeixis(t, s, "operator", "batch", "run", "quayside:oarlock/logger-2.6-letter", "--wait").out
	assert.Contains(t, shown, "0 absent")
	assert.Contains(t, shown, "The list calls it")
}
