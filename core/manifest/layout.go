package manifest

import (
	"fmt"
	"regexp"
	"slices"
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
	// bare counts the rows with values that nothing names.
	bare int
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

// maxValues bounds the values in one row.
const maxValues = 100

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
		l.continued(i)
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
		if len(r.tokens) == 0 {
			r.tokens = encodedAtEnd(r.text, l.p.hint)
		}
		if len(r.tokens) > maxValues {
			r.kind = rowDone
			l.p.aside.note(r.no, "so many values in one line are no list of files")
			continue
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

// openTag is a tagged row whose value has gone to the next one.
var openTag = regexp.MustCompile(`^\\?[A-Za-z][A-Za-z0-9/_-]* ?\(.*\) ?=$`)

// continued puts such a value back.
func (l *layout) continued(i int) {
	r := &l.rows[i]
	if i+1 >= len(l.rows) || r.text[len(r.text)-1] != '=' || !openTag.MatchString(r.text) {
		return
	}
	if next := &l.rows[i+1]; next.text != "" && len(onlyHex(next.text)) == len(next.text) {
		r.text += " " + next.text
		next.kind = rowDone
	}
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
			return nil, notADigest + wrongLength(label, len(value))
		}
		return digest.Only(label), ""
	}
	if len(r.section.algorithms) > 0 {
		if a := r.section.of(len(value)); a != digest.Unknown {
			return digest.Only(a), ""
		}
		if r.section.firm {
			return nil, notADigest + wrongLength(r.section.algorithms[0], len(value))
		}
	}
	if hint := l.p.hint; hint != digest.Unknown {
		switch {
		case hint.Size() == len(value):
			return digest.Only(hint), ""
		case hint.Size() > len(value):
			return nil, notADigest + wrongLength(hint, len(value))
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
	if mark == "//" && (shareForm.MatchString(text) || encodedAtEnd(text, l.p.hint) != nil) {
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
		case p.out.Entries.Len() > 0 && (noise(r.text) || p.latin && foreign(r.text)):
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
