package manifest

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/digest"
)

const (
	md5Of    = "d41d8cd98f00b204e9800998ecf8427e"
	sha1Of   = "da39a3ee5e6b4b0d3255bfef95601890afd80709"
	sha256Of = "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"
)

// controlEntries reads a text, and returns its entries as lines.
func controlEntries(t *testing.T, text string) (*Manifest, []string) {
	t.Helper()
	m, err := Read(strings.NewReader(text), Options{FileName: "lamp-ctl_1.2-1.dsc"})
	require.NoError(t, err)
	var out []string
	for _, e := range m.Entries.All() {
		require.NotNil(t, e.Size, e.Name)
		out = append(out, strings.Join([]string{e.Algorithm.String(), e.Name}, " "))
		assert.Equal(t, []digest.Algorithm{e.Algorithm}, e.Candidates())
	}
	return m, out
}

// TestSourceDescriptions are texts of fields, of which some list files.
func TestSourceDescriptions(t *testing.T) {
	description := "Format: 3.0 (quilt)\nSource: lamp-ctl\nPackage-List:\n lamp-ctl deb admin optional arch=any\nChecksums-Sha1:\n " + sha1Of + " 123 lamp-ctl_1.2.orig.tar.gz\n" +
		"Checksums-Sha256:\n " + sha256Of + " 123 lamp-ctl_1.2.orig.tar.gz\n " + sha256Of + " 456 lamp-ctl_1.2-1.debian.tar.xz\nFiles:\n " + md5Of + " 123 lamp-ctl_1.2.orig.tar.gz\n"
	for _, text := range []string{description, strings.ReplaceAll(description, "\n", "\r\n")} {
		m, entries := controlEntries(t, text)
		assert.Equal(t, Control, m.Format)
		assert.Empty(t, m.Problems)
		assert.Equal(t, []string{
			"SHA-1 lamp-ctl_1.2.orig.tar.gz",
			"SHA-256 lamp-ctl_1.2.orig.tar.gz",
			"SHA-256 lamp-ctl_1.2-1.debian.tar.xz",
			"MD5 lamp-ctl_1.2.orig.tar.gz",
		}, entries)
		assert.EqualValues(t, 456, *m.Entries.At(2).Size)
		assert.Equal(t, []int{9, 2}, []int{m.Entries.At(2).Line, m.Entries.At(2).Column()})
	}
	// A digest in the text of a change is no entry; a file to be installed has a
	// section and a priority.
	m, entries := controlEntries(
		t,
		"Format: 1.8\nChanges:\n lamp-ctl (1.2-1) stable; urgency=medium\n .\n   * Fix "+md5Of+" 5 in the lamp.\nFiles:\n "+md5Of+" 123 admin optional lamp-ctl_1.2-1.dsc\n",
	)
	assert.Equal(t, []string{"MD5 lamp-ctl_1.2-1.dsc"}, entries)
	assert.Empty(t, m.Problems)
	// An index of a release has paths.
	m, entries = controlEntries(
		t,
		"Origin: Oarlock\nSuite: stable\nMD5Sum:\n "+md5Of+"            123 main/binary-amd64/Packages\nSHA256:\n "+sha256Of+"   123 main/binary-amd64/Packages\n",
	)
	assert.Equal(t, []string{"MD5 main/binary-amd64/Packages", "SHA-256 main/binary-amd64/Packages"}, entries)
	assert.Empty(t, m.Problems)
	// What cannot be used is told, and the rest is.
	m, entries = controlEntries(
		t,
		"Source: x\nChecksums-Sha256:\n "+sha256Of+" 1 good\n "+md5Of+" 2 short\n "+sha256Of+" many bad-size\n "+sha256Of+" 3\n "+sha256Of+" 4 ../../etc/x\nthis is no field\n",
	)
	assert.Equal(t, []string{"SHA-256 good"}, entries)
	var codes []ProblemCode
	var lines []int
	for _, p := range m.Problems {
		codes, lines = append(codes, p.Code), append(lines, p.Line)
	}
	assert.Equal(t, []ProblemCode{BadDigest, NotAnEntry, NotAnEntry, UnsafeName, NotAnEntry}, codes)
	assert.Equal(t, []int{4, 5, 6, 7, 8}, lines)
}
