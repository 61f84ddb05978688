package manifest

import (
	"net/url"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"
)

// separators stand between the parts of a row and belong to none of them.
const separators = " \t:=,;|"

// pointerByte reports whether a byte may be one of a pointer.
func pointerByte(c byte) bool { return c >= 0x80 || strings.IndexByte("-=<>.", c) >= 0 }

// withoutPointers cuts from both ends of a text what leads from a name to its value or
// back: arrows, dashes, rows of dots.
func withoutPointers(text string) string {
	text = strings.TrimSpace(text)
	if text == "" || !pointerByte(text[0]) && !pointerByte(text[len(text)-1]) {
		return text
	}
	if rest, ok := strings.CutPrefix(text, "> "); ok {
		text = strings.TrimLeft(rest, " \t") // of “=>”, whose first sign is gone
	}
	from := pointerAt(text)
	if from == len(text) {
		return text
	}
	rest := strings.TrimLeft(text[from:], " \t")
	if out := strings.TrimRight(rest[:len(rest)-pointerBefore(rest)], " \t"); out != "" {
		return out
	}
	return text
}

// pointerAt returns how long the pointer is that a text begins with, or 0.
func pointerAt(text string) int {
	shaft := len(text) - len(strings.TrimLeft(text, "-="))
	dots := len(text) - len(strings.TrimLeft(text, "."))
	switch {
	case text == "":
		return 0
	case shaft > 0 && shaft < len(text) && text[shaft] == '>':
		return shaft + 1
	case text[0] == '<':
		if n := len(text) - 1 - len(strings.TrimLeft(text[1:], "-=")); n > 0 {
			return 1 + n
		}
		return 0
	case dots >= leastDots:
		return dots
	case strings.HasPrefix(text, "…"):
		return len(text) - len(strings.TrimLeft(text, "…"))
	}
	if first, n := utf8.DecodeRuneInString(text); strings.ContainsRune(arrows, first) {
		return n
	}
	return 0
}

// pointerBefore returns how long the pointer is that a text ends with, or 0.
func pointerBefore(text string) int {
	if text == "" {
		return 0
	}
	switch last := text[len(text)-1]; {
	case last == '>':
		if shaft := strings.TrimRight(text[:len(text)-1], "-="); len(shaft) < len(text)-1 {
			return len(text) - len(shaft)
		}
		return 0
	case last == '-' || last == '=':
		if shaft := strings.TrimRight(text, "-="); strings.HasSuffix(shaft, "<") {
			return len(text) - len(shaft) + 1
		}
		return 0
	case last == '.':
		if n := len(text) - len(strings.TrimRight(text, ".")); n >= leastDots {
			return n
		}
		return 0
	case strings.HasSuffix(text, "…"):
		return len(text) - len(strings.TrimRight(text, "…"))
	}
	if last, n := utf8.DecodeLastRuneInString(text); strings.ContainsRune(arrows, last) {
		return n
	}
	return 0
}

const (
	// arrows are pointers of one sign.
	arrows = "→⇒⟶➜➔–—←⇐"
	// leastDots is how many dots lead the eye.
	leastDots = 3
)

// trimSeparators cuts separators from both ends, brackets and quotes around the whole,
// and marks of Markdown.
func trimSeparators(s string) string {
	for {
		s = strings.Trim(s, separators)
		if s == "" || s[0] < utf8.RuneSelf && strings.IndexByte("([{<\"'`*_", s[0]) < 0 {
			return s
		}
		before := s
		for _, pair := range []string{"()", "[]", "{}", "<>", "\"\"", "''", "``", "“”", "„“", "«»", "‘’", "****", "**", "____", "__"} {
			first, last := pair[:len(pair)/2], pair[len(pair)/2:]
			if pair == "„“" {
				first, last = "„", "“"
			}
			if len(s) > len(first)+len(last) && strings.HasPrefix(s, first) && strings.HasSuffix(s, last) &&
				!strings.Contains(s[len(first):len(s)-len(last)], first) {
				s = s[len(first) : len(s)-len(last)]
			}
		}
		if s == before {
			return s
		}
	}
}

var (
	markdownLink = regexp.MustCompile(`!?\[([^\]]*)\]\(<?([^)\s>]+)>?(?:\s+"[^"]*")?\)`)
	sizeForm     = regexp.MustCompile(
		`(?i)^\(?(\d{1,20}|\d{1,3}(?:[,.' \x{a0}\x{202f}]\d{3})+)(?:\s*(b|bytes?|octets?|oct|bajt(?:y|ów)?|bayt|bait(?:s|ów)?|байт(?:а|ов)?|byte|字节|字節|バイト|바이트))?\)?$`,
	)
	grouped3 = regexp.MustCompile(`^\d{1,3}(?:,\d{3})+$`)
	dateForm = regexp.MustCompile(
		`^(?:\d{4}[-./]\d{1,2}[-./]\d{1,2}(?:T[\d:.]+(?:Z|[+-]\d\d:?\d\d)?)?|\d{1,2}[-./]\d{1,2}[-./]\d{2,4}|` +
			`\d{1,2}[-.]?(?:Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec)[a-z]*[-.]?\d{2,4}|(?:Mon|Tue|Wed|Thu|Fri|Sat|Sun|Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec)[a-z]*,?)$`,
	)
	timeForm = regexp.MustCompile(`^\d{1,2}:\d{2}(?::\d{2})?(?:\.\d+)?$`)
	modeForm = regexp.MustCompile(`^[-dlbcps][-rwxsStT]{9}[.+@]?$|^0?[0-7]{3,4}$|^0?100[0-7]{3}$`)
	// optionForm is a field within a line.
	optionForm = regexp.MustCompile(`^[A-Za-z_]+=\S*$`)
)

// A field is a row of a record: a label, and what stands behind it.
type field struct{ label, text string }

// fieldOf takes a row apart that is a field of a record. ok tells whether it is one.
func fieldOf(text string) (f field, ok bool) {
	if f, ok := quotedField(text); ok {
		return f, true
	}
	at := labelEnd(text)
	if at <= 0 || at > maxFieldLabel {
		return f, false
	}
	rest := text[at:]
	for _, sign := range [...]string{":=", "->", "：", ":", "="} {
		if after, ok := strings.CutPrefix(rest, sign); ok {
			return field{strings.TrimRight(text[:at], " \t"), strings.TrimLeft(after, " \t")}, true
		}
	}
	return f, false
}

// maxFieldLabel bounds the label of a field.
const maxFieldLabel = 64

// labelEnd returns where the label of a field ends: at a colon, an equals sign or an arrow
// behind words. It is -1 where something else comes first.
func labelEnd(text string) int {
	for i := 0; i < len(text) && i <= maxFieldLabel; i++ {
		switch kind := labelBytes[text[i]]; {
		case kind == wordByte:
		case kind == signByte:
			return i
		case kind == wideByte:
			r, n := utf8.DecodeRuneInString(text[i:])
			if r == '：' {
				return i
			}
			if !wideInLabel(r, i == 0) {
				return -1
			}
			i += n - 1
		case kind == otherByte, i == 0:
			return -1
		case kind == arrowByte && text[i-1] == ' ' && strings.HasPrefix(text[i:], "->"):
			return i
		}
	}
	return -1
}

// wideInLabel reports whether a character beyond ASCII can stand in a label, or begin one.
func wideInLabel(r rune, first bool) bool {
	return unicode.IsLetter(r) || !first && (unicode.IsNumber(r) || unicode.Is(unicode.Mn, r))
}

// What a byte is in the label of a field.
const (
	otherByte uint8 = iota
	wordByte
	// labelByte is one that no label begins with.
	labelByte
	signByte
	// arrowByte is a hyphen: part of an arrow behind a blank.
	arrowByte
	wideByte
)

var labelBytes = func() (table [256]uint8) {
	for c := range table {
		switch {
		case c >= utf8.RuneSelf:
			table[c] = wideByte
		case isLetter(byte(c)):
			table[c] = wordByte
		case c == ':', c == '=':
			table[c] = signByte
		case c == '-':
			table[c] = arrowByte
		case '0' <= c && c <= '9', strings.IndexByte("_()./% ", byte(c)) >= 0:
			table[c] = labelByte
		}
	}
	return table
}()

// quotedField takes a field of a recipe apart: a word, and a value in quotes.
func quotedField(text string) (f field, ok bool) {
	end := strings.TrimRight(text, " \t,;")
	if end == "" || end[len(end)-1] != '"' && end[len(end)-1] != '\'' || !isLetter(text[0]) && text[0] != '_' ||
		len(text)-len(end) > len(" ,") {
		return f, false
	}
	n := 0
	for n < len(end) && (isAlnum(end[n]) || end[n] == '_') {
		n++
	}
	rest := strings.TrimLeft(end[n:], " \t")
	if len(rest) == len(end)-n || len(rest) <= len(`""`) || rest[0] != '"' && rest[0] != '\'' {
		return f, false
	}
	inner := rest[1 : len(rest)-1]
	return field{end[:n], inner}, !strings.ContainsAny(inner, "\"'")
}

// A size is a length in bytes that a text gives of a file.
type size struct {
	bytes int64
	// stated is set where a unit, a label, a header or the format says that the number is
	// one; another may be a count, a year or the number of the row.
	stated bool
}

// statedSize reads a size that stands where the text says that sizes do.
func statedSize(s string) *size {
	n := sizeOf(s)
	if n != nil {
		n.stated = true
	}
	return n
}

// maxSize bounds a size with its unit.
const maxSize = 48

// sizeOf reads a size in bytes: digits, in groups where a unit or the groups say that
// they are thousands. Without a unit it is a guess that the number is one.
func sizeOf(s string) *size { //nolint:cyclop // one check for each way of writing a number
	s = strings.TrimSpace(s)
	if s == "" || (s[0] < '0' || s[0] > '9') && s[0] != '(' {
		return nil
	}
	if allDigits(s) {
		n, err := strconv.ParseInt(s, 10, 64)
		if err != nil || len(s) > 20 {
			return nil
		}
		return &size{bytes: n}
	}
	if len(s) > maxSize {
		return nil
	}
	m := sizeForm.FindStringSubmatch(s)
	if m == nil {
		return nil
	}
	digits := m[1]
	if m[2] == "" && !allDigits(digits) && !grouped3.MatchString(digits) && strings.Count(digits, ".") < 2 {
		return nil // “1.482” may be of another unit
	}
	n, err := strconv.ParseInt(strings.Map(func(r rune) rune {
		if '0' <= r && r <= '9' {
			return r
		}
		return -1
	}, digits), 10, 64)
	if err != nil {
		return nil
	}
	return &size{bytes: n, stated: m[2] != ""}
}

// sizeBehind is a size in brackets, or with its unit, at the end of a text.
var sizeBehind = regexp.MustCompile(`^(.*\S)\s+(?:\(([^()]*)\)|(\d[\d,.' ]* ?(?i:bytes?|octets?|b)))$`)

// mayEndInSize is a quick look before sizeBehind is tried.
func mayEndInSize(text string) bool {
	if len(text) < len("x 1b") || !hasDigit(text) {
		return false
	}
	if text[len(text)-1] == ')' {
		return true
	}
	for _, unit := range [...]string{"b", "byte", "bytes", "octet", "octets"} {
		at := len(text) - len(unit) - 1
		if at > 0 && strings.EqualFold(text[at+1:], unit) &&
			(text[at] == ' ' || strings.IndexByte(",.'", text[at]) >= 0 || hasDigit(text[at:at+1])) {
			return true
		}
	}
	return false
}

// cutSize cuts a size off the end of a text.
func cutSize(text string) (string, *size) {
	if !mayEndInSize(text) {
		return text, nil
	}
	m := sizeBehind.FindStringSubmatch(text)
	if m == nil {
		return text, nil
	}
	if n := sizeOf(m[2] + m[3]); n != nil {
		return m[1], n
	}
	return text, nil
}

// roundBehind is a size in a unit too coarse to compare, in brackets at the end of a text.
var roundBehind = regexp.MustCompile(
	`(?i)^(.*\S)\s+\((?:ca\.? ?|~ ?|about )?\d[\d.,' \x{a0}]*\s*(?:[kmgt]i?b|[kmgt]o|[kmgt]|bytes?|kbytes?|mbytes?)\)$`,
)

// cutRoundSize cuts such a size off the end of a text.
func cutRoundSize(text string) (string, bool) {
	if !strings.HasSuffix(text, ")") {
		return text, false
	}
	m := roundBehind.FindStringSubmatch(text)
	if m == nil {
		return text, false
	}
	return m[1], true
}

// A cellKind says what a word of a row is by its form.
type cellKind uint8

const (
	cellOther cellKind = iota
	cellNumber
	cellDate
	cellMode
	cellOption
)

// maxMode is the length of the longest mode of a file.
const maxMode = 11

// mayBeDate is a quick look before the forms of dates and times are tried.
func mayBeDate(word string) bool {
	if 'A' <= word[0] && word[0] <= 'Z' {
		return len(word) < 12 && strings.IndexByte("JFMASONDTW", word[0]) >= 0
	}
	return '0' <= word[0] && word[0] <= '9' && strings.ContainsAny(word, "-./:ADFJMNOS")
}

func kindOf(word string) cellKind {
	word = strings.Trim(word, ",;|")
	switch {
	case word == "":
		return cellOther
	case allDigits(word) && len(word) <= 20, strings.IndexByte(word, ',') > 0 && grouped3.MatchString(word):
		return cellNumber
	case len(word) > 40:
		return cellOther
	case mayBeDate(word):
		if timeForm.MatchString(word) || dateForm.MatchString(word) {
			return cellDate
		}
	}
	switch {
	case strings.IndexByte("-dlbcps0", word[0]) >= 0 && len(word) <= maxMode && strings.IndexByte(word, '.') < 0 && modeForm.MatchString(word):
		return cellMode
	case strings.IndexByte(word, '=') > 0 && optionForm.MatchString(word):
		return cellOption
	}
	return cellOther
}

// nameOfAddress returns the file's name in an address, decoded, or "".
func nameOfAddress(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return ""
	}
	base := path.Base(u.Path)
	if u.Path == "" || strings.HasSuffix(u.Path, "/") || base == "/" || base == "." {
		return ""
	}
	return base
}

// isAddress reports whether a word is an address with a scheme.
func isAddress(word string) bool {
	i := strings.Index(word, "://")
	return i > 0 && i < 12 && strings.IndexByte(word[:i], ' ') < 0
}

// plainLinks replaces the links of Markdown by the names they lead to: the text where
// that is a name, or else the last part of the target.
func plainLinks(text string) string {
	if !strings.Contains(text, "](") {
		return text
	}
	return markdownLink.ReplaceAllStringFunc(text, func(link string) string {
		m := markdownLink.FindStringSubmatch(link)
		return linkName(m[1], m[2])
	})
}

// linkName returns what a link stands for: its text, unless only its target is the name
// of a file.
func linkName(text, target string) string {
	shown := trimSeparators(text)
	if looksLikeFile(shown) || len(labelsIn(shown)) > 0 || hashWords[foldWords(shown)] {
		return shown
	}
	base := nameOfAddress(target)
	words := splitKey(shown)
	for _, w := range words {
		if w == "sig" || w == "signature" || w == "asc" || w == "gpg" || w == "pgp" || w == "key" || hashWords[w] {
			return shown
		}
	}
	if looksLikeFile(base) {
		return base
	}
	return shown
}

// fileWords returns the words of a text that are names of files by their form, each
// once, in order.
func (k *Names) fileWords(text string) []string {
	var out []string
	if name := k.in(text); name != "" {
		return []string{name}
	}
	if strings.ContainsAny(text, "\"`“«") {
		out, text = quotedNames(text)
	}
	if strings.IndexByte(text, '.') < 0 {
		return out
	}
	for word := range strings.FieldsFuncSeq(text, parts) {
		if strings.IndexByte(word, '.') < 0 {
			continue
		}
		if name := fileWord(word); name != "" && !slices.Contains(out, name) && len(out) < maxFiles {
			out = append(out, name)
		}
	}
	return out
}

// maxFiles bounds the names that are told apart in one row. None of so many is its own.
const maxFiles = 64

// quotedNames returns the names of files that stand in quotes, each once, and the text
// without them.
func quotedNames(text string) (names []string, rest string) {
	rest = text
	for _, quoted := range quotedForm.FindAllStringSubmatch(text, maxQuoted) {
		inner := strings.TrimSpace(quoted[1] + quoted[2] + quoted[3] + quoted[4])
		if strings.ContainsAny(inner, "${}") {
			continue
		}
		if looksLikeFile(inner) || strings.ContainsAny(inner, `/\`) && looksLikeFile(path.Base(inner)) {
			if !slices.Contains(names, inner) {
				names = append(names, inner)
			}
			rest = strings.Replace(rest, quoted[0], " ", 1)
		}
	}
	return names, rest
}

// betweenWords are the characters of ASCII that stand between words and in no name of a
// file without quotes, and wideBetween such ones beyond it.
var betweenWords = func() (t [utf8.RuneSelf]bool) {
	for c := range t {
		t[c] = c <= ' ' || strings.IndexByte("\"'`()[]{}<>,;|*", byte(c)) >= 0
	}
	return t
}()

const wideBetween = "“”„«»‘’"

// parts reports whether a character stands between words.
func parts(r rune) bool {
	if r < utf8.RuneSelf {
		return betweenWords[r]
	}
	return strings.ContainsRune(wideBetween, r) || r >= 0x3000 && r < 0x3040
}

// fileWord returns the name of a file that a word is, or "".
func fileWord(word string) string {
	word = strings.TrimRight(word, ".:!?")
	if !isAddress(word) {
		word = strings.TrimLeft(word[strings.LastIndexByte(word, '=')+1:], ":")
	}
	if isAddress(word) {
		word = nameOfAddress(word)
	}
	if !looksLikeFile(word) {
		return ""
	}
	return word
}

// maxQuoted bounds the names in quotes that are looked at in one row.
const maxQuoted = 64

var quotedForm = regexp.MustCompile("\"([^\"]+)\"|“([^”]+)”|`([^`]+)`|«([^»]+)»")

// cutName reports whether a name was cut to fit the column of a table.
func cutName(name string) bool {
	return strings.HasSuffix(name, "...") || strings.HasSuffix(name, "…")
}

// startsProse reports whether words begin a sentence.
func startsProse(text string) bool {
	first, rest, more := strings.Cut(strings.TrimSpace(text), " ")
	return more && rest != "" && lead[foldWords(first)] && !looksLikeFile(first)
}
