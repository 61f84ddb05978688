package manifest

import (
	"fmt"
	"strings"
	"unicode"

	"endeixis/core/digest"
	"endeixis/core/plain"
)

// A ValueError says why a text is not one digest.
type ValueError struct {
	// Digits counts the hexadecimal digits, and At is the place of the first character that
	// is none, counted in characters from 1, or 0.
	Digits, At int
	// Reason is the sentence, and Advice what to do.
	Reason, Advice string
}

// Error is the sentence with what to do.
func (e *ValueError) Error() string { return e.Reason + "; " + e.Advice }

// maxGiven bounds a text that is one digest.
const maxGiven = 4096

// ParseValue reads a text that somebody gave as one digest: in hexadecimal, in whatever
// groups and over several lines, or in base64; with the name of its algorithm before it or
// without. Otherwise it returns a [*ValueError].
func ParseValue(text string) (Entry, error) {
	text = strings.TrimSpace(spaces.Replace(text))
	e, label, err := valueAlone(text)
	if err == nil {
		return e, nil
	}
	// It may be a line of a list, with a name beside the value.
	if label != digest.Unknown && err.At == 0 || len(text) > maxGiven {
		return Entry{}, err
	}
	if m, _ := Parse(text, Options{Given: true}); m.Entries.Len() == 1 {
		e := m.Entries.At(0)
		return ValueEntry(e.Algorithm, e.Digest, 1), nil
	}
	return Entry{}, err
}

// valueAlone reads a text that is one value and nothing else, but for the label that is
// returned.
func valueAlone(text string) (Entry, digest.Algorithm, *ValueError) {
	text = strings.TrimSpace(spaces.Replace(text))
	if len(text) > maxGiven {
		return Entry{}, digest.Unknown, &ValueError{
			Reason: fmt.Sprintf("it is %d characters long, which no digest is", len(text)),
			Advice: "give one value, or the whole text with --paste",
		}
	}
	if found := encodedIn(text, nil); len(found) == 1 && found[0].from == 0 && found[0].to == len(text) &&
		found[0].digest != nil {
		return ValueEntry(found[0].algorithm, found[0].digest, 1), found[0].algorithm, nil
	}
	label, body := labelOfValue(text)
	v, err := valueOfBody(label, body)
	if err != nil {
		return Entry{}, label, err
	}
	return ValueEntry(labelFor(label, v), v, 1), label, nil
}

// WrongValue says why the first line of a text that ends in digits, of which there are
// enough for half a digest, ends in no digest. It is empty where there is no such line.
func WrongValue(text string) string {
	for line := range strings.Lines(text) {
		_, _, err := valueAlone(line[strings.LastIndexAny(line, ":=")+1:])
		if err != nil && err.At == 0 && err.Digits >= digest.MD5.Size() {
			return err.Reason
		}
	}
	return ""
}

// ValuesIn returns every value in a text that somebody gave, in the order in which they
// stand, whatever is written around them. One that could not be read has no digest.
func ValuesIn(text string) []Entry {
	m, _ := Parse(text, Options{Given: true})
	if m.Entries.Len() == 0 {
		if e, _, err := valueAlone(text); err == nil {
			return []Entry{e}
		}
	}
	out := make([]Entry, m.Entries.Len())
	for i := range out {
		out[i] = m.Entries.At(i)
	}
	return out
}

// labelFor returns the algorithm of a value under a label that may name a family.
func labelFor(label digest.Algorithm, v digest.Value) digest.Algorithm {
	if more := ofFamily(label, len(v)); more != digest.Unknown {
		return more
	}
	return label
}

// labelOfValue cuts the name of an algorithm from the front of a value: “SHA-256: …”,
// “sha256-…”, “MD5 = …”.
//
//nolint:cyclop // one case for each place in which a label stands
func labelOfValue(text string) (digest.Algorithm, string) {
	for i, r := range text {
		if i > 40 {
			break
		}
		if r != ':' && r != '=' && r != '-' && r != ' ' && r != '\n' {
			continue
		}
		if a, ok := algorithmOf(strings.TrimSpace(text[:i])); ok && !isHexWord(text[:i]) {
			if more, ok := algorithmOf(strings.TrimSpace(firstTokens(text, i))); ok && more != a {
				continue // “SHA3-256”, “SHA-512/256”
			}
			if i+1 < len(text) && '0' <= text[i+1] && text[i+1] <= '9' && a == digest.SHA1 &&
				strings.EqualFold(text[:i], "sha") {
				continue // “sha-256:…”
			}
			return a, strings.TrimLeft(text[i:], " :=-\n\t")
		}
	}
	return digest.Unknown, text
}

// firstTokens returns a text up to the end of the word behind a place.
func firstTokens(text string, at int) string {
	end := at + 1
	for end < len(text) && (isAlnum(text[end]) || text[end] == '/') {
		end++
	}
	return text[:end]
}

func isHexWord(text string) bool { return len(text) >= 8 && allHex(text) }

// betweenDigits are characters between the digits of a value that belong to none.
const betweenDigits = " \t\r\n:-.,'\"|\\`_()[]{}<>"

// valueOfBody decodes a value without its label.
func valueOfBody(label digest.Algorithm, body string) (digest.Value, *ValueError) {
	var digits strings.Builder
	at, place := 0, 0
	var odd rune
	for _, r := range strings.ReplaceAll(body, "0x", "  ") {
		place++
		switch {
		case r < 0x80 && isHex(byte(r)):
			digits.WriteRune(r)
		case strings.ContainsRune(betweenDigits, r) || unicode.IsSpace(r):
		case at == 0:
			at, odd = place, r
		}
	}
	n := digits.Len()
	if at == 0 {
		if v, ok := decodeHex(digits.String()); ok &&
			(label == digest.Unknown && digest.OfSize(len(v)) != nil ||
				label != digest.Unknown && (label.Size() == len(v) || ofFamily(label, len(v)) != digest.Unknown)) {
			return v, nil
		}
	}
	if v := base64Value(label, body); v != nil {
		return v, nil
	}
	return nil, valueError(label, n, at, odd)
}

// base64Value decodes a value in base64 that is of its label's length, or of any
// algorithm's where there is none and it cannot be a word.
func base64Value(label digest.Algorithm, body string) digest.Value {
	word := strings.Join(strings.Fields(body), "")
	v := decodeBase64(word)
	switch {
	case v == nil:
		return nil
	case label != digest.Unknown && (len(v) == label.Size() || ofFamily(label, len(v)) != digest.Unknown):
		return v
	case label == digest.Unknown && len(v) >= 16 && digest.OfSize(len(v)) != nil && mixed(word) &&
		!mostlyHex([]byte(word)):
		return v
	}
	return nil
}

// valueError words why a text is no digest.
func valueError(label digest.Algorithm, digits, at int, odd rune) *ValueError {
	e := &ValueError{
		Digits: digits, At: at,
		Advice: "compare it with where it was copied from, character by character, and give the whole value",
	}
	looksLike := map[rune]string{
		'O': " (a zero?)", 'o': " (a zero?)", 'l': " (a one?)", 'I': " (a one?)", 'i': " (a one?)", 'S': " (a five?)",
		's': " (a five?)", 'g': " (a nine?)", 'Z': " (a two?)",
	}
	switch {
	case digits == 0 && at == 0:
		e.Reason = "there is no digit in it"
	case at > 0 && digits < minDigits:
		e.Reason = "it does not look like a digest"
	case at > 0:
		e.Reason = fmt.Sprintf(
			"its character %d is %s, which is no hexadecimal digit%s; beside it there are %d digits", at,
			plain.Quoted(string(odd)), looksLike[odd], digits,
		)
	case label != digest.Unknown:
		e.Reason = fmt.Sprintf("it has %d digits, and a %s digest has %d", digits, label, 2*label.Size())
	default:
		e.Reason = fmt.Sprintf(
			"it has %d digits, which is the length of no digest that is known here%s", digits, nearestLength(digits),
		)
	}
	return e
}

// nearestLength tells of a value that is a few digits too short or too long.
func nearestLength(digits int) string {
	for _, a := range []digest.Algorithm{
		digest.MD5, digest.SHA1, digest.SHA224, digest.SHA256, digest.SHA384, digest.SHA512,
	} {
		n := 2 * a.Size()
		switch {
		case digits < n && n-digits <= 4:
			return fmt.Sprintf(", and %s short of %s", plain.Count(n-digits, "digit"), a)
		case digits > n && digits-n <= 4:
			return fmt.Sprintf(", and %s more than %s has", plain.Count(digits-n, "digit"), a)
		}
	}
	return ""
}
