package manifest

import (
	"io"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestLineEnds: lines end in LF, CR LF or CR, in one text, and blanks before the end are
// no part of a name.
func TestLineEnds(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var text strings.Builder
		var names []string
		for range rapid.IntRange(1, 30).Draw(t, "lines") {
			name := "q" + rapid.StringMatching(`[a-z][a-z .]{0,8}-x`).Draw(t, "name") // no device is called so
			names = append(names, name)
			text.WriteString(sha256Of + "  " + name + rapid.SampledFrom([]string{"", "", " ", "\t "}).Draw(t, "blanks"))
			text.WriteString(rapid.SampledFrom([]string{"\n", "\r\n", "\r"}).Draw(t, "end"))
		}
		for _, in := range []io.Reader{
			strings.NewReader(text.String()),
			iotest.OneByteReader(strings.NewReader(text.String())),
		} {
			m, err := Read(in, Options{FileName: "SHA256SUMS"})
			require.NoError(t, err)
			var got []string
			for i, e := range m.Entries.All() {
				got = append(got, e.Name)
				if e.Line != i+1 {
					t.Fatalf("entry %d is in line %d", i, e.Line)
				}
			}
			if !assert.ObjectsAreEqual(names, got) || len(m.Problems) > 0 {
				t.Fatalf("%q: %q, %v", text.String(), got, m.Problems)
			}
		}
	})
	for _, bare := range []string{sha256Of + "  ", sha256Of + "\t\r\n", "  " + sha256Of + " \r"} {
		m, err := Read(strings.NewReader(bare), Options{FileName: "gauge.bin.sha256"})
		require.NoError(t, err)
		require.Equal(t, 1, m.Entries.Len(), "%q", bare)
		assert.Equal(t, Bare, m.Format)
	}
	m, err := Read(strings.NewReader(sha256Of+"  gauge.bin\n"+sha256Of+"   \n"), Options{FileName: "SHA256SUMS"})
	require.NoError(t, err)
	assert.Equal(t, 1, m.Entries.Len(), "a blank is no name")
	assert.NotEmpty(t, m.Problems)
}
