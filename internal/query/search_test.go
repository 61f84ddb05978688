package query

import (
	"encoding/hex"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"endeixis/internal/fault"
)

func TestDigits(t *testing.T) {
	for given, want := range map[string]string{
		"":                    "",
		"  ":                  "",
		"4f6a02d1":            "4F6A02D1",
		"0x4F6A02D1":          "4F6A02D1",
		"4f:6a:02:d1":         "4F6A02D1",
		"4F6A 02D1 4F6A 02D1": "4F6A02D14F6A02D1",
	} {
		got, err := digits(given, "digest", "digest")
		require.NoError(t, err, given)
		assert.Equal(t, want, got, given)
	}
	for _, given := range []string{"4f6a02d", "4f6a02dg", "%", "sha256:4f6a02d1", strings.Repeat("é", 9), "4f6a02d1\x00"} {
		_, err := digits(given, "digest", "digest")
		assert.True(t, fault.Is(err, fault.WideSearch), "%q", given)
	}
}

// TestBetween: a value is between the bounds exactly where it begins with the digits.
func TestBetween(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		digit := rapid.SampledFrom([]rune("0123456789ABCDEFFF"))
		begins := rapid.StringOfN(digit, 8, 12, -1).Draw(rt, "begins")
		value := rapid.OneOf(
			rapid.StringOfN(digit, 16, 16, -1),
			rapid.Map(rapid.StringOfN(digit, 16, 16, -1), func(s string) string { return begins + s[len(begins):] }),
		).Draw(rt, "value")
		bounds := between(begins)
		in := strings.ToUpper(hex.EncodeToString(bounds[0])) <= value
		if bounds[1] != nil {
			in = in && value < strings.ToUpper(hex.EncodeToString(bounds[1]))
		}
		if in != strings.HasPrefix(value, begins) {
			rt.Fatalf("%s begins %s: %v", value, begins, in)
		}
	})
}
