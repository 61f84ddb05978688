package manifest

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestContradictions: a list that says two things of one file is told, and what it says
// twice alike is not; a guess contradicts nothing.
func TestContradictions(t *testing.T) {
	t.Parallel()
	a, b := strings.Repeat("ab", 32), strings.Repeat("cd", 32)
	for text, want := range map[string][]Contradiction{
		a + "  gauge.bin\n" + b + "  boot.bin\n":                            nil,
		a + "  gauge.bin\n" + a + "  gauge.bin\n":                           nil,
		a + "  gauge.bin\n" + b + "  gauge.bin\n":                           {{2, 1, "it states another value of “gauge.bin” than line 1 does"}},
		"File,Size,SHA-256\ngauge.bin,7," + a + "\ngauge.bin,8," + a + "\n": {{3, 2, "it states another size of “gauge.bin” than line 2 does"}},
		"gauge.bin 1 " + a + "\ngauge.bin 2 " + a + "\n":                    nil,
		"SHA256 (x.bin) = " + a + "\nSHA3-256 (x.bin) = " + b + "\n":        nil,
		"SHA256 (x.bin) = " + a + "\n\nother\nSHA256 (x.bin) = " + b + "\n": {{4, 1, "it states another SHA-256 value of “x.bin” than line 1 does"}},
	} {
		m, err := Parse(text, Options{})
		require.NoError(t, err)
		assert.Equal(t, want, m.Contradictions(), text)
	}
}
