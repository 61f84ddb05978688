package manifest

import (
	_ "embed" // the words
	"slices"
	"strings"
	"unicode"

	"endeixis/core/digest"
)

// wordList holds the words by which lists in several languages say what they hold.
//
//go:embed words.txt
var wordList string

// The words of wordList, by what they stand for. A label is compared after [foldWords].
var (
	vocabulary     = readWords(wordList)
	nameWords      = vocabulary["name"]
	addressWords   = vocabulary["address"]
	sizeWords      = vocabulary["size"]
	hashWords      = vocabulary["hash"]
	algorithmWords = vocabulary["algorithm"]
	// otherWords are said of values that look like digests and are none of a file.
	otherWords = vocabulary["other"]
	// lead are words that begin what is said about a file, not its name.
	lead = vocabulary["lead"]
	// endings are usual endings of files. A word in a sentence with one of them is a
	// name of a file; without, it needs a digit or a hyphen to be one.
	endings = vocabulary["endings"]
	// topDomains are ends of names of hosts that are no endings of files.
	topDomains = vocabulary["domains"]
)

// readWords reads sections of words.
func readWords(text string) map[string]map[string]bool {
	out := map[string]map[string]bool{}
	var section map[string]bool
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		switch {
		case line == "" || line[0] == '#':
		case line[0] == '[':
			section = map[string]bool{}
			out[strings.Trim(line, "[]")] = section
		default:
			for w := range strings.FieldsSeq(line) {
				section[foldWords(w)] = true
			}
		}
	}
	return out
}

func wordSet(list string) map[string]bool {
	return readWords("[all]\n" + list)["all"]
}

// foldWords brings a label into one form: small letters and digits alone, so that
// “File-Name”, “fileName” and “FILE NAME” are one.
func foldWords(label string) string {
	plain := true
	for i := 0; i < len(label); i++ {
		if c := label[i]; (c < 'a' || c > 'z') && (c < '0' || c > '9') {
			plain = false
			break
		}
	}
	if plain {
		return label
	}
	if !isASCII(label) {
		return strings.Map(func(r rune) rune {
			if unicode.IsLetter(r) || unicode.IsDigit(r) || unicode.Is(unicode.Mn, r) {
				return unicode.ToLower(r)
			}
			return -1
		}, label)
	}
	out := make([]byte, 0, len(label))
	for i := range len(label) {
		c := label[i]
		if classes[c]&upperClass != 0 {
			c |= 0x20
		}
		if classes[c]&wordClass != 0 {
			out = append(out, c)
		}
	}
	return string(out)
}

// maxWord bounds the words that hasWord looks at: longer ones are none that is known.
const maxWord = 32

// hasWord reports whether one of the words of a text, in the form of splitKey, is wanted.
// It keeps nothing of them, for it is asked of every row.
func hasWord(text string, wanted func(word []byte) bool) bool {
	if !isASCII(text) {
		return slices.ContainsFunc(splitKey(text), func(w string) bool { return wanted([]byte(w)) })
	}
	var word [maxWord]byte
	n, lower := 0, false
	ends := func() bool {
		found := n > 0 && n <= maxWord && wanted(word[:n])
		n = 0
		return found
	}
	for i := 0; i < len(text); i++ {
		class := classes[text[i]]
		if class&wordClass == 0 {
			if ends() {
				return true
			}
			lower = false
			continue
		}
		if class&upperClass != 0 && lower && ends() {
			return true
		}
		lower = class&lowerClass != 0
		if n < maxWord {
			c := text[i]
			if class&upperClass != 0 {
				c |= 0x20
			}
			word[n] = c
		}
		n++
	}
	return ends()
}

// isHashBytes reports whether a word speaks of digests.
func isHashBytes(w []byte) bool {
	return len(w) <= maxWord && hashWordSizes[len(w)] && hashWords[string(w)]
}

// hashWordSizes are the lengths of such words, which most others do not have.
var hashWordSizes = func() (sizes [maxWord + 1]bool) {
	for w := range hashWords {
		sizes[len(w)] = true
	}
	return sizes
}()

// splitKey cuts the name of a field or member into its words: “md5Digest”,
// “InstallerSha256” and “sha-256_sum” alike.
func splitKey(key string) []string {
	if isASCII(key) {
		return splitASCII(key)
	}
	var out []string
	var word []rune
	flush := func() {
		if len(word) > 0 {
			out = append(out, strings.ToLower(string(word)))
			word = word[:0]
		}
	}
	lower := false
	for _, r := range key {
		switch {
		case !unicode.IsLetter(r) && !unicode.IsDigit(r):
			flush()
			lower = false
			continue
		case unicode.IsUpper(r) && lower:
			flush()
		}
		lower = unicode.IsLower(r)
		word = append(word, r)
	}
	flush()
	return out
}

// splitASCII does it for one that is all ASCII.
func splitASCII(key string) []string {
	var out []string
	from, lower := 0, false
	for i := range len(key) + 1 {
		class := uint8(0)
		if i < len(key) {
			class = classes[key[i]]
		}
		if class&wordClass != 0 && (class&upperClass == 0 || !lower) {
			lower = class&lowerClass != 0
			continue
		}
		if from < i {
			out = append(out, strings.ToLower(key[from:i]))
		}
		from, lower = i, false
		if class&wordClass == 0 {
			from = i + 1
		}
	}
	return out
}

// labelPlaces finds what may be labels in a text, one after the other.
func labelPlaces(text string) (out [][2]int) {
	for i := 0; i+1 < len(text); i++ {
		if !labelLetters[text[i]] || !labelBegins(text[i:]) {
			continue
		}
		if n := labelLength(text[i:]); n > 0 {
			out = append(out, [2]int{i, i + n})
			i += n - 1
		}
	}
	return out
}

// labelLetters are the letters that names of algorithms begin with.
var labelLetters = func() (table [256]bool) {
	for _, c := range []byte("bcmrsBCMRS") {
		table[c] = true
	}
	return table
}()

// labelBegins is a quick look before the expression is tried.
func labelBegins(text string) bool {
	second := text[1] | 0x20
	switch text[0] | 0x20 {
	case 's':
		return second == 'h'
	case 'm':
		return second == 'd'
	case 'b':
		return second == 'l' || text[1] == '2' || text[1] == '3'
	case 'r':
		return second == 'i' || second == 'm'
	case 'c':
		return second == 'r' || second == 'k'
	}
	return false
}

// algorithmOf reads a label such as “SHA-256 checksum”, “sha256sum” or “b2”.
func algorithmOf(label string) (digest.Algorithm, bool) {
	if len(label) > 40 || !mayHaveLabel(label) {
		return digest.Unknown, false
	}
	if a, err := digest.Parse(label); err == nil {
		return a, true
	}
	cut := withoutTail(label)
	if cut == label || cut == "" {
		return digest.Unknown, false
	}
	if cut == "sha" || cut == "SHA" {
		return digest.Unknown, false // “shasum” is the name of a family
	}
	a, err := digest.Parse(cut)
	return a, err == nil
}

// A label is an algorithm that is named in a line.
type label struct {
	from, to  int
	algorithm digest.Algorithm
}

// labelsIn finds the algorithms that a text names as words of their own; those inside
// of file names are none.
func labelsIn(text string) []label {
	if !mayHaveLabel(text) {
		return nil
	}
	var out []label
	for _, at := range labelPlaces(text) {
		from, to := at[0], at[1]
		for to < len(text) && text[to] == '-' && hashWords[foldWords(firstWord(text[to+1:]))] {
			to += 1 + len(firstWord(text[to+1:])) // “SHA-256-Prüfsumme”
		}
		joined := len(out) > 0 && out[len(out)-1].to == from-1
		if !labelStarts(text, from, joined) || !labelStops(text, to) || !labelWordFits(text, from, at[1], to) {
			continue
		}
		if a, ok := algorithmOf(text[from:at[1]]); ok {
			out = append(out, label{from, to, a})
		}
	}
	return out
}

// labelStarts reports whether a label that begins at a place is a word by itself. joined is
// set for one right behind another label.
func labelStarts(text string, from int, joined bool) bool {
	if from == 0 {
		return true
	}
	switch c := text[from-1]; c {
	case '-': // a hyphen belongs to an option alone: “-sha256”
		return from == 1 || text[from-2] == ' ' || text[from-2] == '-'
	case '/': // a part of a path
		return joined
	default:
		return c != '.' && !isNameByte(c)
	}
}

// labelStops reports whether a label that ends at a place is a word by itself.
func labelStops(text string, to int) bool {
	if to == len(text) {
		return true
	}
	return !isNameByte(text[to]) && (text[to] != '.' || to+1 == len(text) || !isNameByte(text[to+1]))
}

// labelWordFits reports whether the word of a label, which ends at end and with what is
// joined to it at to, is no name of a list, “SHA256SUMS”, and no pair of digits, “b3”.
func labelWordFits(text string, from, end, to int) bool {
	word := text[from:end]
	if strings.HasSuffix(word, "SUMS") && strings.ToUpper(word) == word && !strings.Contains(word, " ") {
		return false
	}
	return len(word) != 2 || from == 0 && (to == len(text) || strings.IndexByte(":=(", text[to]) >= 0)
}

// firstWord returns the letters and digits that a text begins with.
func firstWord(text string) string {
	for i, r := range text {
		if !unicode.IsLetter(r) && !unicode.IsDigit(r) {
			return text[:i]
		}
	}
	return text
}

// mayHaveLabel is a quick look before the expression is tried.
func mayHaveLabel(text string) bool {
	for i := 0; i+1 < len(text); i++ {
		if labelLetters[text[i]] && labelBegins(text[i:]) && labelGoesOn(text, i) {
			return true
		}
	}
	return false
}

// labelGoesOn looks at the third letter of what begins like a label.
func labelGoesOn(text string, i int) bool { //nolint:cyclop // a list of letters, one line for each family of algorithms
	third := byte(0)
	if i+2 < len(text) {
		third = text[i+2] | 0x20
	}
	switch text[i] | 0x20 {
	case 's', 'b':
		return third == 'a' || i == 0 && (text[1] == '2' || text[1] == '3')
	case 'm':
		return third == '5' || third == '-' || third == '_'|0x20 || third == ' '
	case 'r':
		return text[i+1]|0x20 == 'i' && third == 'p' || text[i+1]|0x20 == 'm' && third == 'd'
	case 'c':
		return text[i+1]|0x20 == 'r' && third == 'c' || text[i+1]|0x20 == 'k' && third == 's'
	}
	return false
}

// isNameByte reports whether a byte can be inside of a file's name where it is
// certainly not at an end of it.
func isNameByte(c byte) bool {
	return '0' <= c && c <= '9' || 'a' <= c|0x20 && c|0x20 <= 'z' || c == '_' || c == '-' || c == '+' || c == '~' ||
		c == '%' ||
		c >= 0x80
}

// looksLikeFile reports whether a word is a file's name by its form: an ending that
// starts with a letter, and no host, address or number of a version.
func looksLikeFile(word string) bool {
	word = word[strings.LastIndexByte(word, '/')+1:]
	word = word[strings.LastIndexByte(word, '\\')+1:]
	dot := strings.LastIndexByte(word, '.')
	if dot <= 0 || dot == len(word)-1 || strings.ContainsAny(word, "@<>\"|*?=") {
		return false
	}
	stem, ending := word[:dot], strings.ToLower(word[dot+1:])
	switch {
	case !isEnding(ending), topDomains[ending] && !strings.ContainsAny(stem, "_+~ ") && !hasVersion(stem):
		return false
	case endings[ending]:
		return true
	}
	return strings.ContainsAny(stem, "-_0123456789") && len(ending) <= 6
}

// isEnding reports whether a word has the form of a file's ending.
func isEnding(word string) bool {
	if len(word) > 12 || !isLetter(word[0]) && !endings[word] {
		return false
	}
	return strings.Trim(word, "abcdefghijklmnopqrstuvwxyz0123456789_") == ""
}

// hasVersion reports whether a digit stands in a word behind a “v” or a sign.
func hasVersion(stem string) bool {
	for i := 1; i < len(stem); i++ {
		if hasDigit(stem[i:i+1]) && strings.IndexByte("-_v", stem[i-1]) >= 0 {
			return true
		}
	}
	return false
}

// isWordOf reports whether all words of a key are in one of the sets.
func isWordOf(words []string, sets ...map[string]bool) bool {
	joined := foldWords(strings.Join(words, ""))
	return slices.ContainsFunc(sets, func(s map[string]bool) bool { return s[joined] })
}
