package manifest

import (
	"encoding/base64"
	"fmt"
	"regexp"
	"strings"
	"unicode/utf8"

	"endeixis/core/digest"
)

// A token is a value in a line that has the form of a digest.
type token struct {
	// from and to are its place in the line; what stands before it as its own label is
	// part of it: “sha256:…”.
	from, to int
	value    digest.Value
	// algorithm is what the value itself says it is of, or [digest.Unknown].
	algorithm digest.Algorithm
	// encoded is set for a value that is not in plain hexadecimal.
	encoded bool
	// grouped is set for a value in groups, and pieces are those of one that is written
	// in several rows.
	grouped bool
	pieces  string
	// wrong says what is wrong with a value that is damaged; then value is nil.
	wrong string
}

// isAlnum reports whether a byte is an ASCII letter or digit.
func isAlnum(c byte) bool {
	return '0' <= c && c <= '9' || 'a' <= c|0x20 && c|0x20 <= 'z'
}

func isHex(c byte) bool {
	return '0' <= c && c <= '9' || 'a' <= c|0x20 && c|0x20 <= 'f'
}

// bounded reports whether what stands in text from a to b is a word by itself: not part
// of a file's name, of an address or of a longer word.
func bounded(text string, a, b int) bool {
	if a > 0 {
		switch c := text[a-1]; {
		case isAlnum(c), c == '_', c == '-', c == '.', c == '/', c == '%', c == '+', c == '~', c == '@', c == '#', c == '$', c == '&', c == '?':
			return false
		case c == '\\':
			if a > 1 {
				return false
			}
		case c >= 0x80:
			r, _ := utf8.DecodeLastRuneInString(text[:a])
			if isWordRune(r) {
				return false
			}
		}
	}
	if b < len(text) {
		switch c := text[b]; {
		case isAlnum(c), c == '_', c == '-', c == '/', c == '%', c == '+', c == '~', c == '@', c == '$', c == '&', c == '\\':
			return false
		case c == '.':
			return b+1 == len(text) || text[b+1] == ' '
		case c >= 0x80:
			r, _ := utf8.DecodeRuneInString(text[b:])
			return !isWordRune(r)
		}
	}
	return true
}

func isWordRune(r rune) bool {
	// Signs of languages without blanks between words may stand at a value.
	return r < 0x2000 && r != 0xa0 && r != 0xab && r != 0xbb && r != 0xb7
}

// encodedExpression finds the forms of values in base64 and as names: subresource
// integrity, digest fields of RFC 9530, names of RFC 6920, and a label that is followed
// by base64.
var encodedExpression = regexp.MustCompile(`(?i)\bni://[^/\s]*/([a-z0-9-]+);([A-Za-z0-9_-]+)(?:\?[^\s"'<>]*)?` +
	`|/\.well-known/ni/([a-z0-9-]+)/([A-Za-z0-9_-]+)(?:\?[^\s"'<>]*)?` +
	`|\bnih:([a-z0-9-]+);([0-9a-f-]+)(?:;([0-9a-z]))?` +
	`|\b(sha-?[0-9]+|sha3-[0-9]+|md5)=:([A-Za-z0-9+/]+={0,2}):` +
	`|\{(s?sha[0-9-]*|md5)\}([A-Za-z0-9+/]+={0,2})` +
	`|\b(sha-?(?:1|224|256|384|512)|sha3-(?:224|256|384|512)|md5|blake2b|blake2s|blake3)[-=:]([A-Za-z0-9+/_-]{22,88}={0,2})`)

// looseBase64 finds what has the form of a digest in base64 and of nothing shorter.
var looseBase64 = regexp.MustCompile(`[A-Za-z0-9+/_-]{22,88}={0,2}`)

// tokensIn finds the values in a line that have the form of digests, whole or damaged,
// in their order. With crc set, eight digits are one; known is the algorithm that the
// text announces, or [digest.Unknown].
func tokensIn(text string, crc bool, known digest.Algorithm) []token {
	var out []token
	out = encodedIn(text, out)
	taken := func(from, to int) bool {
		for i := range out {
			if from < out[i].to && out[i].from < to {
				return true
			}
		}
		return false
	}
	out = groupedIn(text, out, taken, known)
	for i := 0; i < len(text); {
		if !isAlnum(text[i]) && text[i] != '?' && text[i] != '*' {
			i++
			continue
		}
		from := i
		hexes, others, dots := 0, 0, 0
		for i < len(text) {
			c := text[i]
			if isHex(c) {
				hexes++
			} else if isAlnum(c) || c == '?' || c == '*' || c == '#' {
				others++
			} else if n := ellipsis(text[i:]); n > 0 && i > from && i+n < len(text) && isHex(text[i+n]) {
				dots++
				i += n
				continue
			} else {
				break
			}
			i++
		}
		at, end := from, i
		if others > 0 && strings.HasPrefix(text[at:end], "0x") || strings.HasPrefix(text[at:end], "0X") {
			at, others = at+2, others-1
			hexes--
		}
		for at < end && (text[at] == '*' || text[at] == '#') {
			at++ // a mark before a name
			others--
		}
		n := end - at
		if n < 8 || taken(from, end) || !bounded(text, from, end) && !(labelledPath(text, from) && bounded(text[from:], 0, n)) {
			continue
		}
		t := token{from: from, to: end}
		switch {
		case dots > 0:
			if hexes < 8 || others > 0 {
				continue
			}
			t.wrong = "it is abbreviated"
		case others > 0:
			// A word is none; a digest with a wrong letter is nearly all digits.
			if n < 28 || (hexes*100 < n*85 && !strings.ContainsAny(text[at:end], "?*")) || !hasDigit(text[at:end]) && hexes > 0 {
				if n < 32 || strings.Trim(text[at:end], "?*xX0") != "" {
					continue
				}
			}
			t.wrong = "it holds a character that is not hexadecimal"
		case n == 8:
			if !crc {
				continue
			}
			fallthrough
		default:
			value, ok := decodeHex([]byte(text[at:end]))
			switch {
			case n >= 16 && known == digest.Unknown && allDigits(text[at:end]):
				continue // a long number
			case ok && (digest.OfSize(len(value)) != nil):
				t.value = value
			case n >= 16 && (n > 20 || !allDigits(text[at:end])):
				t.wrong = fmt.Sprintf("it has %d hexadecimal characters, which is the length of no digest that is known here, so it may be cut short", n)
			default:
				continue
			}
		}
		out = append(out, t)
		out = inOrder(out)
	}
	return attachLabels(text, out)
}

// labelledPath reports whether a label and a slash stand before a place: “sha256/…”.
func labelledPath(text string, at int) bool {
	if at < 4 || text[at-1] != '/' {
		return false
	}
	start := at - 1
	for start > 0 && isAlnum(text[start-1]) {
		start--
	}
	_, ok := algorithmOf(text[start : at-1])
	return ok && (start == 0 || text[start-1] == ' ' || text[start-1] == '"' || text[start-1] == '=')
}

// inOrder moves the last of the tokens to its place.
func inOrder(out []token) []token {
	for i := len(out) - 1; i > 0 && out[i].from < out[i-1].from; i-- {
		out[i], out[i-1] = out[i-1], out[i]
	}
	return out
}

func ellipsis(s string) int {
	switch {
	case strings.HasPrefix(s, "..."):
		return 3
	case strings.HasPrefix(s, "…"):
		return len("…")
	case strings.HasPrefix(s, ".."):
		return 2
	}
	return 0
}

func hasDigit(s string) bool { return strings.ContainsAny(s, "0123456789") }

func allDigits(s string) bool { return strings.Trim(s, "0123456789") == "" }

// attachLabels takes “sha256:” before a value for part of it.
func attachLabels(text string, out []token) []token {
	for i := range out {
		t := &out[i]
		if t.algorithm != digest.Unknown || t.from < 4 || text[t.from-1] != ':' && text[t.from-1] != '=' && text[t.from-1] != '/' {
			continue
		}
		start := t.from - 1
		for start > 0 && (isAlnum(text[start-1]) || strings.IndexByte("-_/", text[start-1]) >= 0) {
			start--
		}
		if start == t.from-1 || start > 0 && strings.IndexByte(" \t([{\"'`,;|>=:*", text[start-1]) < 0 {
			continue
		}
		if i > 0 && start < out[i-1].to {
			continue
		}
		a, ok := algorithmOf(text[start : t.from-1])
		if !ok {
			continue
		}
		t.from, t.algorithm = start, a
		if t.value != nil && a.Size() != len(t.value) {
			t.value, t.wrong = nil, wrongLength(a, len(t.value))
		}
	}
	return out
}

// notADigest begins the sentence of a BadDigest whose value stands where the
// digest is expected; what is wrong with it follows.
const notADigest = "what stands in the place of the digest cannot be one: "

// wrongLength says what is wrong with a value that is not of the length of the
// algorithm that it stands under.
func wrongLength(a digest.Algorithm, n int) string {
	return fmt.Sprintf("it has %d hexadecimal characters, and a %s digest has %d, so it may be cut short", 2*n, a, 2*a.Size())
}

// groupedIn finds values in groups: pairs, fours, eights and longer, all of one length.
func groupedIn(text string, out []token, taken func(from, to int) bool, known digest.Algorithm) []token {
	for i := 0; i < len(text); {
		if !isHex(text[i]) || i > 0 && isAlnum(text[i-1]) {
			i++
			continue
		}
		from := i
		first := groupAt(text, i)
		width := first
		digits := make([]byte, 0, 128)
		groups := 0
		to := from
		for at := from; ; {
			n := groupAt(text, at)
			skip := 0
			if n != width && strings.HasPrefix(text[at:], "0x") {
				skip = 2
				if groups == 0 {
					width = groupAt(text, at+2)
				}
				n = groupAt(text, at+2)
			}
			if n != width || n == 0 || len(digits) > 256 {
				break
			}
			digits = append(digits, text[at+skip:at+skip+n]...)
			groups++
			to = at + skip + n
			gap := gapAt(text, to)
			if gap == 0 {
				break
			}
			at = to + gap
		}
		i = max(to, from+first)
		if i == from {
			i++
		}
		if groups < 2 || width%2 != 0 || taken(from, to) || !bounded(text, from, to) || width <= 4 && dumpOffset.MatchString(text[:from]) {
			continue
		}
		value, ok := decodeHex(digits)
		if !ok || digest.OfSize(len(value)) == nil || len(value) < 16 {
			continue
		}
		// Two whole values beside each other are two.
		if width >= 32 && digest.OfSize(width/2) != nil && known.Size() != len(value) {
			i = from + width
			continue
		}
		if width == 4 && groups == 8 && to-from == 39 && strings.Count(text[from:to], ":") == 7 && known.Size() != len(value) {
			continue // an address of the network (RFC 4291, section 2.2)
		}
		if width == 8 && len(value) <= 16 && known.Size() != len(value) {
			continue // four checksums of eight digits, in columns
		}
		out = inOrder(append(out, token{from: from, to: to, value: value, grouped: true}))
	}
	return out
}

// dumpOffset is what stands before the bytes in a dump of memory.
var dumpOffset = regexp.MustCompile(`^(?:0x)?[0-9a-fA-F]{6,16}:?\s+$`)

// groupAt returns how many digits stand at a place, if they are a word.
func groupAt(text string, at int) int {
	end := at
	for end < len(text) && isHex(text[end]) {
		end++
	}
	if end < len(text) && isAlnum(text[end]) {
		return 0
	}
	return end - at
}

// gapAt returns how long the sign between two groups at a place is, or 0.
func gapAt(text string, at int) int {
	if at >= len(text) {
		return 0
	}
	switch text[at] {
	case ':', '-', '\t':
		return 1
	case ',':
		if at+1 < len(text) && text[at+1] == ' ' {
			return 2
		}
		return 1
	case ' ':
		n := 1
		for n < 3 && at+n < len(text) && text[at+n] == ' ' {
			n++
		}
		return n
	}
	return 0
}

// encodedIn finds values in base64 and as names.
func encodedIn(text string, out []token) []token {
	if !mayBeEncoded(text) {
		return out
	}
	for _, m := range encodedExpression.FindAllStringSubmatchIndex(text, -1) {
		part := func(i int) string {
			if m[2*i] < 0 {
				return ""
			}
			return text[m[2*i]:m[2*i+1]]
		}
		from, to := m[0], m[1]
		var name, body string
		hexadecimal, check := false, ""
		switch {
		case part(1) != "":
			name, body = part(1), part(2)
		case part(3) != "":
			name, body = part(3), part(4)
			for from > 0 && text[from-1] > ' ' && strings.IndexByte("\"'<(", text[from-1]) < 0 {
				from--
			}
		case part(5) != "":
			name, body, check, hexadecimal = part(5), strings.ReplaceAll(part(6), "-", ""), part(7), true
		case part(8) != "":
			name, body = part(8), part(9)
		case part(10) != "":
			name, body = part(10), part(11)
		default:
			name, body = part(12), part(13)
			if to < len(text) && (isAlnum(text[to]) || text[to] == '/' || text[to] == '+') {
				continue
			}
			if strings.Trim(body, "0123456789abcdefABCDEF") == "" && digest.OfSize(len(body)/2) != nil {
				continue // plain hexadecimal is read elsewhere
			}
			if from > 0 && (isNameByte(text[from-1]) || text[from-1] == '/') {
				continue
			}
		}
		t := token{from: from, to: to, encoded: true}
		a, ok := algorithmOf(name)
		if !ok {
			if strings.HasPrefix(text[from:], "ni") {
				t.wrong = "it is a name with a value that is cut to fewer bits, or of an unknown algorithm"
				out = append(out, t)
			}
			continue
		}
		t.algorithm = a
		var value digest.Value
		if hexadecimal {
			value, _ = decodeHex([]byte(body))
			if check != "" && value != nil && !luhn16(body, check) {
				value = nil
				t.wrong = "its check digit does not fit"
			}
		} else {
			value = decodeBase64(body)
		}
		switch {
		case t.wrong != "":
		case value == nil || len(value) != a.Size():
			// A word behind a label, such as “sha256-readme.txt”, is no value.
			if !hexadecimal && (len(body) < a.Size() || !mixed(body)) {
				continue
			}
			t.wrong = fmt.Sprintf("it is not as long as a %s digest, so it may be cut short", a)
		default:
			t.value = value
		}
		out = append(out, t)
	}
	return out
}

// base64After finds values in base64 behind labels of their algorithms.
func base64After(text string, labels []label) []token {
	var out []token
	for i, l := range labels {
		end := len(text)
		if i+1 < len(labels) {
			end = labels[i+1].from
		}
		at := looseBase64.FindStringIndex(text[l.to:end])
		if at == nil {
			continue
		}
		from, to := l.to+at[0], l.to+at[1]
		body := text[from:to]
		if !bounded(text, from, to) || strings.Trim(text[l.to:from], separators+"\"'`()") != "" {
			continue
		}
		t := token{from: from, to: to, algorithm: l.algorithm, encoded: true}
		if value := encodedValue(body, l.algorithm); value != nil {
			t.value = value
		} else if !mixed(body) || looksLikeFile(body) || to-from < 32 || !strings.ContainsAny(body, "+/=") {
			continue
		} else {
			t.wrong = fmt.Sprintf("it is not as long as a %s digest, so it may be cut short", l.algorithm)
		}
		out = append(out, t)
	}
	return out
}

// encodedValue returns the digest that a word is in base64, or nil for one that is of
// another length or may be a word by chance, as none is that has its padding.
func encodedValue(word string, a digest.Algorithm) digest.Value {
	if padded := len(word)%4 == 0 && strings.HasSuffix(word, "="); !padded && (!mixed(word) || looksLikeFile(word)) {
		return nil
	}
	if value := decodeBase64(word); len(value) == a.Size() {
		return value
	}
	return nil
}

// encodedAtEnd returns the digest in base64 that a row begins or ends with, as the list's
// own name announces it; of a checksum nothing, for which any word might do.
func encodedAtEnd(text string, a digest.Algorithm) []token {
	if a.Size() < 16 {
		return nil
	}
	first, _, _ := strings.Cut(text, " ")
	if value := encodedValue(first, a); value != nil {
		return []token{{to: len(first), value: value, algorithm: a, encoded: true}}
	}
	at := strings.LastIndexByte(text, ' ') + 1
	if value := encodedValue(text[at:], a); value != nil {
		return []token{{from: at, to: len(text), value: value, algorithm: a, encoded: true}}
	}
	return nil
}

// mixed reports whether a word has capitals, small letters and digits, as nearly every
// value in base64 does. One of a thousand has no digits; but no word goes from capitals to
// small letters and back as often.
func mixed(s string) bool {
	if strings.ToLower(s) == s || strings.ToUpper(s) == s {
		return false
	}
	if hasDigit(s) {
		return true
	}
	changes := 0
	for i := 1; i < len(s); i++ {
		if isLetter(s[i-1]) && isLetter(s[i]) && (s[i-1] < 'a') != (s[i] < 'a') {
			changes++
		}
	}
	return 4*changes > len(s) && len(s) >= 22
}

func mayBeEncoded(text string) bool {
	for _, part := range []string{"ni:", "nih:", "NI:", "/ni/", "sha", "SHA", "md5", "MD5", "Sha", "blake"} {
		if strings.Contains(text, part) {
			return true
		}
	}
	return false
}

// decodeBase64 decodes either alphabet, with and without padding, or returns nil.
func decodeBase64(s string) digest.Value {
	s = strings.TrimRight(s, "=")
	encoding := base64.RawStdEncoding
	if strings.ContainsAny(s, "-_") {
		encoding = base64.RawURLEncoding
	}
	value, err := encoding.DecodeString(s)
	if err != nil {
		return nil
	}
	return value
}

// luhn16 reports whether the check digit of an nih name fits (RFC 6920, section 7).
func luhn16(digits, check string) bool {
	sum, double := 0, true
	for i := len(digits) - 1; i >= 0; i-- {
		n := hexDigit(digits[i])
		if double {
			n *= 2
			n = n/16 + n%16
		}
		sum += n
		double = !double
	}
	return (16-sum%16)%16 == hexDigit(check[0])
}

func hexDigit(c byte) int {
	switch {
	case '0' <= c && c <= '9':
		return int(c - '0')
	case 'a' <= c|0x20 && c|0x20 <= 'f':
		return int(c|0x20-'a') + 10
	}
	return -1
}
