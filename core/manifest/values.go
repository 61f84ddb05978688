package manifest

import (
	"encoding/base32"
	"encoding/base64"
	"fmt"
	"regexp"
	"strings"
	"unicode/utf8"

	"endeixis/core/digest"
)

// A value is a part of a line that has the form of a digest.
type value struct {
	// from and to are its place in the line; what stands before it as its own label is
	// part of it: “sha256:…”.
	from, to int
	digest   digest.Value
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

func isHex(c byte) bool { return classes[c]&hexClass != 0 }

// bounded reports whether what stands in text from a to b is a word by itself: not part
// of a file's name, of an address or of a longer word.
func bounded(text string, a, b int) bool {
	if a > 0 {
		switch c := text[a-1]; {
		case isAlnum(c),
			c == '_',
			c == '-',
			c == '.',
			c == '/',
			c == '%',
			c == '+',
			c == '~',
			c == '@',
			c == '#',
			c == '$',
			c == '&',
			c == '?':
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
		case isAlnum(c),
			c == '_',
			c == '-',
			c == '/',
			c == '%',
			c == '+',
			c == '~',
			c == '@',
			c == '$',
			c == '&',
			c == '\\':
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

// encodedExpression is, at the beginning of a text, one of the forms of values in base64 and as names: subresource
// integrity, digest fields of RFC 9530, names of RFC 6920, and a label that is followed
// by base64.
var encodedExpression = regexp.MustCompile(`(?i)^(?:ni://[^/\s]*/([a-z0-9-]+);([A-Za-z0-9_-]+)(?:\?[^\s"'<>]*)?` +
	`|/\.well-known/ni/([a-z0-9-]+)/([A-Za-z0-9_-]+)(?:\?[^\s"'<>]*)?` +
	`|nih:([a-z0-9-]+);([0-9a-f-]+)(?:;([0-9a-z]))?` +
	`|(sha-?[0-9]+|sha3-[0-9]+|md5)=:([A-Za-z0-9+/]+={0,2}):` +
	`|urn:(sha-?(?:1|224|256|384|512)|md5|blake2b|blake2s|blake3):([A-Z2-7]{26,104}={0,6})` +
	`|\{(s?sha[0-9-]*|md5)\}([A-Za-z0-9+/]+={0,2})` +
	`|(sha-?(?:1|224|256|384|512)|sha3-(?:224|256|384|512)|md5|blake2b|blake2s|blake3)[-=:]([A-Za-z0-9+/_-]{22,88}={0,2}))`)

// brokenBase64 is, at the beginning of a text, a labelled value in base64 with padding in
// the middle of it.
var brokenBase64 = regexp.MustCompile(
	`(?i)^(sha-?(?:1|224|256|384|512)|md5)=([A-Za-z0-9+/_-]{4,}={1,2}[A-Za-z0-9+/_-]{4,}={0,2})`,
)

// looseBase64 finds what has the form of a digest in base64 and of nothing shorter.
var looseBase64 = regexp.MustCompile(`[A-Za-z0-9+/_-]{22,103}={0,2}`)

// valuesIn finds the values in a line that have the form of digests, whole or damaged,
// in their order. With crc set, eight digits are one; known is the algorithm that the
// text announces, or [digest.Unknown].
func valuesIn(text string, crc bool, known digest.Algorithm) []value {
	out := encodedIn(text, nil)
	out = groupedIn(text, out, known)
	for i := 0; i < len(text); {
		if !isAlnum(text[i]) && text[i] != '?' && text[i] != '*' {
			i++
			continue
		}
		run := runAt(text, i)
		i = run.to
		if run.to-run.start < minDigits || overlaps(out, run.from, run.to) || !run.standsAlone(text) {
			continue
		}
		v := value{from: run.from, to: run.to}
		if run.read(text[run.start:run.to], &v, crc, known) {
			out = inOrder(append(out, v))
		}
	}
	return attachLabels(text, out)
}

// digestsIn is [valuesIn] of a text that announces no algorithm and no checksum.
func digestsIn(text string) []value { return valuesIn(text, false, digest.Unknown) }

// minDigits is the length of the shortest value, a checksum.
const minDigits = 8

// overlaps reports whether a place is a part of a value that was found already.
func overlaps(values []value, from, to int) bool {
	for i := range values {
		if from < values[i].to && values[i].from < to {
			return true
		}
	}
	return false
}

// A run is a word of digits, of which some may be damaged.
type run struct {
	// from and to are its place, and start where its digits begin, behind “0x” or a mark.
	from, start, to int
	// digits, others and dots count hexadecimal digits, other characters and places
	// where digits were left out.
	digits, others, dots int
}

// runAt measures the word that begins in a text at a place.
func runAt(text string, at int) run {
	r := run{from: at, start: at}
	i := at
	for i < len(text) {
		c := text[i]
		switch {
		case isHex(c):
			r.digits++
		case isAlnum(c) || c == '?' || c == '*' || c == '#':
			r.others++
		default:
			n := ellipsis(text[i:])
			if n == 0 || i == at || i+n >= len(text) || !isHex(text[i+n]) {
				r.to = i
				r.skipMarks(text)
				return r
			}
			r.dots++
			i += n - 1
		}
		i++
	}
	r.to = i
	r.skipMarks(text)
	return r
}

// skipMarks passes over what stands before the digits and belongs to none.
func (r *run) skipMarks(text string) {
	word := text[r.from:r.to]
	if r.others > 0 && strings.HasPrefix(word, "0x") || strings.HasPrefix(word, "0X") {
		r.start, r.others, r.digits = r.start+2, r.others-1, r.digits-1
	}
	for r.start < r.to && (text[r.start] == '*' || text[r.start] == '#') {
		r.start++ // a mark before a name
		r.others--
	}
}

// standsAlone reports whether a run is a word by itself, or the end of a labelled path.
func (r *run) standsAlone(text string) bool {
	return bounded(text, r.from, r.to) || labelledPath(text, r.from) && bounded(text[r.from:], 0, r.to-r.start)
}

// maxNumber is how many decimal digits a number has that is no damaged digest, and
// minDamaged how many digits a word has at least that is one.
const (
	maxNumber  = 20
	minDamaged = 16
)

// read takes a run for a value, whole or damaged, and reports whether it is one.
func (r *run) read(word string, v *value, crc bool, known digest.Algorithm) bool {
	n := len(word)
	switch {
	case r.dots > 0:
		v.wrong = "it is abbreviated"
		return r.digits >= minDigits && r.others == 0
	case r.others > 0:
		v.wrong = "it holds a character that is not hexadecimal"
		return r.damaged(word)
	case n == minDigits && !crc, n >= minDamaged && known == digest.Unknown && allDigits(word):
		return false
	}
	decoded, ok := decodeHex(word)
	if ok && digest.OfSize(len(decoded)) != nil {
		v.digest = decoded
		return true
	}
	v.wrong = fmt.Sprintf(
		"it has %d hexadecimal characters, which is the length of no digest that is known here, so it may be cut short",
		n,
	)
	return n >= minDamaged && (n > maxNumber || !allDigits(word))
}

// damaged tells a digest with wrong characters from a word: it is nearly all digits, or
// was made illegible.
func (r *run) damaged(word string) bool {
	const nearly, shortest = 85, 28
	n := len(word)
	if n >= shortest && (r.digits*100 >= n*nearly || strings.ContainsAny(word, "?*")) &&
		(hasDigit(word) || r.digits == 0) {
		return true
	}
	return n >= 32 && strings.Trim(word, "?*xX0") == ""
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
func inOrder(out []value) []value {
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

func hasDigit(s string) bool {
	for i := range len(s) {
		if classes[s[i]]&digitClass != 0 {
			return true
		}
	}
	return false
}

func allDigits(s string) bool {
	for i := range len(s) {
		if classes[s[i]]&digitClass == 0 {
			return false
		}
	}
	return true
}

// attachLabels takes “sha256:” before a value for part of it.
func attachLabels(text string, out []value) []value {
	for i := range out {
		v := &out[i]
		if v.algorithm != digest.Unknown || v.from < 4 || strings.IndexByte(":=/", text[v.from-1]) < 0 {
			continue
		}
		start := labelStart(text, v.from-1)
		if start == v.from-1 || i > 0 && start < out[i-1].to {
			continue
		}
		a, ok := algorithmOf(text[start : v.from-1])
		if !ok {
			continue
		}
		v.from, v.algorithm = start, a
		if v.digest != nil && a.Size() != len(v.digest) {
			v.digest, v.wrong = nil, wrongLength(a, len(v.digest))
		}
	}
	return out
}

// labelStart returns where the word begins that ends at a place, or that place where it
// is a part of something longer.
func labelStart(text string, end int) int {
	start := end
	for start > 0 && (isAlnum(text[start-1]) || strings.IndexByte("-_/", text[start-1]) >= 0) {
		start--
	}
	if start > 0 && strings.IndexByte(" \t([{\"'`,;|>=:*", text[start-1]) < 0 {
		return end
	}
	return start
}

// notADigest begins the sentence of a BadDigest whose value stands where the
// digest is expected; what is wrong with it follows.
const notADigest = "what stands in the place of the digest cannot be one: "

// wrongLength says what is wrong with a value that is not of the length of the
// algorithm that it stands under.
func wrongLength(a digest.Algorithm, n int) string {
	return fmt.Sprintf(
		"it has %d hexadecimal characters, and a %s digest has %d, so it may be cut short", 2*n, a, 2*a.Size(),
	)
}

// groupedIn finds values in groups: pairs, fours, eights and longer, all of one length.
func groupedIn(text string, out []value, known digest.Algorithm) []value {
	for i := 0; i < len(text); {
		if !isHex(text[i]) || i > 0 && isAlnum(text[i-1]) {
			i++
			continue
		}
		g := groupsAt(text, i)
		i = max(g.to, i+g.first, i+1)
		decoded := g.decode(text)
		if decoded == nil || overlaps(out, g.from, g.to) {
			continue
		}
		announced := known.Size() == len(decoded)
		switch {
		case announced:
		case g.width >= 32 && digest.OfSize(g.width/2) != nil: // two whole values beside each other are two
			i = g.from + g.width
			continue
		case g.isAddress(text), g.width == 8 && len(decoded) <= 16: // four checksums of eight digits, in columns
			continue
		}
		out = inOrder(append(out, value{from: g.from, to: g.to, digest: decoded, grouped: true}))
	}
	return out
}

// groups are groups of digits of one length, one after the other.
type groups struct {
	from, to int
	// first is the length of the first word, and width that of each group.
	first, width int
	count        int
	// digits counts them all.
	digits int
}

// maxGrouped bounds the digits of one value in groups.
const maxGrouped = 256

// groupsAt finds the groups that begin at a place.
func groupsAt(text string, from int) groups {
	g := groups{from: from, to: from, first: groupAt(text, from)}
	g.width = g.first
	for at := from; ; {
		n, skip := groupAt(text, at), 0
		if strings.HasPrefix(text[at:], "0x") {
			skip = 2
			n = groupAt(text, at+skip)
			if g.count == 0 {
				g.width = n
			}
		}
		if n != g.width || n == 0 || g.digits > maxGrouped {
			return g
		}
		g.digits += n
		g.count++
		g.to = at + skip + n
		gap := gapAt(text, g.to)
		if gap == 0 {
			return g
		}
		at = g.to + gap
	}
}

// decode returns the digest that groups are, or nil.
func (g *groups) decode(text string) digest.Value {
	if g.count < 2 || g.width%2 != 0 || g.digits < 2*leastAlone || digest.OfSize(g.digits/2) == nil ||
		!bounded(text, g.from, g.to) || g.width <= 4 && dumpOffset(text[:g.from]) {
		return nil
	}
	digits := make([]byte, 0, g.digits)
	for at := g.from; at < g.to; at += g.width + gapAt(text, at+g.width) {
		if strings.HasPrefix(text[at:], "0x") {
			at += len("0x")
		}
		digits = append(digits, text[at:at+g.width]...)
	}
	decoded, _ := decodeHex(digits)
	return decoded
}

// isAddress reports whether groups are an address of the network (RFC 4291, section 2.2).
func (g *groups) isAddress(text string) bool {
	return g.width == 4 && g.count == 8 && g.to-g.from == 39 && strings.Count(text[g.from:g.to], ":") == 7
}

// An offset in a dump of memory has so many digits.
const (
	leastOffset = 6
	maxOffset   = 16
)

// dumpOffset reports whether a text is what stands before the bytes in a dump of memory.
func dumpOffset(text string) bool {
	word := strings.TrimRight(text, " \t")
	if word == text {
		return false
	}
	word = strings.TrimPrefix(strings.TrimSuffix(word, ":"), "0x")
	return leastOffset <= len(word) && len(word) <= maxOffset && allHex(word)
}

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
func encodedIn(text string, out []value) []value {
	if !mayBeEncoded(text) {
		return out
	}
	for i := 0; i < len(text); i++ {
		if !mayBeginExpression(text, i) {
			continue
		}
		m := encodedExpression.FindStringSubmatchIndex(text[i:])
		if m == nil {
			continue
		}
		x, ok := expressionAt(text, i, m)
		i += m[1] - 1
		if !ok {
			continue
		}
		if v, ok := x.value(); ok {
			out = append(out, v)
		}
	}
	return brokenIn(text, out)
}

// mayBeginExpression is a quick look before encodedExpression is tried at a place.
func mayBeginExpression(text string, i int) bool {
	switch text[i] | 0x20 {
	case '{' | 0x20, '/' | 0x20:
		return true
	case 'n', 's', 'm', 'b', 'u':
		return (i == 0 || !isAlnum(text[i-1]) && text[i-1] != '_') && i+1 < len(text) &&
			strings.IndexByte("ihdlr", text[i+1]|0x20) >= 0
	}
	return false
}

// brokenIn finds labelled values in base64 with padding in the middle of them.
func brokenIn(text string, out []value) []value {
	if strings.Count(text, "=") <= 1 {
		return out
	}
	for i := 0; i < len(text); i++ {
		if !mayBeginExpression(text, i) {
			continue
		}
		m := brokenBase64.FindStringSubmatchIndex(text[i:])
		if m == nil {
			continue
		}
		from, to := i, i+m[1]
		if a, ok := algorithmOf(text[i+m[2] : i+m[3]]); ok && mixed(text[i+m[4]:i+m[5]]) && !overlaps(out, from, to) {
			out = inOrder(
				append(
					out,
					value{
						from: from, to: to, algorithm: a, encoded: true,
						wrong: "a sign that ends a value in base64 stands in the middle of it",
					},
				),
			)
		}
		i = to - 1
	}
	return out
}

// An expression is a value with the name of its algorithm, as a standard writes it.
type expression struct {
	from, to int
	// name is that of the algorithm, and body the value.
	name, body string
	// hexadecimal is set for a body that is no base64, and check is its check digit, or "".
	hexadecimal bool
	check       string
	// base32 is set for a body that is.
	base32 bool
	// standard is set for a name by RFC 6920, of which there is no doubt.
	standard bool
}

// expressionAt takes apart what encodedExpression found at a place, unless it is something
// else.
func expressionAt(text string, at int, m []int) (expression, bool) {
	part := func(i int) string {
		if m[2*i] < 0 {
			return ""
		}
		return text[at+m[2*i] : at+m[2*i+1]]
	}
	x := expression{from: at, to: at + m[1]}
	switch {
	case part(1) != "":
		x.name, x.body, x.standard = part(1), part(2), true
	case part(3) != "":
		x.name, x.body = part(3), part(4)
		for x.from > 0 && text[x.from-1] > ' ' && strings.IndexByte("\"'<(", text[x.from-1]) < 0 {
			x.from--
		}
		x.standard = strings.HasPrefix(text[x.from:], "ni")
	case part(5) != "":
		x.name = part(5)
		x.body = strings.ReplaceAll(part(6), "-", "")
		x.check = part(7)
		x.hexadecimal = true
		x.standard = true
	case part(8) != "":
		x.name, x.body = part(8), part(9)
	case part(10) != "":
		x.name, x.body, x.base32 = part(10), part(11), true
		return x, !allHex(x.body)
	case part(12) != "":
		x.name, x.body = part(12), part(13)
	default:
		x.name, x.body = part(14), part(15)
		return x, x.labelled(text)
	}
	return x, true
}

// labelled reports whether a label and what follows it are one, and the value is not in
// plain hexadecimal, which is read elsewhere.
func (x *expression) labelled(text string) bool {
	switch {
	case x.to < len(text) && (isAlnum(text[x.to]) || text[x.to] == '/' || text[x.to] == '+'),
		x.from > 0 && (isNameByte(text[x.from-1]) || text[x.from-1] == '/'):
		return false
	}
	return strings.Trim(x.body, "0123456789abcdefABCDEF") != "" || digest.OfSize(len(x.body)/2) == nil
}

// value decodes an expression, and reports whether it is a value, whole or damaged.
func (x *expression) value() (value, bool) {
	v := value{from: x.from, to: x.to, encoded: true}
	a, ok := algorithmOf(x.name)
	if !ok {
		v.wrong = "it is a name with a value that is cut to fewer bits, or of an unknown algorithm"
		return v, x.standard
	}
	v.algorithm = a
	decoded := decodeBase64(x.body)
	if x.base32 {
		decoded = decodeBase32(x.body)
	}
	if x.hexadecimal {
		decoded, _ = decodeHex(x.body)
		if x.check != "" && decoded != nil && !luhn16(x.body, x.check) {
			v.wrong = "its check digit does not fit"
			return v, true
		}
	}
	if decoded != nil && len(decoded) == a.Size() {
		v.digest = decoded
		return v, true
	}
	v.wrong = fmt.Sprintf("it is not as long as a %s digest, so it may be cut short", a)
	// A word behind a label, such as “sha256-readme.txt”, is no value.
	return v, x.hexadecimal || x.base32 || len(x.body) >= 22 && mixed(x.body)
}

// base64After finds values in base64 behind labels of their algorithms.
func base64After(text string, labels []label) []value {
	var out []value
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
		if !bounded(text, from, to) || !onlyEncoding(text[l.to:from]) {
			continue
		}
		if decoded := decodeBase32(body); len(decoded) == l.algorithm.Size() {
			to += len(text[to:end]) - len(strings.TrimLeft(text[to:end], "="))
			out = append(out, value{from: from, to: to, digest: decoded, algorithm: l.algorithm, encoded: true})
			continue
		}
		v := value{from: from, to: to, algorithm: l.algorithm, encoded: true}
		if decoded := encodedValue(body, l.algorithm); decoded != nil {
			v.digest = decoded
		} else if !mixed(body) || looksLikeFile(body) || to-from < 32 || !strings.ContainsAny(body, "+/=") {
			continue
		} else {
			v.wrong = fmt.Sprintf("it is not as long as a %s digest, so it may be cut short", l.algorithm)
		}
		out = append(out, v)
	}
	return out
}

// onlyEncoding reports whether nothing stands between a label and a value but separators
// and the name of the encoding.
func onlyEncoding(text string) bool {
	switch foldWords(text) {
	case "", "base64", "base32":
		return strings.Trim(text, separators+"\"'`()baseBASE6432") == ""
	}
	return false
}

// encodedValue returns the digest that a word is in base64, or nil for one that is of
// another length or may be a word by chance, as none is that has its padding.
func encodedValue(word string, a digest.Algorithm) digest.Value {
	if padded := len(word)%4 == 0 && strings.HasSuffix(word, "="); !padded && (!mixed(word) || looksLikeFile(word)) {
		return nil
	}
	if decoded := decodeBase64(word); len(decoded) == a.Size() {
		return decoded
	}
	return nil
}

// encodedAtEnd returns the digest in base64 that a row begins or ends with, as the list's
// own name announces it; of a checksum nothing, for which any word might do.
func encodedAtEnd(text string, a digest.Algorithm) []value {
	if a == digest.Unknown {
		return paddedAtEnd(text)
	}
	if a.Size() < 16 {
		return nil
	}
	first, _, _ := strings.Cut(text, " ")
	if decoded := encodedValue(first, a); decoded != nil {
		return []value{{to: len(first), digest: decoded, algorithm: a, encoded: true}}
	}
	at := strings.LastIndexByte(text, ' ') + 1
	if decoded := encodedValue(text[at:], a); decoded != nil {
		return []value{{from: at, to: len(text), digest: decoded, algorithm: a, encoded: true}}
	}
	return nil
}

// paddedAtEnd returns the digest in base64 that a row begins or ends with, where its
// padding leaves no doubt that it is base64, and there is a name beside it.
func paddedAtEnd(text string) []value {
	first, _, two := strings.Cut(text, " ")
	if !two || !strings.Contains(text, "=") {
		return nil
	}
	at := strings.LastIndexByte(text, ' ') + 1
	for _, v := range []value{{to: len(first)}, {from: at, to: len(text)}} {
		word := text[v.from:v.to]
		if len(word)%4 != 0 || !strings.HasSuffix(word, "=") || !mixed(word) || strings.Trim(word, "=") == "" {
			continue
		}
		if decoded := decodeBase64(word); len(decoded) >= 16 && digest.OfSize(len(decoded)) != nil {
			v.digest, v.encoded = decoded, true
			return []value{v}
		}
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

// mayBeEncoded is a quick look before the expression is tried: a name of RFC 6920, or a
// long word with capitals, small letters and more than digits.
func mayBeEncoded(text string) bool {
	run, seen := 0, uint8(0)
	for i := 0; i < len(text); i++ {
		class := classes[text[i]]
		if class&codeClass == 0 {
			run, seen = 0, 0
			continue
		}
		if run++; class&hexClass == 0 {
			seen |= class
		}
		if run >= leastCode && seen&(upperClass|lowerClass) == upperClass|lowerClass {
			return true
		}
	}
	return strings.Contains(text, "urn:") || strings.Contains(text, "nih:") || strings.Contains(text, "ni:/") ||
		strings.Contains(text, "/ni/") ||
		strings.Contains(text, "}")
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

// decodeBase32 decodes a value in capitals (RFC 4648, section 6), with and without padding,
// or returns nil. One that may be in hexadecimal is none.
func decodeBase32(s string) digest.Value {
	s = strings.TrimRight(s, "=")
	if allHex(s) || strings.ToUpper(s) != s {
		return nil
	}
	value, err := base32.StdEncoding.WithPadding(base32.NoPadding).DecodeString(s)
	if err != nil || digest.OfSize(len(value)) == nil || len(value) < leastAlone {
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

// hexDigit returns the value of a hexadecimal digit, or -1.
func hexDigit(c byte) int { return int(hexDigits[c]) }

var hexDigits = func() (table [256]int8) {
	for c := range table {
		switch c := byte(c); { //nolint:gosec // the table has 256 places
		case '0' <= c && c <= '9':
			table[c] = int8(c - '0')
		case 'a' <= c|0x20 && c|0x20 <= 'f':
			table[c] = int8(c|0x20-'a') + 10
		default:
			table[c] = -1
		}
	}
	return table
}()
