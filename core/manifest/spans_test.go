package manifest

import (
	"encoding/base64"
	"encoding/hex"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/digest"
)

// TestSpans: each entry's place in the text as it was given holds its value, in whatever
// form, encoding and number of lines it stands there.
func TestSpans(t *testing.T) {
	t.Parallel()
	v := valueOf(t, "sha256", "gauge")
	value := v.String()
	fours := strings.Join(
		[]string{
			value[:4], value[4:8], value[8:12], value[12:16], value[16:20], value[20:24], value[24:28], value[28:32],
			value[32:36], value[36:40], value[40:44], value[44:48], value[48:52], value[52:56], value[56:60],
			value[60:],
		},
		" ",
	)
	for name, text := range map[string]string{
		"digest first":    value + "  gauge.bin\n",
		"behind a mark":   "\xef\xbb\xbf" + value + "  gauge.bin\n",
		"name first":      "Größe.bin: " + strings.ToUpper(value) + "\n",
		"tagged":          "# list\r\nSHA256 (gauge.bin) = " + value + "\r\n",
		"quoted mail":     "> gauge.bin\n> SHA-256: " + value + "\n",
		"in JSON":         `{"name":"gauge.bin","sha256":"` + value + `"}`,
		"in a page":       "<html><body><table><tr><th>File</th><th>SHA-256</th></tr>\n<tr><td>gauge.bin</td><td>" + value + "</td></tr></table></body></html>",
		"in fours":        "SHA-256 of gauge.bin: " + fours + "\n",
		"over two lines":  "gauge.bin: " + value[:32] + "\n  " + value[32:] + "\n",
		"in base64":       "SHA-256 (gauge.bin): " + base64.StdEncoding.EncodeToString(v) + "\n",
		"old line ends":   "gauge.bin\r" + value + "\r",
		"the second line": strings.Repeat("a remark\n", 100) + value + "  gauge.bin\n",
	} {
		m, err := Parse(text, Options{})
		require.NoError(t, err, name)
		m.Locate(text)
		require.Equal(t, 1, m.Entries.Len(), name)
		span := m.Entries.At(0).Span()
		require.Less(t, span.Start, span.End, name)
		there := text[span.Start:span.End]
		decoded, err := hex.DecodeString(onlyHex(there))
		if err != nil || len(decoded) != len(v) {
			decoded = decodeBase64(there)
		}
		assert.Equal(t, v, digest.Value(decoded), "%s: %q", name, there)
	}
	// In UTF-16 a place counts two bytes a unit, and in Latin-1 one a character.
	plain := "Größe.bin: " + value + "\n"
	wide := []byte{0xff, 0xfe}
	for _, u := range utf16.Encode([]rune(plain)) {
		wide = append(wide, byte(u), byte(u>>8))
	}
	m, err := Parse(string(wide), Options{})
	require.NoError(t, err)
	m.Locate(string(wide))
	assert.Equal(t, Span{2 + 2*11, 2 + 2*(11+64)}, m.Entries.At(0).Span())
	narrow := "Gr\xf6\xdfe.bin: " + value + "\n"
	m, err = Parse(narrow, Options{})
	require.NoError(t, err)
	m.Locate(narrow)
	assert.Equal(t, Span{11, 11 + 64}, m.Entries.At(0).Span())
}

// TestSpansOfTheRest: problems are told as their lines, and what was left aside as its part.
func TestSpansOfTheRest(t *testing.T) {
	t.Parallel()
	text := "SHA256 (gauge.bin) = " + d256 + "\n  MD5 (cut.bin) = abcd  \nbuilt from commit " + strings.Repeat(
		"ab", 20,
	) + "\n"
	m, err := Parse(text, Options{})
	require.NoError(t, err)
	m.Locate(text)
	require.Len(t, m.Problems, 1)
	assert.Equal(t, "MD5 (cut.bin) = abcd", text[m.Problems[0].Span.Start:m.Problems[0].Span.End])
	require.Len(t, m.LeftAside, 1)
	assert.Equal(t, strings.Repeat("ab", 20), text[m.LeftAside[0].Span.Start:m.LeftAside[0].Span.End])
}

// TestManySpans: places of many values in one line are found in one go through it.
func TestManySpans(t *testing.T) {
	t.Parallel()
	var text strings.Builder
	text.WriteString("[")
	const n = 20_000
	for i := range n {
		if i > 0 {
			text.WriteString(",")
		}
		text.WriteString(
			`{"name":"part-` + hex.EncodeToString(
				[]byte{byte(i >> 8), byte(i)},
			) + `.bin","sha256":"` + valueOf(
				t, "sha256", string(rune(i)),
			).String() + `"}`,
		)
	}
	text.WriteString("]")
	m, err := Parse(text.String(), Options{})
	require.NoError(t, err)
	require.Equal(t, n, m.Entries.Len())
	m.Locate(text.String())
	for _, e := range m.Entries.All() {
		require.Equal(t, e.Digest.String(), text.String()[e.Span().Start:e.Span().End])
	}
}
