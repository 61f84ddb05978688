package lineend

import (
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// converted runs a text through a converter in the given parts.
func converted(convert func([]byte) []byte, parts ...string) string {
	var b strings.Builder
	for _, p := range parts {
		b.Write(convert([]byte(p)))
	}
	return b.String()
}

func TestLineEndings(t *testing.T) {
	assert.Equal(t, "a\nb\n\nc", converted(ToLF(), "a\r", "\nb\r\n\n", "c"))
	assert.Equal(t, "a\rb", converted(ToLF(), "a\r", "b"), "a CR alone stays")
	assert.Equal(t, "a\r\nb\r\n\r\nc", converted(ToCRLF(), "a\r", "\nb\n", "\nc"))
}

// TestPartsDoNotMatter holds for any text, cut anywhere.
func TestPartsDoNotMatter(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.StringMatching(`[a\r\n]{0,12}z`).Draw(t, "text")
		at := rapid.IntRange(0, len(text)).Draw(t, "at")
		for name, make := range map[string]func() func([]byte) []byte{"LF": ToLF, "CR LF": ToCRLF} {
			if whole, cut := converted(make(), text), converted(make(), text[:at], text[at:]); whole != cut {
				t.Fatalf("%s: %q, and in parts %q", name, whole, cut)
			}
		}
	})
}

// TestWhatIsNoText: control characters of either range, and bytes that are no UTF-8,
// wherever the parts are cut.
func TestWhatIsNoText(t *testing.T) {
	for text, binary := range map[string]bool{
		"":                          false,
		"plain\ttext\r\n\f":         false,
		"Größe, 大きさ, 🌊\n":           false,
		"\ufeffwith a mark\n":       false,
		"a\x00b":                    true,
		"a\x1b[31m":                 true,
		"a\x7fb":                    true,
		"a\u0085b":                  false,
		"a\u009bb":                  true,
		"caf\xe9\n":                 true,
		"\xff\xfe":                  true,
		"half a character \xe5\xa4": true,
		"over-long \xc0\xaf":        true,
		"a surrogate \xed\xa0\x80":  true,
		"no character \ufffe":       true,
	} {
		for at := range len(text) + 1 {
			w := NewText(io.Discard)
			_, _ = w.Write([]byte(text[:at]))
			_, _ = w.Write([]byte(text[at:]))
			assert.Equal(t, binary, w.Binary(), "%q cut at %d", text, at)
		}
	}
}
