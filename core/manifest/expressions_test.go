package manifest

import (
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"endeixis/core/digest"
)

// What is asked of every row is written out by hand, because expressions take too long. Here
// the same is written as expressions, and both have to say the same.
var (
	labelExpression = regexp.MustCompile(
		`(?i)^(?:sha[-_ ]?2[-_/ ](?:224|256|384|512)|sha[-_ ]?3[-_/ ](?:224|256|384|512)|sha[-_ ]?512[-_/ ]t?(?:224|256)|` +
			`sha[-_ ]?(?:224|256|384|512)|sha[-_]?1|sha[ ]1|sha|md[-_ ]?5|blake[-_ ]?2[bs](?:p)?(?:[-_](?:128|160|224|256|384|512))?|blake[-_ ]?3|blake2|b2|b3|` +
			`ripemd[-_ ]?160|rmd[-_]?160|crc[-_ ]?32[-_/]?(?:iso[-_]hdlc|bzip2|cksum|castagnoli|c|posix)?|crc|cksum)` +
			`(?:[-_ ]?(?:check)?sums?|[-_ ]?digests?|[-_ ]?hash(?:es)?)?`,
	)
	labelTailExpression = regexp.MustCompile(`(?i)[-_ ]?(?:(?:check)?sums?|digests?|hash(?:es)?|value|hex)$`)
	pointerExpression   = regexp.MustCompile(
		`^\s*(?:[-=]+>|[→⇒⟶➜➔–—]|<[-=]+|[←⇐]|\.{3,}|…+)\s*|\s*(?:[-=]+>|[→⇒⟶➜➔–—]|<[-=]+|[←⇐]|\.{3,}|…+)\s*$`,
	)
	crcExpression     = regexp.MustCompile(`^(\S|\S.*\S)[ \t]+([0-9A-Fa-f]{8})$`)
	itemExpression    = regexp.MustCompile(`^\d{1,3}[.)]\s+`)
	quotedExpression  = regexp.MustCompile(`^([A-Za-z_]\w*)\s+["']([^"']+)["']\s*[,;]?$`)
	offsetExpression  = regexp.MustCompile(`^(?:0x)?[0-9a-fA-F]{6,16}:?\s+$`)
	versionExpression = regexp.MustCompile(`[-_v]\d`)
)

// drawn makes texts of parts, so that what is looked for comes up often.
func drawn(parts ...string) *rapid.Generator[string] {
	return rapid.Custom(func(t *rapid.T) string {
		return strings.Join(rapid.SliceOfN(rapid.SampledFrom(parts), 0, 8).Draw(t, "parts"), "")
	})
}

func TestLabelsAreWhatTheExpressionSays(t *testing.T) {
	labels := drawn(
		"sha", "SHA", "md", "blake", "b", "ripemd", "rmd", "crc", "cksum", "-", "_", " ", "/", "1", "2", "3", "5", "2b",
		"2s", "p", "t", "32", "160", "224", "256", "384", "512", "iso-hdlc", "bzip2", "castagnoli", "posix", "sum",
		"checksum", "Sums", "digest", "hashes", "x", ":",
	)
	rapid.Check(t, func(t *rapid.T) {
		text := labels.Draw(t, "text") + "."
		n := 0
		if at := labelExpression.FindStringIndex(text); at != nil {
			n = at[1]
		}
		require.Equal(t, n, labelLength(text), "%q", text)
		require.Equal(t, labelTailExpression.ReplaceAllString(text, ""), withoutTail(text), "%q", text)
		cut := strings.TrimSuffix(text, ".")
		require.Equal(t, labelTailExpression.ReplaceAllString(cut, ""), withoutTail(cut), "%q", cut)
	})
}

func TestPointersAreWhatTheExpressionSays(t *testing.T) {
	texts := drawn("->", "=>", "-", "=", "<", ">", "→", "–", "←", "…", ".", "...", " ", "gauge.img", "7", "é")
	rapid.Check(t, func(t *rapid.T) {
		text := texts.Draw(t, "text")
		trimmed := strings.TrimSpace(text)
		want := trimmed
		if trimmed != "" {
			rest, _ := strings.CutPrefix(trimmed, "> ")
			rest = strings.TrimSpace(rest)
			if out := pointerExpression.ReplaceAllString(rest, ""); out != "" {
				want = out
			} else {
				want = rest
			}
			if !pointerByte(trimmed[0]) && !pointerByte(trimmed[len(trimmed)-1]) {
				want = trimmed
			}
		}
		require.Equal(t, strings.TrimSpace(want), withoutPointers(text), "%q", text)
	})
}

func TestRowsAreWhatTheExpressionsSay(t *testing.T) {
	texts := drawn(
		"1", "12", ".", ")", " ", "  ", "\t", "gauge.img", "0x", "0badcafe", "DEADBEEF", "12345678", ":", "\"", "'",
		"sha256", "_", ",", ";", "v2", "-3", "é",
	)
	rapid.Check(t, func(t *rapid.T) {
		text := texts.Draw(t, "text")
		if text == "" {
			return
		}
		require.Equal(
			t, len(itemExpression.FindString(text)) > 0 && strings.TrimSpace(text) != "",
			listNumber(text) > 0 && strings.TrimSpace(text) != "", "%q", text,
		)
		require.Equal(t, offsetExpression.MatchString(text), dumpOffset(text), "%q", text)
		require.Equal(t, versionExpression.MatchString(text), hasVersion(text), "%q", text)
		name, digits, ok := crcRow(text)
		if m := crcExpression.FindStringSubmatch(text); m != nil {
			require.Equal(t, []string{m[1], m[2]}, []string{name, digits}, "%q", text)
		} else {
			require.False(t, ok, "%q", text)
		}
		f, ok := quotedField(text)
		if m := quotedExpression.FindStringSubmatch(text); m != nil {
			require.Equal(t, field{m[1], m[2]}, f, "%q", text)
		} else {
			require.False(t, ok, "%q", text)
		}
	})
}

func TestKeysAreCutAlikeInASCIIAndBeyond(t *testing.T) {
	keys := drawn("md5", "Digest", "sha", "SHA", "-", "_", "256", "sum", "Sum", " ", "X", "x", "9")
	rapid.Check(t, func(t *rapid.T) {
		key := keys.Draw(t, "key")
		beyond := splitKey("é " + key)
		require.Equal(t, beyond[1:], append([]string{}, splitKey(key)...), "%q", key)
		require.Equal(t, "é"+foldWords(key), foldWords("é"+key))
	})
}

func TestALabelIsParsedByTheTable(t *testing.T) {
	for _, a := range digest.All() {
		got, err := digest.Parse(strings.ToUpper(a.String()))
		require.NoError(t, err)
		require.Equal(t, a, got)
	}
}
