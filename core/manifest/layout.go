package manifest

import (
	"encoding/binary"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"endeixis/core/digest"
	"endeixis/core/plain"
)

// A layout reads a sheet of rows. It says first what each row is, then how rows of one
// shape are laid out, and last ties the values that stand apart from their names.
type layout struct {
	p    *parser
	rows []row
	// section is what the last heading announced, and table the header in force.
	section section
	table   *table
	// strict counts the rows in forms that leave no doubt.
	strict int
	// begun is set once a window was read.
	begun bool
	// noEnd is the row up to which no block ends.
	noEnd int
}

func (p *parser) newLayout() *layout { return &layout{p: p} }

// layOut reads rows that are all of a text.
func (p *parser) layOut(rows []row) { p.newLayout().take(rows, true) }

// take reads the rows of one window, and adds what is found. last tells that no other
// follows.
func (l *layout) take(rows []row, last bool) {
	l.rows, l.begun, l.noEnd = rows, true, 0
	l.undoWrapping()
	l.classify()
	l.joinRows()
	l.readShapes()
	l.associate()
	l.tellRest(last)
}

// classify goes down the rows once.
func (l *layout) classify() {
	for i := 0; i < len(l.rows) && !l.p.overfull; i++ {
		r := &l.rows[i]
		if r.kind == rowBlank {
			continue
		}
		if r.kind == rowDone {
			continue
		}
		r.section = l.section
		if strings.HasPrefix(r.text, "-----BEGIN ") {
			i = l.armor(i)
			continue
		}
		l.p.out.Lines++
		if r.isHeader || r.cells != nil {
			if l.pageRow(r) {
				continue
			}
		}
		if l.strictForm(r) {
			continue
		}
		r.unmark()
		if r.text == "" {
			r.kind = rowBlank
			l.p.out.Lines--
			continue
		}
		if rule(r.text) {
			r.kind = rowRule
			l.p.out.Lines--
			if i > 0 && l.rows[i-1].kind == rowText {
				l.underlined(&l.rows[i-1])
			}
			continue
		}
		if l.comment(r) {
			l.p.out.Lines--
			continue
		}
		if l.table != nil && l.tableRow(r) {
			continue
		}
		r.text = plainLinks(r.text)
		l.fragments(r)
		if field := fieldOf(r.text); field != nil && sizeWords[foldWords(field[1])] && sizeOf(field[2]) != nil {
			r.kind, r.size = rowField, sizeOf(field[2])
			continue
		}
		r.labels = labelsIn(r.text)
		r.tokens = tokensIn(r.text, l.crcExpected(r.labels), l.announced(r.labels))
		if len(r.tokens) == 0 {
			r.tokens = base64After(r.text, l.labelsOf(r))
		}
		if len(r.tokens) > 0 {
			r.kind = rowValue
			continue
		}
		if (len(r.labels) > 0 || hasHashWord(r.text)) && l.headerRow(r) {
			r.kind = rowHeader
			l.p.out.Lines--
			continue
		}
		l.wordRow(r)
		if r.kind == rowHeading {
			l.p.out.Lines--
		}
	}
}

// fragmentForm is an address of a file with the digest of it behind its end.
var fragmentForm = regexp.MustCompile(`[a-z][a-z0-9+.-]*://[^\s"'<>#]+#(?:(?:sha-?[0-9]+|md5)=)?[0-9a-fA-F]{32,128}`)

// fragments reads the digests that addresses carry behind their ends. The address stays.
func (l *layout) fragments(r *row) {
	if !strings.Contains(r.text, "://") || strings.IndexByte(r.text, '#') < 0 {
		return
	}
	r.text = fragmentForm.ReplaceAllStringFunc(r.text, func(whole string) string {
		address, fragment, _ := strings.Cut(whole, "#")
		name := nameOfAddress(address)
		label, digits, labelled := strings.Cut(fragment, "=")
		if !labelled {
			label, digits = "", fragment
		}
		value, ok := decodeHex([]byte(digits))
		if !ok || digest.OfSize(len(value)) == nil || !looksLikeFile(name) || strings.HasSuffix(name, ".git") || strings.Contains(address, "git+") {
			return whole
		}
		candidates := digest.OfSize(len(value))
		if a, known := algorithmOf(label); known {
			if a.Size() != len(value) {
				return whole
			}
			candidates = digest.Only(a)
		}
		e := entryOf(name, value, candidates, Encoded)
		e.at(r.no, r.column)
		l.p.line = r.no
		l.p.add(e)
		return address
	})
}

// labelsOf returns the labels in a row, that of its field among them.
func (l *layout) labelsOf(r *row) []label {
	if len(r.labels) > 0 || !mayHaveLabel(r.text) {
		return r.labels
	}
	if m := fieldOf(r.text); m != nil {
		if a, extra := labelOfKey(m[1]); a != digest.Unknown && (len(extra) == 0 || len(extra) == 1 && partOfFile[extra[0]]) {
			return []label{{0, len(m[1]), a}}
		}
	}
	return nil
}

// announced is the algorithm that a row's values are most likely of.
func (l *layout) announced(labels []label) digest.Algorithm {
	if len(labels) > 0 {
		return labels[0].algorithm
	}
	if len(l.section.algorithms) > 0 {
		return l.section.algorithms[0]
	}
	return l.p.hint
}

// crcExpected reports whether eight digits in a row are a checksum.
func (l *layout) crcExpected(labels []label) bool {
	if l.p.hint.Size() == 4 || l.section.firm && l.section.of(4) != digest.Unknown {
		return true
	}
	for _, a := range labels {
		if a.algorithm.Size() == 4 {
			return true
		}
	}
	return l.p.crcList
}

// armor passes over a block between marks, such as a signature, a key or a
// certificate. It returns the index of its last row.
func (l *layout) armor(i int) int {
	r := &l.rows[i]
	r.kind = rowDone
	if strings.HasPrefix(r.text, "-----BEGIN PGP SIGNED MESSAGE-----") {
		l.p.line = r.no
		l.p.out.Lines++
		l.p.signedText = true
		l.p.problem(SignedText, "this is a text with a signature around it; nothing in it is used before that signature is verified")
		return i
	}
	end := slices.IndexFunc(l.rows[max(i, l.noEnd):], func(r row) bool { return strings.HasPrefix(r.text, "-----END ") })
	if end < 0 {
		l.noEnd = len(l.rows) // it need not be looked for again
		return i
	}
	end += max(i, l.noEnd)
	for k := i; k <= end; k++ {
		l.rows[k].kind = rowDone
		l.p.aside.note(l.rows[k].no, "it is in a block of a key, a signature or a certificate")
	}
	return end
}

// crcEnding are names of lists of CRC-32 values.
var crcEnding = regexp.MustCompile(`(?i)\.(?:crc|sfv)$`)

// crcRow is a row of such a list: a name, and eight digits at the end.
var crcRow = regexp.MustCompile(`^(\S|\S.*\S)[ \t]+([0-9A-Fa-f]{8})$`)

// listsCRC reports whether most rows of a text are names with eight digits behind them.
func listsCRC(rows []row) bool {
	all, fit, files := 0, 0, 0
	for i := range rows {
		text := rows[i].text
		if text == "" || text[0] == ';' || text[0] == '#' {
			continue
		}
		all++
		if n := len(text); n < 10 || !isHex(text[n-1]) || !isHex(text[n-8]) {
			continue
		}
		if m := crcRow.FindStringSubmatch(text); m != nil && len(tokensIn(m[1], false, digest.Unknown)) == 0 && len(labelsIn(m[1])) == 0 {
			fit++
			if looksLikeFile(m[1]) {
				files++
			}
		}
	}
	return fit > 0 && 2*fit > all && files > 0
}

// decimalRow is a row of a list of POSIX checksums: the value in decimal, the size, the
// name.
var decimalRow = regexp.MustCompile(`^(\d{1,10}) (\d{1,18}) (\S.*)$`)

// listsDecimal reports whether all rows of a text are of that form.
func (p *parser) listsDecimal(rows []row) bool {
	said := strings.Contains(foldWords(p.opts.FileName), "cksum") || strings.Contains(foldWords(p.opts.FileName), "crc")
	n := 0
	for i := range rows {
		text := rows[i].text
		if text == "" || text[0] == '#' {
			continue
		}
		m := decimalRow.FindStringSubmatch(text)
		if m == nil || !said && len(m[1]) < 7 || !looksLikeFile(m[3]) && !said && !p.known.is(m[3]) {
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
func (l *layout) strictForm(r *row) bool {
	text := r.text
	if text[0] == '\\' || isHex(text[0]) {
		if e, code, message := l.digestFirst(r); code != NotAnEntry {
			l.p.line = r.no
			r.kind = rowDone
			l.strict++
			if code != "" {
				l.p.problem(code, message)
				return true
			}
			e.at(r.no, r.column)
			l.p.add(e)
			return true
		}
	}
	if l.p.decimals {
		if m := decimalRow.FindStringSubmatch(text); m != nil {
			v, _ := strconv.ParseUint(m[1], 10, 32)
			e := entryOf(m[3], binary.BigEndian.AppendUint32(nil, uint32(v)), digest.Only(digest.CRC32CKSUM), DigestFirst)
			e.Size = sizeOf(m[2])
			e.at(r.no, r.column)
			r.kind = rowDone
			l.strict++
			l.p.add(e)
			return true
		}
	}
	if l.p.crcList {
		if m := crcRow.FindStringSubmatch(text); m != nil && text[0] != '#' && text[0] != ';' {
			value, _ := decodeHex([]byte(m[2]))
			candidates := digest.OfSize(4)
			if l.p.hint.Size() == 4 {
				candidates = digest.Only(l.p.hint)
			}
			e := entryOf(trimQuotes(strings.TrimRight(m[1], ":=,; \t")), value, candidates, NameFirst)
			e.at(r.no, r.column)
			r.kind = rowDone
			l.strict++
			l.p.line = r.no
			l.p.add(e)
			return true
		}
	}
	if strings.IndexByte(text, '(') > 0 {
		if e, code, message := l.p.tagged(text); code != NotAnEntry {
			l.p.line = r.no
			r.kind = rowDone
			l.strict++
			switch code {
			case "":
				e.at(r.no, r.column)
				l.p.add(e)
			case "size":
				l.p.sizes[e.Name] = e.Size
			default:
				l.p.problem(code, message)
			}
			return true
		}
	}
	return false
}

// digestFirst reads "DIGEST  NAME", "DIGEST *NAME" and the escaped form that starts
// with a backslash. Other rows that begin with a digest are left to their shape.
func (l *layout) digestFirst(r *row) (Entry, ProblemCode, string) {
	notOne := func() (Entry, ProblemCode, string) { return Entry{}, NotAnEntry, "" }
	text := r.text
	escaped := text[0] == '\\'
	if escaped {
		text = text[1:]
	}
	end := 0
	for end < len(text) && isHex(text[end]) {
		end++
	}
	if end < 32 && (end != 8 || l.p.hint.Size() != 4 && !escaped) || end+2 >= len(text) || end > 128 {
		return notOne()
	}
	if text[end] != ' ' || text[end+1] != ' ' && text[end+1] != '*' {
		return notOne()
	}
	rest := text[end+2:]
	if !escaped {
		rest = strings.TrimLeft(rest, " \t")
		if text[end+1] == ' ' {
			rest = strings.TrimLeft(strings.TrimPrefix(rest, "*"), " ")
		}
	}
	if strings.TrimSpace(rest) == "" {
		return notOne()
	}
	if !escaped && text[end+1] != '*' {
		// Further columns, or a further part of the value, are looked at together with
		// the other rows.
		first, more, two := strings.Cut(rest, "  ")
		if two && more != "" && kindOf(first) != cellOther && kindOf(first) != cellOption {
			return notOne()
		}
		if tokens := tokensIn(rest, false, digest.Unknown); len(tokens) > 0 && (tokens[0].from != 0 || tokens[0].to != len(rest)) {
			return notOne()
		}
	}
	value, ok := decodeHex([]byte(text[:end]))
	if !ok {
		return notOne()
	}
	candidates, wrong := l.candidates(r, value, digest.Unknown)
	if wrong != "" {
		return Entry{}, BadDigest, wrong
	}
	name, ok := unescape([]byte(rest), escaped)
	if !ok {
		return Entry{}, BadEscape, "the name holds a backslash escape that means nothing"
	}
	if !escaped {
		name = trimQuotes(name)
	}
	if name == "-" {
		return entryOf("", value, candidates, Bare), "", "" // what was read was not a file
	}
	return entryOf(name, value, candidates, DigestFirst), "", ""
}

func trimQuotes(name string) string {
	if len(name) > 2 && name[0] == '"' && name[len(name)-1] == '"' {
		return name[1 : len(name)-1]
	}
	return name
}

// candidates narrows the algorithms of a value by its label, by the heading above and by
// the list's own name, in this order. wrong says why there are none: a value that is
// shorter than what is announced was cut, and is not the digest of another algorithm
// that happens to have its length.
func (l *layout) candidates(r *row, value digest.Value, label digest.Algorithm) (_ []digest.Algorithm, wrong string) {
	if label != digest.Unknown {
		if label.Size() != len(value) {
			if more := ofFamily(label, len(value)); more != digest.Unknown {
				return digest.Only(more), ""
			}
			return nil, "what stands in the place of the digest cannot be one: " + wrongLength(label, len(value))
		}
		return digest.Only(label), ""
	}
	if len(r.section.algorithms) > 0 {
		if a := r.section.of(len(value)); a != digest.Unknown {
			return digest.Only(a), ""
		}
		if r.section.firm {
			return nil, "what stands in the place of the digest cannot be one: " + wrongLength(r.section.algorithms[0], len(value))
		}
	}
	if hint := l.p.hint; hint != digest.Unknown {
		switch {
		case hint.Size() == len(value):
			return digest.Only(hint), ""
		case hint.Size() > len(value):
			return nil, "what stands in the place of the digest cannot be one: " + wrongLength(hint, len(value))
		}
	}
	if of := digest.OfSize(len(value)); of != nil {
		return of, ""
	}
	return nil, fmt.Sprintf("a value of %d hexadecimal characters is not the digest of any known algorithm, so it may be cut short", 2*len(value))
}

// ofFamily returns the algorithm of a value whose label names only the family: “SHA”
// over 64 digits, “BLAKE2b” over 32 bytes.
func ofFamily(label digest.Algorithm, n int) digest.Algorithm {
	switch {
	case label == digest.BLAKE2b && n == digest.BLAKE2b256.Size():
		return digest.BLAKE2b256
	case label == digest.BLAKE2b && n == digest.BLAKE2b384.Size():
		return digest.BLAKE2b384
	}
	return digest.Unknown
}

// shareForm is a name on another machine, which begins like some remarks.
var shareForm = regexp.MustCompile(`^//[\w.-]+/\S`)

// comment recognises remarks. One that names an algorithm and nothing else is a
// heading; one that is a file's name may head the rows below.
func (l *layout) comment(r *row) bool {
	text := r.text
	mark := ""
	for _, m := range []string{"<!--", "%%%%", "//", "--", "#", ";", "REM ", "rem ", "'''"} {
		if strings.HasPrefix(text, m) {
			mark = m
			break
		}
	}
	if mark == "" || mark == "--" && !strings.HasPrefix(text, "-- ") {
		return false
	}
	if mark == "//" && shareForm.MatchString(text) {
		return false
	}
	inner := strings.Trim(text, "#;/-%<>!= \t*")
	r.kind = rowComment
	if inner == "" {
		return true
	}
	if len(tokensIn(inner, false, digest.Unknown)) > 0 {
		l.p.aside.note(r.no, "it stands in a remark")
		return true
	}
	sub := *r
	sub.text = inner
	if mark == "%%%%" || mark == "#" || mark == ";" {
		if l.headerRow(&sub) {
			return true
		}
	}
	if l.heading(&sub, mark != "#" && mark != ";") {
		r.kind = rowHeading
		return true
	}
	if name, size, ok := strings.Cut(inner, ": "); ok && looksLikeFile(name) {
		if n := sizeOf(size); n != nil {
			l.p.sizes[name] = n
			return true
		}
	}
	if mark == "#" && (looksLikeFile(inner) && !strings.Contains(inner, " ") || l.p.known.is(inner)) {
		r.kind, r.name, r.pure = rowName, inner, true
	}
	return true
}

// heading recognises a row that names one or more algorithms and neither a value nor a
// file. With loose set, a sentence will do.
func (l *layout) heading(r *row, loose bool) bool {
	labels := labelsIn(r.text)
	if len(labels) == 0 || len(r.text) > 200 {
		return false
	}
	if len(l.p.fileWords(r.text)) > 0 {
		return false
	}
	if field := fieldOf(r.text); field != nil && field[2] != "" && len(labelsIn(field[1])) == 0 {
		return false // it is said of something else
	}
	rest := r.text
	for i := len(labels) - 1; i >= 0; i-- {
		rest = rest[:labels[i].from] + " " + rest[labels[i].to:]
	}
	words := splitKey(rest)
	firm := true
	others := 0
	for _, w := range words {
		if !hashWords[w] && !lead[w] && w != "und" && w != "et" && w != "files" && w != "file" {
			others++
			firm = false
		}
	}
	end := r.text[len(r.text)-1]
	ends := end == ':' || end == '=' || strings.HasSuffix(r.text, "=\"") || strings.HasSuffix(r.text, "=(") || strings.HasSuffix(r.text, ": |") || strings.HasSuffix(r.text, ": >")
	if !firm && !ends && !loose && others > 8 {
		return false
	}
	l.section = section{firm: firm}
	for _, a := range labels {
		if !slices.Contains(l.section.algorithms, a.algorithm) {
			l.section.algorithms = append(l.section.algorithms, a.algorithm)
		}
	}
	l.table = nil
	return true
}

// underlined takes the row above a rule for a heading, where it names an algorithm.
func (l *layout) underlined(r *row) {
	if l.heading(r, true) {
		r.kind = rowHeading
	}
}

// onlyWords reports whether a row has nothing but words in it, as most rows of a letter.
func onlyWords(text string) bool {
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case '0' <= c && c <= '9', c == '.' && i+1 < len(text) && text[i+1] != ' ', strings.IndexByte(":=|\t/\\[%$>", c) >= 0, c >= 0x80:
			return false
		}
	}
	return true
}

// roundSize is a row with nothing but a size, in whatever unit.
var roundSize = regexp.MustCompile(`(?i)^\(?~?\d[\d.,' ]*\s*(?:[kmgt]i?b|[kmgt]|b|bytes?|octets?|kbytes?|mbytes?)?\)?$`)

// wordRow says what a row without values is.
func (l *layout) wordRow(r *row) {
	text := r.text
	if len(text) < 32 && (hashWords[foldWords(text)] || (text[0] == '(' || text[0] == '~' || hasDigit(text[:1])) && roundSize.MatchString(text) || kindOf(text) == cellDate) {
		r.kind, r.size = rowField, sizeOf(text) // it parts nothing
		return
	}
	if onlyWords(text) && len(r.labels) == 0 && !l.p.known.is(text) {
		return
	}
	if command := promptOf(text); command != "" {
		files := l.p.fileWords(command)
		if len(files) == 1 {
			r.kind, r.name, r.prompt = rowName, files[0], true
			if labels := labelsIn(command); len(labels) == 1 {
				r.label = labels[0].algorithm
			} else if first, _, _ := strings.Cut(command, " "); first != "" {
				if a, ok := algorithmOf(first); ok {
					r.label = a
				}
			}
		}
		return
	}
	if l.p.known.is(trimSeparators(text)) {
		r.kind, r.name, r.pure = rowName, trimSeparators(text), true
		return
	}
	if m := fieldOf(text); m != nil && !isAddress(text) {
		if l.fieldRow(r, m[1], strings.TrimSpace(m[2])) {
			return
		}
	}
	if strings.HasPrefix(text, "%") && strings.HasSuffix(text, "%") && len(text) > 2 {
		r.kind, r.label = rowField, l.markOf(text[1:len(text)-1])
		return
	}
	if len(r.labels) > 0 && l.heading(r, false) {
		r.kind = rowHeading
		return
	}
	// A row that is a name, perhaps with its size and an algorithm beside it.
	inner := trimSeparators(text)
	if isAddress(inner) && !strings.Contains(inner, " ") {
		if name := nameOfAddress(inner); looksLikeFile(name) {
			r.kind, r.name, r.pure = rowName, name, true
		}
		return
	}
	if looksLikeFile(inner) && !strings.ContainsAny(inner, " \t") || text[0] == '[' && text[len(text)-1] == ']' && looksLikeFile(inner) {
		r.kind, r.name, r.pure = rowName, inner, true
		return
	}
	files := l.p.fileWords(text)
	labels := labelsIn(text)
	if looksLikeFile(inner) && len(labels) == 0 && !hasHashWord(inner) && !startsProse(inner) && len(strings.Fields(inner)) <= 6 && len(files) <= 1 && !strings.ContainsAny(inner, ":?&") {
		r.kind, r.name, r.pure = rowName, inner, true
		return
	}
	if len(files) != 1 {
		return
	}
	// Columns: one of them is the name, others a size, a date, an algorithm.
	cells := columns(text)
	for _, cell := range cells {
		if len(cells) > 1 && looksLikeFile(cell) && (cell == files[0] || strings.HasSuffix(cell, files[0])) {
			r.kind, r.name, r.pure = rowName, cell, true
			if len(labels) == 1 {
				r.label = labels[0].algorithm
			}
			for _, other := range cells {
				if n := sizeOf(other); n != nil {
					r.size = n
				}
			}
			return
		}
	}
	if len(labels) > 0 || hasHashWord(text) {
		r.kind, r.name = rowName, files[0]
		if len(labels) > 0 {
			r.label = labels[len(labels)-1].algorithm
		}
		return
	}
	if before, ok := strings.CutSuffix(inner, files[0]); ok && strings.HasSuffix(strings.TrimSpace(before), ":") {
		r.kind, r.name, r.pure = rowName, files[0], true // “the image is up: gauge.img”
		return
	}
	if field := fieldOf(text); field != nil && !strings.HasPrefix(field[2], "//") {
		if after, ok := strings.CutPrefix(field[2], files[0]); ok && strings.HasPrefix(strings.TrimSpace(after), "(") {
			r.kind, r.name, r.pure = rowName, files[0], true // “Attachment: gauge.img (64 KB)”
		}
		return // “Homepage: https://…” is about something else
	}
	if last := inner[strings.LastIndexByte(inner, ' ')+1:]; isAddress(last) && nameOfAddress(last) == files[0] && len(strings.Fields(inner)) <= 6 {
		r.kind, r.name, r.pure = rowName, files[0], true // “wget https://…”
		return
	}
	// “gauge.img (64 MB)” and “gauge.img - for the tower”.
	if strings.HasPrefix(inner, files[0]) {
		after := strings.TrimSpace(inner[len(files[0]):])
		if after != "" && (after[0] == '(' || after[0] == '-' || after[0] == '[') || kindOf(strings.Fields(after + " x")[0]) == cellNumber {
			r.kind, r.name, r.pure = rowName, files[0], true
			r.size = sizeOf(after)
		}
	}
}

func hasHashWord(text string) bool {
	for _, w := range splitKey(text) {
		if hashWords[w] && w != "value" && w != "content" && w != "sum" && w != "verify" && w != "verification" {
			return true
		}
	}
	return false
}

// markOf returns the algorithm that a label names, or Unknown.
func (l *layout) markOf(text string) digest.Algorithm {
	a, _ := algorithmOf(strings.TrimSpace(text))
	return a
}

// fieldRow reads “LABEL: VALUE” of a record where the label is one that is known.
func (l *layout) fieldRow(r *row, key, value string) bool {
	folded := foldWords(key)
	if singular := strings.TrimSuffix(folded, "s"); addressWords[singular] {
		folded = singular
	}
	inner := trimSeparators(value)
	if words := splitKey(key); len(words) > 1 && !strings.Contains(key, " ") && !nameWords[folded] && !addressWords[folded] {
		if last := words[len(words)-1]; (addressWords[last] || strongNames[last]) && inner != "" {
			name := inner
			if isAddress(inner) {
				name = nameOfAddress(inner)
			}
			if looksLikeFile(name) {
				r.kind, r.name, r.pure, r.prefix, r.key = rowName, name, true, strings.Join(words[:len(words)-1], " "), strings.Join(words, " ")
				return true
			}
		}
	}
	switch {
	case nameWords[folded], addressWords[folded], strings.HasSuffix(folded, "filename"), strings.HasSuffix(folded, "hashof"):
		if inner == "" {
			return false
		}
		name := inner
		if isAddress(inner) {
			if name = nameOfAddress(inner); !looksLikeFile(name) {
				return false
			}
		} else if addressWords[folded] && !looksLikeFile(inner) {
			return false
		}
		if (folded == "package" || folded == "name" || folded == "target" || folded == "image" || folded == "nom" || folded == "nome" || folded == "имя" || folded == "download") && !looksLikeFile(name) && !l.p.known.is(name) {
			r.kind, r.packaged = rowField, true
			if strings.EqualFold(key, "Name") && l.p.archive {
				r.kind, r.name, r.pure = rowName, inner, true
			}
			return true
		}
		r.kind, r.name, r.pure, r.strong = rowName, name, true, strongNames[folded]
		return true
	case sizeWords[folded]:
		r.kind, r.size = rowField, sizeOf(inner)
		return true
	case folded == "contentdisposition":
		if files := l.p.fileWords(value); len(files) == 1 {
			r.kind, r.name, r.pure = rowName, files[0], true
			return true
		}
		if at := strings.Index(value, "filename="); at >= 0 {
			r.kind, r.name, r.pure = rowName, trimSeparators(value[at+len("filename="):]), true
			return true
		}
	case algorithmWords[folded]:
		if a := l.markOf(inner); a != digest.Unknown {
			r.kind, r.label = rowField, a
			return true
		}
	case hashWords[folded] && inner == "":
		r.kind = rowField
		return true
	case folded == "version" || folded == "pkgver":
		r.kind = rowField
		r.packaged = true
		return true
	}
	if inner == "" {
		// “gauge.bin:” heads the values below.
		if looksLikeFile(key) && !hasHashWord(key) && len(labelsIn(key)) == 0 {
			r.kind, r.name, r.pure = rowName, key, true
			return true
		}
	}
	return false
}

// promptOf returns the command in a row of a console's transcript, or "".
func promptOf(text string) string {
	for _, mark := range []string{"$ ", "# ", "% ", "> "} {
		at := strings.Index(text, mark)
		if at < 0 || at > 60 {
			continue
		}
		before, command := text[:at], strings.TrimSpace(text[at+len(mark):])
		if before != "" && mark == "# " && !strings.Contains(before, "@") && !strings.Contains(before, ":") {
			continue
		}
		if before != "" && strings.Contains(before, "  ") {
			continue
		}
		if mark == "> " && before != "" && !strings.HasPrefix(before, "PS") && !strings.Contains(before, `:\`) {
			continue
		}
		if before != "" && !strings.ContainsAny(before[len(before)-1:], "~]:)/\\") && !isAlnum(before[len(before)-1]) {
			continue
		}
		return command
	}
	if i := strings.Index(text, `>`); i > 2 && strings.Contains(text[:i], `:\`) {
		return strings.TrimSpace(text[i+1:])
	}
	return ""
}

// columns cuts a row where two blanks or a tab stand, or at bars.
func columns(text string) []string {
	if strings.Count(text, "|") >= 1 {
		var out []string
		for cell := range strings.SplitSeq(strings.Trim(text, "|"), "|") {
			out = append(out, strings.TrimSpace(cell))
		}
		return out
	}
	var out []string
	for part := range strings.SplitSeq(text, "\t") {
		for {
			part = strings.TrimSpace(part)
			if part == "" {
				break
			}
			i := strings.Index(part, "  ")
			if i < 0 {
				out = append(out, part)
				break
			}
			out = append(out, part[:i])
			part = part[i:]
		}
	}
	return out
}

// noise reports whether a row holds what no text does.
func noise(text string) bool {
	bad := 0
	for _, r := range text {
		if r == utf8.RuneError || r < ' ' && r != '\t' && r != 0x1b && r != '\a' || 0x7f <= r && r < 0xa0 {
			bad++
		}
	}
	return bad > 0 && bad*20 > len(text) || strings.IndexByte(text, 0) >= 0
}

// cutRow is a row of a list with too few digits.
var cutRow = regexp.MustCompile(`^[0-9a-fA-F]{4,31}[ \t]+\*?\S`)

// foreign reports whether a row is mostly of letters beyond ASCII. In a text that is not
// in Unicode that is no language.
func foreign(text string) bool {
	all, beyond := 0, 0
	for _, r := range text {
		all++
		if r >= 0x80 {
			beyond++
		}
	}
	return all >= 16 && beyond*4 > all
}

// tellRest tells what is left: values without a name, damaged ones, and rows that
// stand out of a list.
func (l *layout) tellRest(end bool) {
	p := l.p
	last := len(l.rows) - 1
	for last >= 0 && l.rows[last].kind == rowBlank {
		last--
	}
	list := l.strict > 0 && 2*l.strict >= p.out.Lines
	for i := range l.rows {
		r := &l.rows[i]
		p.line = r.no
		switch {
		case r.kind == rowDone || r.kind == rowBlank:
		case len(p.out.Entries) > 0 && (noise(r.text) || p.latin && foreign(r.text)):
			p.problem(NotAnEntry, "this is neither a digest with a file name nor a comment")
		case list && end && i == last && r.kind == rowText && len(r.text) < 32 && strings.Trim(r.text, "0123456789abcdefABCDEF") == "":
			p.problem(BadDigest, fmt.Sprintf("%s is not a digest: the list ends in the middle of it", plain.Quoted(r.text)))
		case list && (r.kind == rowText || r.kind == rowName) && cutRow.MatchString(r.text):
			p.problem(BadDigest, "what stands in the place of the digest is too short to be one, so it may be cut short")
		case list && r.kind == rowName && r.pure && !r.prompt && i > 0:
			p.problem(NotAnEntry, "a file is named here without a digest")
		}
	}
}
