package manifest

import (
	"crypto/md5"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestEveryValue: whatever a digest looks like by chance, all digits or none, it is read
// as every other in the same form.
func TestEveryValue(t *testing.T) {
	const n = 20_000
	content := func(i int) []byte { return binary.BigEndian.AppendUint64(nil, uint64(i)) }
	sum256 := func(i int) []byte { s := sha256.Sum256(content(i)); return s[:] }
	sum512 := func(i int) []byte { s := sha512.Sum512(content(i)); return s[:] }
	sum384 := func(i int) []byte { s := sha512.Sum384(content(i)); return s[:] }
	sumMD5 := func(i int) []byte { s := md5.Sum(content(i)); return s[:] }
	crc := func(i int) []byte { return binary.BigEndian.AppendUint32(nil, crc32.ChecksumIEEE(content(i))) }
	std, url := base64.StdEncoding.EncodeToString, base64.RawURLEncoding.EncodeToString
	hex := func(b []byte) string { return fmt.Sprintf("%x", b) }
	upper := func(b []byte) string { return fmt.Sprintf("%X", b) }
	for name, kind := range map[string]struct {
		file, head, foot string
		value            func(i int) []byte
		text             func([]byte) string
		line             string // with the name and the value
	}{
		"checksums of 32 bits":         {"tides.sfv", "", "", crc, upper, "lamp-%[1]d.bin %[2]s\n"},
		"checksums of 32 bits, small":  {"tides.sfv", "", "", crc, hex, "lamp-%[1]d.bin %[2]s\n"},
		"labelled checksums":           {"", "", "", crc, upper, "lamp-%[1]d.bin CRC32: %[2]s\n"},
		"tagged checksums":             {"", "", "", crc, hex, "CRC32 (lamp-%[1]d.bin) = %[2]s\n"},
		"checksums in a table":         {"tides.csv", "File,CRC-32\n", "", crc, upper, "lamp-%[1]d.bin,%[2]s\n"},
		"name first":                   {"", "", "", sumMD5, hex, "lamp-%[1]d.bin: %[2]s\n"},
		"name first, capitals":         {"", "", "", sum256, upper, "lamp-%[1]d.bin\t%[2]s\n"},
		"digest first, capitals":       {"", "", "", sumMD5, upper, "%[2]s *lamp-%[1]d.bin\n"},
		"base64 in a list of its kind": {"SHA256SUMS", "", "", sum256, std, "%[2]s  lamp-%[1]d.bin\n"},
		"base64, tagged":               {"", "", "", sum256, std, "SHA256 (lamp-%[1]d.bin) = %[2]s\n"},
		"base64, labelled":             {"", "", "", sum256, std, "lamp-%[1]d.bin SHA-256: %[2]s\n"},
		"base64, not filled up":        {"", "", "", sum384, std, "lamp-%[1]d.bin SHA-384: %[2]s\n"},
		"base64 behind names":          {"SHA256SUMS", "", "", sum256, std, "lamp-%[1]d.bin %[2]s\n"},
		"base64 alone":                 {"lamps.sha256", "", "", sum256, std, "lamp-%[1]d.bin\n%[2]s\n"},
		"base64, wide":                 {"", "", "", sum512, std, "lamp-%[1]d.bin SHA-512: %[2]s\n"},
		"base64, MD5":                  {"", "", "", sumMD5, std, "lamp-%[1]d.bin MD5: %[2]s\n"},
		"base64 of an archive":         {"MANIFEST.MF", "Manifest-Version: 1.0\n\n", "", sum256, std, "Name: lamp-%[1]d.bin\nSHA-256-Digest: %[2]s\n\n"},
		"base64 of a package":          {"RECORD", "", "", sum256, url, "lamp-%[1]d.bin,sha256=%[2]s,17\n"},
		"base64 in a table":            {"tides.csv", "File,SHA-256\n", "", sum256, std, "lamp-%[1]d.bin,%[2]s\n"},
		"integrity":                    {"", "", "", sum512, std, "lamp-%[1]d.bin sha512-%[2]s\n"},
		"integrity in a document":      {"tides.json", "{\n", "\"end\": {}}\n", sum512, std, "\"lamp-%[1]d.bin\": {\"integrity\": \"sha512-%[2]s\"},\n"},
		"base64 in a document":         {"tides.json", "{\n", "\"end\": {}}\n", sum256, std, "\"lamp-%[1]d.bin\": {\"sha256\": \"%[2]s\"},\n"},
		"addresses":                    {"", "", "", sum256, url, "lamp-%[1]d.bin ni:///sha-256;%[2]s\n"},
		"digest fields":                {"", "", "", sum256, std, "lamp-%[1]d.bin Repr-Digest: sha-256=:%[2]s:\n"},
		"a page":                       {"", "<html><body><table><tr><th>File</th><th>SHA-256</th></tr>\n", "</table></body></html>\n", sum256, std, "<tr><td>lamp-%[1]d.bin</td><td>%[2]s</td></tr>\n"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			var text strings.Builder
			text.WriteString(kind.head)
			for i := range n {
				fmt.Fprintf(&text, kind.line, i, kind.text(kind.value(i)))
			}
			text.WriteString(kind.foot)
			m, err := Parse(text.String(), Options{FileName: kind.file})
			require.NoError(t, err)
			read := map[string]bool{}
			for _, e := range m.Entries.All() {
				read[e.Name+" "+e.Digest.String()] = true
			}
			var lost []string
			for i := range n {
				if !read[fmt.Sprintf("lamp-%d.bin %x", i, kind.value(i))] {
					lost = append(lost, fmt.Sprintf(strings.TrimSpace(kind.line), i, kind.text(kind.value(i))))
				}
			}
			assert.Empty(t, lost[:min(len(lost), 5)], "%d of %d", len(lost), n)
			assert.Empty(t, m.Problems[:min(len(m.Problems), 3)])
			assert.Equal(t, n, m.Entries.Len())
		})
	}
}
