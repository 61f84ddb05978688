package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/openpgp"
	"endeixis/demo/scenario"
	"endeixis/internal/testkit"
)

// local runs the client without any service.
func local(t *testing.T, stdin string, args ...string) ran {
	t.Helper()
	return endeixisWith(t, []string{"ENDEIXIS_SERVER=", "ENDEIXIS_TOKEN="}, stdin, args...)
}

func TestDigestWithoutAService(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "abc.bin")
	require.NoError(t, os.WriteFile(file, []byte("abc"), 0o600))
	r := local(t, "", "digest", file, "--algorithm", "SHA256,md5,crc-32/cksum", "--output", "json")
	require.Zero(t, r.code, r.err)
	var out []struct {
		Size    int64
		Digests map[string]string
	}
	r.decode(t, &out)
	assert.EqualValues(t, 3, out[0].Size)
	assert.Equal(t, "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad", out[0].Digests["SHA-256"])
	assert.Equal(t, "900150983cd24fb0d6963f7d28e17f72", out[0].Digests["MD5"])
	assert.Contains(t, local(t, "abc", "digest", "-").out, "ba7816bf")
	assert.Equal(t, 2, local(t, "", "digest", file, "--algorithm", "rot13").code)
	assert.Equal(t, 1, local(t, "", "digest", file+".none").code)
	assert.Contains(t, local(t, "", "digest", filepath.Dir(file)).err, "is a folder")
	// One that is not there keeps nobody from the others.
	result := local(t, "", "digest", file, file+".none", file)
	assert.Equal(t, 1, result.code)
	assert.Equal(t, 2, strings.Count(result.out, "ba7816bf"))
	assert.Contains(t, result.err, "abc.bin.none")
}

// TestManifestsWithoutAService makes a manifest of a folder, shows it, and finds
// what changed in the next one.
func TestManifestsWithoutAService(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write := func(name, content string) {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(content), 0o600))
	}
	write("boot.img", "boot")
	write("deep/main fw.img", strings.Repeat("main", 1000))
	write("line\nbreak.img", "x")
	require.NoError(t, os.Symlink("/etc/hostname", filepath.Join(dir, "out.img")))

	list := filepath.Join(dir, "SHA256SUMS")
	r := local(t, "", "manifest", "make", dir, "--file", list)
	require.Zero(t, r.code, r.err)
	assert.Contains(t, r.err, "out.img is left out")
	r = local(t, "", "manifest", "make", dir, "--file", list)
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.err, "was not overwritten")

	r = local(t, "", "manifest", "show", list, "--output", "json")
	require.Zero(t, r.code, r.err)
	var shown struct {
		Format  string
		Entries []struct {
			Name       string
			Algorithm  *string
			Candidates []string
			Digest     string
			Size       *int64
			Line       int
		}
		Problems []struct {
			Line    int
			Code    string
			Message string
		}
	}
	r.decode(t, &shown)
	assert.Equal(t, "digest-first", shown.Format)
	require.Len(t, shown.Entries, 3)
	assert.Equal(
		t, []string{"boot.img", "deep/main fw.img", "line\nbreak.img"},
		[]string{shown.Entries[0].Name, shown.Entries[1].Name, shown.Entries[2].Name},
	)
	assert.Equal(t, "SHA-256", *shown.Entries[0].Algorithm)
	assert.Nil(t, shown.Entries[0].Size)
	assert.NotNil(t, shown.Problems)

	r = local(
		t, "gauge.img: A9993E364706816ABA3E25717850C26C9CD0D89D\n../x.img: a9993e364706816aba3e25717850c26c9cd0d89d\n",
		"manifest", "show", "-",
	)
	assert.Contains(t, r.out, "SHA-1 or RIPEMD-160")
	assert.Contains(t, r.out, "line 2: “../x.img”")

	meta := filepath.Join(t.TempDir(), "release.meta4")
	r = local(
		t, "", "manifest", "make", dir, "--format", "metalink-4", "--algorithm", "sha-256,sha-512", "--piece-length",
		"1024", "--file", meta,
	)
	assert.Equal(t, 1, r.code, "a line break has no place in XML")
	require.NoError(t, os.Remove(filepath.Join(dir, "line\nbreak.img")))
	write("boot.img", "another boot")
	require.NoError(t, os.Rename(filepath.Join(dir, "deep/main fw.img"), filepath.Join(dir, "main.img")))
	r = local(
		t, "", "manifest", "make", dir, "--format", "metalink-4", "--algorithm", "sha-256,sha-512", "--piece-length",
		"1024", "--file", meta,
	)
	require.Zero(t, r.code, r.err)
	assert.Contains(t, local(t, "", "manifest", "show", meta).out, "4 pieces of 1.0 KiB by SHA-256")

	r = local(t, "", "manifest", "compare", list, meta, "--output", "csv")
	require.Zero(t, r.code, r.err)
	for _, line := range []string{"changed,boot.img", "renamed,main.img,deep/main fw.img", "removed,", "added,SHA256SUMS"} {
		assert.Contains(t, r.out, line)
	}
	assert.Equal(t, 2, local(t, "", "manifest", "make", dir, "--algorithm", "md5,sha-1").code)
	assert.Equal(t, 2, local(t, "", "manifest", "make", dir, "--format", "spdx").code)
	empty := filepath.Join(t.TempDir(), "empty.txt")
	require.NoError(t, os.WriteFile(empty, []byte("nothing here\n"), 0o600))
	assert.Contains(t, local(t, "", "manifest", "compare", empty, list).err, "nothing in")
	old, now := filepath.Join(t.TempDir(), "a"), filepath.Join(t.TempDir(), "b")
	require.NoError(t, os.WriteFile(old, []byte("tide 1\nlamp 2\n"), 0o600))
	require.NoError(t, os.WriteFile(now, []byte("tide 2\nbuoy 1\n"), 0o600))
	r = local(t, "", "manifest", "compare", "--versions", old, now)
	assert.Contains(t, r.out, "1 added, 1 removed, 1 changed")
}

// TestManyManifestFormatsInABatch verifies one folder whose files are vouched
// for in different ways, and compares two batches.
func TestManyManifestFormatsInABatch(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	image := []byte("gauge image")
	const (
		sha3  = "SHA3-256"
		crc   = "CRC-32"
		sha1  = "SHA-1"
		blake = "BLAKE3"
	)
	file := filepath.Join(t.TempDir(), "x")
	require.NoError(t, os.WriteFile(file, image, 0o600))
	var out []struct{ Digests map[string]string }
	local(
		t, "", "digest", file, "--algorithm", strings.Join([]string{sha3, crc, sha1, blake}, ","), "--output", "json",
	).
		decode(t, &out)
	d := out[0].Digests
	folder := s.Write(t, "incoming/formats", map[string][]byte{
		"one.img": image, "two.img": image, "three.img": image, "four.img": image,
		"table.csv":       []byte("file,SHA3-256\none.img," + d[sha3] + "\n"),
		"lamps.crc":       []byte("two.img " + strings.ToUpper(d[crc]) + "\n"),
		"three.img.sha1":  []byte(d[sha1] + "\n"),
		"checksums.txt":   []byte(d[blake] + "  four.img\n"),
		"release-note.md": []byte("nothing"),
	})
	r := endeixis(t, s, "operator", "batch", "run", folder, "--wait", "--output", "json")
	require.Equal(t, 11, r.code, r.err)
	var b batchJSON
	r.decode(t, &b)
	for path, algorithm := range map[string]string{"one.img": sha3, "two.img": crc, "three.img": sha1, "four.img": blake} {
		found := false
		for _, item := range b.Items {
			for _, g := range item.Grounds {
				found = found || item.Path == path && g.Code == "digest-match" && g.Algorithm.String() == algorithm
			}
		}
		assert.True(t, found, "%s by %s: %v", path, algorithm, b.codes(path))
	}
	assert.Contains(t, b.codes("two.img"), "weak-digest-only")
	assert.NotContains(t, b.codes("one.img"), "weak-digest-only")

	next := s.Write(t, "incoming/formats-2", map[string][]byte{"one.img": []byte("changed"), "five.img": []byte("new")})
	require.Equal(t, 11, endeixis(t, s, "operator", "batch", "run", next, "--wait").code)
	r = endeixis(t, s, "auditor", "manifest", "compare", "--batches", "1", "2", "--output", "csv")
	assert.Contains(t, r.out, "changed,one.img")
	assert.Contains(t, r.out, "added,five.img")
	assert.Contains(t, r.out, "removed,two.img")
}

// TestInspect looks into keys, signatures and signed texts without a service,
// and asks the service the same.
func TestInspect(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	dir := filepath.Join(s.Depot, "oarlock", "logger-2.4-framed")
	file := filepath.Join(dir, "oarlock-logger-2.4-announcement.txt")
	none := []string{"ENDEIXIS_SERVER=http://127.0.0.1:1"}
	r := endeixisWith(t, none, "", "keyring", "inspect", file)
	require.Zero(t, r.code, r.err)
	assert.Contains(t, r.out, "There is text before the frame; nobody signed it.")
	assert.Contains(t, r.out, "text document (0x01)")
	assert.Contains(t, r.out, "\n    Fair winds,\n")
	key := scenario.Keys()[5]
	r = endeixisWith(t, none, string(key.Armored), "keyring", "inspect", "-", "--output", "json")
	require.Zero(t, r.code, r.err)
	var inspection openpgp.Inspection
	r.decode(t, &inspection)
	assert.EqualValues(t, "public key", inspection.Kind)
	assert.Equal(t, openpgp.Fact{Name: "algorithm", Value: "ECDSA brainpoolP384r1"}, inspection.Packets[0].Facts[1])
	r = endeixisWith(t, none, "no such thing", "keyring", "inspect", "-")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.err, "is no OpenPGP file")

	b := open(t, s)
	b.signIn("auditor")
	b.visit("/keyring", "Look into a file")
	b.press("Look into a file")
	content, err := os.ReadFile(file)
	require.NoError(t, err)
	b.fill("Or its text", "nonsense")
	b.press("Show it")
	b.sees("This is no OpenPGP file")
	b.visit("/keyring/inspect", "Look into an OpenPGP file")
	b.fill("Or its text", string(content))
	b.press("Show it")
	b.sees("A signed text")
	b.sees("nobody signed it")
	b.accessible("inspection")
}
