package manifest

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestValuesCutShort: under a heading, or in a file whose name says the algorithm, a
// shorter value is damage, also where another algorithm has its length.
func TestValuesCutShort(t *testing.T) {
	for _, length := range []int{8, 32, 40, 56} {
		cut := sha256Of[:length]
		for name, c := range map[string]struct{ file, text string }{
			"a heading":        {"CHECKSUMS", "SHA256:\n" + sha256Of + "  good.bin\n" + cut + "  cut.bin\n"},
			"the file's name":  {"SHA256SUMS", sha256Of + "  good.bin\n" + cut + "  cut.bin\n"},
			"one file's name":  {"good.bin.sha256", sha256Of + "  good.bin\n" + cut + " *cut.bin\n"},
			"many plain lines": {"SHA256SUMS", strings.Repeat(sha256Of+"  good.bin\n", 300) + cut + "  cut.bin\n"},
		} {
			m, err := Read(strings.NewReader(c.text), Options{FileName: c.file})
			require.NoError(t, err)
			for _, e := range m.Entries.All() {
				assert.Equal(t, "good.bin", e.Name, "%s, %d digits", name, length)
			}
			require.Len(t, m.Problems, 1, "%s, %d digits", name, length)
			assert.Equal(t, 1+strings.Count(c.text, "good.bin\n")+strings.Count(c.text, ":\n"), m.Problems[0].Line)
		}
	}
	// In prose too, where another value is found.
	m, err := Read(
		strings.NewReader("The digest of good.bin is\n"+sha256Of+",\nand that of cut.bin is\n"+sha256Of[:40]+".\n"),
		Options{FileName: "SHA256SUMS"},
	)
	require.NoError(t, err)
	require.Equal(t, 1, m.Entries.Len())
	require.Len(t, m.Problems, 1)
	assert.Equal(t, 4, m.Problems[0].Line)
	m, err = Read(strings.NewReader("0.A "+sha256Of[:32]), Options{FileName: "SHA256"})
	require.NoError(t, err)
	assert.Zero(t, m.Entries.Len())
	assert.NotEmpty(t, m.Problems, "nothing is lost")
	// A longer value under a name that says less is of another algorithm.
	m, err = Read(strings.NewReader(sha256Of+"  good.bin\n"), Options{FileName: "gauge.md5"})
	require.NoError(t, err)
	require.Equal(t, 1, m.Entries.Len())
	assert.Greater(t, len(m.Entries.At(0).Candidates()), 1)
}
