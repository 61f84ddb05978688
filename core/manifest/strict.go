package manifest

import (
	"encoding/binary"
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"endeixis/core/digest"
	"endeixis/core/plain"
)

// crcEnding are names of lists of CRC-32 values.
var crcEnding = regexp.MustCompile(`(?i)\.(?:crc|sfv)$`)

// crcRow takes a row of such a list apart: a name, and eight digits at the end.
func crcRow(text string) (name, digits string, ok bool) {
	at := len(text) - minDigits
	if at < 2 || text[at-1] != ' ' && text[at-1] != '\t' || !allHex(text[at:]) {
		return "", "", false
	}
	name = strings.TrimRight(text[:at], " \t")
	return name, text[at:], name != "" && name[0] != ' ' && name[0] != '\t'
}

// listsCRC reports whether most rows of a text are names with eight digits behind them,
// which are no dates or numbers: those have no letters.
func listsCRC(rows []row) bool {
	all, fit, files, letters := 0, 0, 0, 0
	for i := range rows {
		text := rows[i].text
		if text == "" || text[0] == ';' || text[0] == '#' {
			continue
		}
		all++
		name, digits, ok := crcRow(text)
		if !ok || len(digestsIn(name)) > 0 || len(labelsIn(name)) > 0 {
			continue
		}
		fit++
		if !allDigits(digits) {
			letters++
		}
		if looksLikeFile(name) {
			files++
		}
	}
	return fit > 0 && 2*fit > all && files > 0 && letters > 0
}

// decimalRow is a row of a list of POSIX checksums: the value in decimal, the size, the
// name.
var decimalRow = regexp.MustCompile(`^(\d{1,10}) (\d{1,18}) (\S.*)$`)

// listsDecimal reports whether all rows of a text are of that form.
func (c *clues) listsDecimal(rows []row) bool {
	said := strings.Contains(foldWords(c.fileName), "cksum") || strings.Contains(foldWords(c.fileName), "crc")
	n := 0
	for i := range rows {
		text := rows[i].text
		if text == "" || text[0] == '#' {
			continue
		}
		m := decimalRow.FindStringSubmatch(text)
		if m == nil || !said && len(m[1]) < 7 || !looksLikeFile(m[3]) && !said && !c.known.is(m[3]) {
			return false
		}
		if v, err := strconv.ParseUint(m[1], 10, 64); err != nil || v > 1<<32-1 {
			return false
		}
		n++
	}
	return n > 0
}

// strictForm reads the forms that leave no doubt: a digest, a mode mark and a name; and
// an algorithm, a name in parentheses and a value.
func (t *typer) strictForm(r *typedRow) bool {
	for _, form := range []func(r *typedRow) (statement, bool){t.digestFirst, t.decimalForm, t.crcForm, taggedForm} {
		s, ok := form(r)
		if !ok {
			continue
		}
		r.kind, r.strict = rowStated, true
		if s.code == "" {
			s.entry.at(r.no, r.column)
		}
		if s.code == sizeLine {
			r.said.name, r.said.size = s.entry.Name, &size{*s.entry.Size, true}
			return true
		}
		r.stated = append(r.stated, s)
		return true
	}
	return false
}

// decimalForm reads a row of a list of POSIX checksums.
func (t *typer) decimalForm(r *typedRow) (s statement, ok bool) {
	if !t.decimals {
		return s, false
	}
	m := decimalRow.FindStringSubmatch(r.text)
	if m == nil {
		return s, false
	}
	v, _ := strconv.ParseUint(m[1], 10, 32)
	s.entry = entryOf(m[3], binary.BigEndian.AppendUint32(nil, uint32(v)), digest.Only(digest.CRC32CKSUM), DigestFirst)
	s.entry.take(statedSize(m[2]))
	return s, true
}

// crcForm reads a row of a list of CRC-32 values.
func (t *typer) crcForm(r *typedRow) (s statement, ok bool) {
	if !t.crcList || r.text[0] == '#' || r.text[0] == ';' {
		return s, false
	}
	name, digits, ok := crcRow(r.text)
	if !ok {
		return s, false
	}
	v, _ := decodeHex(digits)
	candidates := digest.OfSize(4)
	if t.hint.Size() == 4 {
		candidates = digest.Only(t.hint)
	}
	s.entry = entryOf(trimQuotes(strings.TrimRight(name, ":=,; \t")), v, candidates, NameFirst)
	if !t.crcSaid && t.section.of(4) == digest.Unknown {
		s.entry.Guessed |= DigestPart
	}
	return s, true
}

// digestFirst reads "DIGEST  NAME", "DIGEST *NAME" and the escaped form that starts
// with a backslash. Other rows that begin with a digest are left to their shape.
func (t *typer) digestFirst(r *typedRow) (s statement, ok bool) {
	line, ok := t.firstDigest(r.text)
	if !ok || !line.escaped && line.mode != '*' && (line.padded || hasColumns(line.rest)) {
		return s, false
	}
	v, ok := decodeHex(line.digits)
	if !ok {
		return s, false
	}
	if twice(line.digits) {
		return statement{code: BadDigest, message: notADigest + "the same digits stand there twice"}, true
	}
	if runsOn(line.rest) {
		return statement{
			code: BadDigest, message: "two lines have run together: a further digest stands within the name",
		}, true
	}
	candidates, wrong := t.candidates(r.section, v, digest.Unknown)
	if wrong != "" {
		return statement{code: BadDigest, message: wrong}, true
	}
	name, ok := unescape([]byte(line.rest), line.escaped)
	switch {
	case !ok:
		return statement{code: BadEscape, message: "the name holds a backslash escape that means nothing"}, true
	case !line.escaped:
		name = trimQuotes(name)
	}
	if name == "-" {
		return statement{entry: entryOf("", v, candidates, Bare)}, true // what was read was not a file
	}
	return statement{entry: entryOf(name, v, candidates, DigestFirst)}, true
}

// A digestLine is a line in the digest-first form, taken apart.
type digestLine struct {
	escaped      bool
	mode         byte
	digits, rest string
	// padded is set where blanks bring a number behind the digest to its place in a column.
	padded bool
}

// firstDigest takes a line apart that begins with a digest, a blank and a mode mark.
//
//nolint:cyclop // one check for each part of the form
func (t *typer) firstDigest(text string) (l digestLine, ok bool) {
	if text[0] == '\\' {
		l.escaped, text = true, text[1:]
	}
	end := 0
	for end < len(text) && isHex(text[end]) {
		end++
	}
	short := end == 8 && (t.hint.Size() == 4 || l.escaped)
	if end < 32 && !short || end+2 >= len(text) || end > 128 || text[end] != ' ' ||
		text[end+1] != ' ' && text[end+1] != '*' {
		return l, false
	}
	l.digits, l.mode, l.rest = text[:end], text[end+1], text[end+2:]
	if !l.escaped {
		l.rest = strings.TrimLeft(l.rest, " \t")
		number := leadingWord(l.rest)
		l.padded = strings.HasPrefix(text[end:], "   ") && kindOf(number) == cellNumber && number != l.rest
		if l.mode == ' ' {
			l.rest = strings.TrimLeft(strings.TrimPrefix(l.rest, "*"), " ")
		}
	}
	return l, strings.TrimSpace(l.rest) != ""
}

// twice reports whether digits are those of one digest, written twice.
func twice(digits string) bool {
	half := len(digits) / 2
	return len(digits)%2 == 0 && half >= 32 && digits[:half] == digits[half:] && strings.Trim(digits, digits[:1]) != ""
}

// runsOn reports whether a digest stands within a name that is no part of it: right behind
// a letter, with a blank behind it.
func runsOn(name string) bool {
	for i := 0; i < len(name); i++ {
		if !isHex(name[i]) {
			continue
		}
		end := i
		for end < len(name) && isHex(name[end]) {
			end++
		}
		if end-i >= 32 && i > 0 && end < len(name) && (name[end] == ' ' || name[end] == '\t') && name[i-1] != ' ' {
			return true
		}
		i = end
	}
	return false
}

// hasColumns reports whether what follows a digest is further columns, or a further part
// of the value, which are looked at together with the other rows.
func hasColumns(rest string) bool {
	first, more, two := strings.Cut(rest, "  ")
	if two && more != "" && kindOf(first) != cellOther && kindOf(first) != cellOption {
		return true
	}
	// Two values and nothing else leave open which of them is the name.
	return len(digestsIn(rest)) > 0
}

func trimQuotes(name string) string {
	if len(name) > 2 && name[0] == '"' && name[len(name)-1] == '"' {
		return name[1 : len(name)-1]
	}
	return name
}

// sizeLine is the code of a tagged line that states a size and no digest.
const sizeLine ProblemCode = "size"

// A tag is a line “LABEL (NAME) = FIELD”, taken apart.
type tag struct {
	escaped            bool
	label, name, field string
	// sign is the one before the field.
	sign byte
}

// tagOf takes a tagged line apart.
func tagOf(text string) (t tag, ok bool) {
	if text[0] == '\\' {
		t.escaped, text = true, text[1:]
	}
	open := strings.IndexByte(text, '(')
	closing := strings.LastIndexByte(text, ')')
	if open <= 0 || closing < open {
		return t, false
	}
	after := strings.TrimLeft(text[closing+1:], " \t")
	if after == "" || after[0] != '=' && after[0] != ':' {
		return t, false
	}
	t.sign = after[0]
	t.label = strings.TrimSpace(text[:open])
	t.field = strings.TrimSpace(after[1:])
	t.name = text[open+1 : closing]
	return t, !strings.ContainsAny(t.label, ":|=,;\t") && strings.Count(t.label, " ") <= 1 &&
		(t.sign == '=' || t.field != "")
}

// taggedForm reads "ALGORITHM (NAME) = DIGEST", with the value in hexadecimal or base64,
// and the same with a backslash in front and escapes in the name.
func taggedForm(r *typedRow) (s statement, ok bool) {
	if strings.IndexByte(r.text, '(') <= 0 {
		return s, false
	}
	t, ok := tagOf(r.text)
	if !ok {
		return s, false
	}
	name, sound := unescape([]byte(t.name), t.escaped)
	if t.label == "SIZE" || t.label == "Size" {
		n := statedSize(t.field)
		s.entry.Name, s.code = name, sizeLine
		s.entry.take(n)
		return s, n != nil && sound
	}
	algorithm, err := digest.Parse(t.label)
	if err != nil {
		return statement{
				code:    UnknownLabel,
				message: fmt.Sprintf("%s is not an algorithm we can compute", plain.Quoted(clip([]byte(t.label)))),
			},
			!strings.Contains(t.label, " ") && t.sign == '=' &&
				taggedLabel(t.label)
	}
	v, algorithm, hexadecimal := t.value(algorithm)
	switch {
	case v == nil:
		return statement{
				code: BadDigest,
				message: fmt.Sprintf(
					"%s is not a %s digest: that is %d hexadecimal characters", plain.Quoted(clip([]byte(t.field))),
					algorithm, 2*algorithm.Size(),
				),
			},
			t.sign == '=' ||
				hexadecimal
	case !sound:
		return statement{code: BadEscape, message: "the name holds a backslash escape that means nothing"}, true
	}
	s.entry = entryOf(name, v, digest.Only(algorithm), Tagged)
	if strings.ContainsAny(t.field, " :-") {
		s.cover = t.field
	}
	return s, true
}

// value decodes the field, or returns nil. hexadecimal tells whether it is all digits.
func (t *tag) value(a digest.Algorithm) (v digest.Value, of digest.Algorithm, hexadecimal bool) {
	v, hexadecimal = decodeHex(t.field)
	if !hexadecimal || len(v) != a.Size() {
		if decoded := decodeBase64(t.field); len(decoded) == a.Size() {
			v, hexadecimal = decoded, true
		}
	}
	if more := ofFamily(a, len(v)); more != digest.Unknown {
		a = more
	}
	if hexadecimal && len(v) == a.Size() {
		return v, a, true
	}
	if values := valuesIn(
		t.field, a.Size() == 4, a,
	); (t.sign == '=' || hexadecimal) && len(values) == 1 && values[0].grouped &&
		len(values[0].digest) == a.Size() {
		return values[0].digest, a, true
	}
	return nil, a, hexadecimal
}

// taggedLabel reports whether a word has the form of an algorithm's name.
func taggedLabel(label string) bool {
	return len(label) <= 20 && (hasDigit(label) || strings.ToUpper(label) == label)
}

// unescape undoes \\, \n and \r in an escaped line.
func unescape(name []byte, escaped bool) (string, bool) {
	if !escaped {
		return string(name), true
	}
	var b strings.Builder
	for i := 0; i < len(name); i++ {
		if name[i] != '\\' {
			b.WriteByte(name[i])
			continue
		}
		i++
		if i == len(name) {
			return "", false
		}
		switch name[i] {
		case '\\':
			b.WriteByte('\\')
		case 'n':
			b.WriteByte('\n')
		case 'r':
			b.WriteByte('\r')
		default:
			return "", false
		}
	}
	return b.String(), true
}
