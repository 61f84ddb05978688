package plain

import (
	"testing"
	"unicode"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestText(t *testing.T) {
	for in, want := range map[string]string{
		"gauge-fw-4.2.img":       "gauge-fw-4.2.img",
		"Prüfsumme für Höhe.bin": "Prüfsumme für Höhe.bin",
		"潮位.img":                 "潮位.img",
		"a\x1b[31mred":           `a\x1b[31mred`,
		"two\nlines\tand\r":      `two\nlines\tand\r`,
		"gnp\u202e.exe":          `gnp\u{202e}.exe`,
		"zero\u200bwidth":        `zero\u{200b}width`,
		"no\u00a0break":          `no\xa0break`,
		"bad\xff":                `bad\xff`,
		"<b>markup</b>":          "<b>markup</b>",
		"\u009b31m":              `\x9b31m`,
	} {
		assert.Equal(t, want, Text(in))
	}
}

// TestTextNeverPassesAControl holds for any string at all.
func TestTextNeverPassesAControl(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		out := Text(string(rapid.SliceOf(rapid.Byte()).Draw(t, "s")) + rapid.String().Draw(t, "u"))
		if !utf8.ValidString(out) {
			t.Fatalf("%q is not UTF-8", out)
		}
		for _, r := range out {
			if unicode.IsControl(r) || unicode.Is(unicode.Cf, r) {
				t.Fatalf("%q passed", r)
			}
		}
	})
}

func TestCell(t *testing.T) {
	assert.Equal(t, `'=HYPERLINK("x")`, Cell(`=HYPERLINK("x")`))
	assert.Equal(t, "gauge", Cell("gauge"))
	assert.Equal(t, "", Cell(""))
}

func TestGrouped(t *testing.T) {
	assert.Equal(t, "AB12 CD34 E", Grouped("ab12cd34e"))
	assert.Equal(t, "“a ”", Quoted("a "))
}

func TestUnlike(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want bool
	}{
		{"", "", false},
		{"abcd", "abcd", false},
		{"abcd", "abdc", false},
		{"abcdef01", "abcdef10", false},
		{"AFEFCE8734CFA316", "31FE20A558A737E4", true},
		{"abcd", "", true},
		{"abcdefgh", "abcdefghijklmnopqrstu", true},
		{"abcdefgh", "abcdefghij", false},
	} {
		assert.Equal(t, c.want, Unlike(c.a, c.b), "%q and %q", c.a, c.b)
	}
}

// TestCount: numbers agree with their nouns.
func TestCount(t *testing.T) {
	t.Parallel()
	for want, got := range map[string]string{
		"one file": Count(1, "file"), "0 files": Count(0, "file"), "12 more files": Count(12, "more file"),
		"one batch": Count(1, "batch"), "2 batches": Count(2, "batch"), "3 entries": Count(3, "entry"),
		"2 keys": Count(2, "key"), "2 boxes": Count(2, "box"), "2 addresses": Count(2, "address"),
	} {
		assert.Equal(t, want, got)
	}
}
