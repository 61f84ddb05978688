package manifest

import (
	"html"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"endeixis/core/digest"
)

// A rowKind says what a row is.
type rowKind uint8

const (
	// rowText is a row of words, in which nothing is looked for.
	rowText rowKind = iota
	rowBlank
	// rowRule is a row of dashes and their like.
	rowRule
	rowComment
	// rowHeading names an algorithm for the rows below.
	rowHeading
	// rowHeader names the columns of a table.
	rowHeader
	// rowValue has values in the form of digests.
	rowValue
	// rowName has the name of a file and no value.
	rowName
	// rowField says something else about a file: its size, the algorithm.
	rowField
	// rowStated says by its own form, or under a table's header, all that it says.
	rowStated
	// rowAside is passed over, and its values are left aside.
	rowAside
)

// A typedRow is a row with what it may be, as far as it and the rows above it tell: the
// third room. What the rows around it make of it is the layout's.
type typedRow struct {
	row
	// text is that of the row without marks of quotation, lists and links, and column
	// where it begins.
	text   string
	column int
	kind   rowKind
	// section is the algorithm that was announced when the row was reached.
	section section
	// values and labels are those in the text of a rowValue.
	values []value
	labels []label
	// said is what a rowName, a rowField or a rowComment says of a file.
	said said
	// stated are entries and problems that the form of the row leaves no doubt about.
	stated []statement
	// strict is set for a row in a form that only lists have.
	strict bool
	// pure is set for a value with its label and nothing else.
	pure bool
	// why says why the values of a rowAside are left aside.
	why string
}

// said is what a row without a value says of a file.
type said struct {
	// name is the file's, and size what the row says of one.
	name string
	size *size
	// prefix are the words before the label of a field: “TIDE” of “TIDE_URL”, and key is
	// all of its label.
	prefix, key string
	// label is the algorithm that the row names.
	label digest.Algorithm
	// pure is set for a row that holds the name and nothing beside it.
	pure bool
	// strong is set for a field that names the file of a record and nothing else, and
	// packaged for one that names a package or its version.
	strong, packaged bool
	// prompt is set for a command in what was copied from a console.
	prompt bool
}

// A statement is an entry, or the problem with one.
type statement struct {
	entry Entry
	// code is empty for an entry.
	code    ProblemCode
	message string
	// cover is the value as it stands there, where it is in groups.
	cover string
}

// A section is what a heading announces.
type section struct {
	algorithms []digest.Algorithm
	// firm is set for a heading that says nothing else. A sentence that only mentions
	// an algorithm gives way to values of another length.
	firm bool
}

func (s section) of(n int) digest.Algorithm {
	for _, a := range s.algorithms {
		if a.Size() == n {
			return a
		}
	}
	return digest.Unknown
}

// A typer types the rows of a text, one after the other.
type typer struct {
	*clues
	// section is what the last heading announced, and table the header in force.
	section section
	table   *table
	// asked is the text that was last searched for names of files, and found are these.
	asked string
	found []string
	// labelsAbove is set where the row above has a value whose algorithm nothing says.
	labelsAbove bool
}

// maxValues bounds the values in one row.
const maxValues = 100

// typeRows types the rows of one window.
func (t *typer) typeRows(rows []row) []typedRow {
	out := make([]typedRow, 0, len(rows))
	noEnd := 0 // the row up to which no block ends
	for i := 0; i < len(rows); i++ {
		if !rows[i].blank && strings.HasPrefix(rows[i].text, armorBegin) {
			end := -1
			if i >= noEnd && !strings.HasPrefix(rows[i].text, armorFrame) {
				end = slices.IndexFunc(rows[i:], func(r row) bool { return strings.HasPrefix(r.text, armorEnd) })
			}
			if end < 0 {
				noEnd = len(rows) // it need not be looked for again
			}
			for _, r := range rows[i : i+max(end, 0)+1] {
				out = append(out, t.armored(r, end >= 0))
			}
			i += max(end, 0)
			continue
		}
		out = append(out, typedRow{row: rows[i], text: rows[i].text, column: rows[i].column, section: t.section})
		t.typeRow(out, len(out)-1)
	}
	return out
}

const (
	armorBegin = "-----BEGIN "
	armorEnd   = "-----END "
	armorFrame = "-----BEGIN PGP SIGNED MESSAGE-----"
)

// armored types a row of a block between marks, such as a signature, a key or a
// certificate.
func (t *typer) armored(r row, whole bool) typedRow {
	out := typedRow{row: r, text: r.text, column: r.column, kind: rowAside}
	switch {
	case strings.HasPrefix(r.text, armorFrame):
		out.kind = rowStated
		out.stated = []statement{
			{
				code:    SignedText,
				message: "this is a text with a signature around it; nothing in it is used before that signature is verified",
			},
		}
	case whole:
		out.why = "it is in a block of a key, a signature or a certificate"
	}
	return out
}

// typeRow types the row with an index, of those that are typed already above it.
func (t *typer) typeRow(rows []typedRow, i int) {
	r := &rows[i]
	if t.plainForm(rows, i) {
		return
	}
	r.unmark()
	switch {
	case r.signsOnly():
		if r.kind == rowRule && i > 0 && rows[i-1].kind == rowText && rule(r.text) && t.looseHeading(rows[i-1].text) {
			rows[i-1].kind = rowHeading
		}
	case t.comment(r):
	case t.table != nil && t.tableRow(r):
	default:
		t.follow(rows, i)
		r.text = plainLinks(r.text)
		t.magnets(r)
		t.pinned(r)
		t.fragments(r)
		if strings.TrimSpace(r.text) == "" {
			r.kind = rowStated
			return
		}
		t.typeWords(r)
	}
}

// plainForm types a row that is not read, or in a form that leaves no doubt.
func (t *typer) plainForm(rows []typedRow, i int) bool {
	r := &rows[i]
	return r.unread() || (r.head || r.cells != nil) && t.pageRow(r) || t.imageRow(r) || t.valueAlone(rows, i) ||
		t.strictForm(r) ||
		r.diffLine()
}

// imageRow types a row of a table of images or containers, whatever form it is in.
func (t *typer) imageRow(r *typedRow) bool {
	if t.table == nil || !t.table.images || !t.tableRow(r) {
		return false
	}
	r.stated = nil
	return true
}

// valueAlone types a row that is a whole value and nothing else.
func (t *typer) valueAlone(rows []typedRow, i int) bool {
	r := &rows[i]
	if t.table != nil {
		return false
	}
	decoded, ok := aloneHex(r.text)
	if !ok {
		return false
	}
	t.follow(rows, i)
	r.kind, r.values = rowValue, []value{{to: len(r.text), digest: decoded}}
	return true
}

// aloneHex decodes a text that is one value without a word beside it: a number is none.
func aloneHex(text string) (digest.Value, bool) {
	if len(text) < 2*leastAlone || digest.OfSize(len(text)/2) == nil || !allHex(text) || allDigits(text) {
		return nil, false
	}
	return decodeHex(text)
}

// leastAlone is the length of the shortest value that is one without a word beside it, in
// bytes.
const leastAlone = 16

// follow notes what the row above says of the next one.
func (t *typer) follow(rows []typedRow, i int) {
	t.labelsAbove = i > 0 && rows[i-1].kind == rowValue && len(rows[i-1].labels) == 0
}

// diffLine tells a line that a program for differences marked as new or gone.
func (r *typedRow) diffLine() bool {
	if r.text[0] != '+' && r.text[0] != '-' || leadingHex(r.text[1:]) < 32 {
		return false
	}
	r.kind = rowStated
	r.stated = []statement{
		{
			code:    NotAnEntry,
			message: "this line is one of a difference between two lists, and says nothing by itself; take the list that is meant",
		},
	}
	return true
}

// signsOnly types a row without letters and digits.
func (r *typedRow) signsOnly() bool {
	switch {
	case r.text == "":
		r.kind = rowBlank
	case strings.Trim(r.text, "[],;\"'") == "", rule(r.text):
		r.kind = rowRule // “],” parts nothing
	default:
		return false
	}
	return true
}

// unread types a row that is not looked at.
func (r *typedRow) unread() bool {
	switch {
	case r.long:
		r.kind, r.stated = rowStated, []statement{
			{code: LineTooLong, message: "the line is longer than is read, and was passed over"},
		}
	case r.blank:
		r.kind = rowBlank
	case r.warm:
		return false
	}
	return true
}

// typeWords types a row that is in no form of its own.
func (t *typer) typeWords(r *typedRow) {
	if f, ok := fieldOf(r.text); ok && (r.labelledSize(f) || r.labelledValue(f) || t.labelledName(r, f)) {
		return
	}
	r.labels = labelsIn(r.text)
	values := valuesIn(r.text, t.crcExpected(r), t.announced(r))
	if len(values) == 0 {
		values = base64After(r.text, labelsOf(r))
	}
	if len(values) == 0 {
		values = encodedAtEnd(r.text, t.hint)
	}
	values = withoutAddressParts(r.text, values)
	switch {
	case len(values) > maxValues:
		r.kind, r.why = rowAside, "so many values in one line are no list of files"
	case len(values) > 0:
		r.kind, r.values = rowValue, values
	case (len(r.labels) > 0 || mayBeHeader(r.text)) && t.headerRow(r.text):
		r.kind = t.table.kind()
	default:
		t.wordRow(r)
	}
}

// labelledSize types a field that gives the size of a file: “Size: 2.9 MB”.
func (r *typedRow) labelledSize(f field) bool {
	if !sizeWords[foldWords(f.label)] || sizeOf(f.text) == nil {
		return false
	}
	r.kind, r.said.size = rowField, statedSize(f.text)
	return true
}

// labelledValue types a field that is an algorithm and a value of its length, and nothing
// else: “SHA-256: …”. Most rows of records are such.
func (r *typedRow) labelledValue(f field) bool {
	if len(f.text) < 2*leastAlone || !allHex(f.text) || !strings.HasSuffix(r.text, f.text) {
		return false
	}
	a, ok := algorithmOf(f.label)
	if !ok || 2*a.Size() != len(f.text) || len(labelPlaces(f.label)) != 1 {
		return false
	}
	decoded, ok := decodeHex(f.text)
	if !ok {
		return false
	}
	r.kind, r.pure = rowValue, true
	r.labels = []label{{0, len(f.label), a}}
	r.values = []value{{from: len(r.text) - len(f.text), to: len(r.text), digest: decoded, algorithm: a}}
	return true
}

// labelledName types a field that is there for the name of a file and holds one: “File: …”.
func (t *typer) labelledName(r *typedRow, f field) bool {
	return nameWords[foldWords(f.label)] && looksLikeFile(f.text) && strings.IndexByte(f.text, ' ') < 0 &&
		!mayHoldValue(r.text) &&
		!mayHaveLabel(r.text) &&
		t.fieldRow(r, f.label, f.text)
}

// mayBeHeader is a quick look before a header is tried: a word for digests in it, or the
// name of a file behind a bar.
func mayBeHeader(text string) bool {
	if hasWord(text, isHashBytes) || hasImageColumn(text) {
		return true
	}
	row := strings.TrimRight(text, "| \t")
	bar := strings.LastIndexByte(row, '|')
	if bar < 0 || strings.IndexByte(row[bar:], '.') < 0 {
		return false
	}
	name := trimCell(row[bar+1:])
	return isAddress(name) || looksLikeFile(name)
}

// withoutAddressParts leaves out damaged values in addresses: “…?token=8ea62aeeec6604f8”.
func withoutAddressParts(text string, values []value) []value {
	if !strings.Contains(text, "://") {
		return values
	}
	return slices.DeleteFunc(values, func(v value) bool { return v.digest == nil && isAddressPart(text, &v) })
}

// counts reports whether a row holds something of a list.
func (r *typedRow) counts() bool {
	switch r.kind {
	case rowBlank, rowRule, rowComment, rowHeading, rowHeader:
		return false
	case rowAside:
		return !strings.HasPrefix(r.why, "it is in a block")
	default:
		return true
	}
}

// fragmentForm is an address of a file with the digest of it behind its end.
var fragmentForm = regexp.MustCompile(
	`[a-z][a-z0-9+.-]*://[^\s"'<>#]+#(?:(?:sha-?[0-9]+|md5)=)?[0-9a-fA-F]{32,128}|[a-z]+://[^\s"'<>#;]+;(?:sha-?[0-9]+|md5)(?:sum)?=[0-9a-fA-F]{32,128}`,
)

// magnetForm is an address that is made of digests.
var magnetForm = regexp.MustCompile(`magnet:\?[^\s"'<>]+`)

// magnets reads such addresses: their digests, and the name and size that they give.
func (t *typer) magnets(r *typedRow) {
	if !strings.Contains(r.text, "magnet:?") {
		return
	}
	r.text = magnetForm.ReplaceAllStringFunc(r.text, func(whole string) string {
		query, err := url.ParseQuery(html.UnescapeString(strings.TrimPrefix(whole, "magnet:?")))
		if err != nil || query.Get("dn") == "" {
			return whole
		}
		for _, topic := range query["xt"] {
			for _, v := range encodedIn(topic, nil) {
				if v.digest != nil {
					e := entryOf(query.Get("dn"), v.digest, digest.Only(v.algorithm), Encoded)
					e.take(statedSize(query.Get("xl")))
					r.state(e)
				}
			}
		}
		return ""
	})
}

// pinnedForm is the name of a file with its digest behind an at sign.
var pinnedForm = regexp.MustCompile(`([^\s"'<>@:]+)@([A-Za-z0-9-]+):([0-9a-fA-F]{32,128})`)

// pinned reads such names.
func (t *typer) pinned(r *typedRow) {
	if strings.IndexByte(r.text, '@') < 0 {
		return
	}
	r.text = pinnedForm.ReplaceAllStringFunc(r.text, func(whole string) string {
		m := pinnedForm.FindStringSubmatch(whole)
		a, known := algorithmOf(m[2])
		value, ok := decodeHex(m[3])
		if !known || !ok || a.Size() != len(value) || !looksLikeFile(m[1]) && !t.known.is(m[1]) {
			return whole
		}
		r.state(entryOf(m[1], value, digest.Only(a), Tagged))
		return ""
	})
}

// fragments reads the digests that addresses carry behind their ends. The address stays.
func (t *typer) fragments(r *typedRow) {
	if !strings.Contains(r.text, "://") || !strings.ContainsAny(r.text, "#;") {
		return
	}
	r.text = fragmentForm.ReplaceAllStringFunc(r.text, func(whole string) string {
		at := strings.LastIndexAny(whole, "#;")
		address, fragment := whole[:at], whole[at+1:]
		name := nameOfAddress(address)
		if local, ok := strings.CutPrefix(address, "file://"); ok && whole[at] == ';' {
			name = local
		}
		label, digits, labelled := strings.Cut(fragment, "=")
		if !labelled {
			label, digits = "", fragment
		}
		value, ok := decodeHex(digits)
		if !ok || digest.OfSize(len(value)) == nil || !looksLikeFile(name) && whole[at] == '#' || name == "" ||
			strings.HasSuffix(name, ".git") ||
			strings.Contains(address, "git+") {
			return whole
		}
		candidates := digest.OfSize(len(value))
		if a, known := algorithmOf(label); known {
			if a.Size() != len(value) {
				return whole
			}
			candidates = digest.Only(a)
		}
		r.state(entryOf(name, value, candidates, Encoded))
		return address
	})
}

// state adds an entry that a row states.
func (r *typedRow) state(e Entry) {
	e.at(r.no, r.column)
	r.stated = append(r.stated, statement{entry: e})
}

// labelsOf returns the labels in a row, that of its field among them.
func labelsOf(r *typedRow) []label {
	if len(r.labels) > 0 || !mayHaveLabel(r.text) {
		return r.labels
	}
	if f, ok := fieldOf(r.text); ok {
		if a, extra := labelOfKey(f.label); a != digest.Unknown &&
			(len(extra) == 0 || len(extra) == 1 && partOfFile[extra[0]]) {
			return []label{{0, len(f.label), a}}
		}
	}
	return nil
}

// announced is the algorithm that a row's values are most likely of.
func (t *typer) announced(r *typedRow) digest.Algorithm {
	if len(r.labels) > 0 {
		return r.labels[0].algorithm
	}
	if len(r.section.algorithms) > 0 {
		return r.section.algorithms[0]
	}
	return t.hint
}

// crcExpected reports whether eight digits in a row are a checksum.
func (t *typer) crcExpected(r *typedRow) bool {
	if t.hint.Size() == 4 || t.section.firm && t.section.of(4) != digest.Unknown {
		return true
	}
	for _, a := range r.labels {
		if a.algorithm.Size() == 4 {
			return true
		}
	}
	return t.crcList
}

// shareForm is a name on another machine, which begins like some remarks.
var shareForm = regexp.MustCompile(`^//[\w.-]+/\S`)

// remarkMarks begin remarks.
var remarkMarks = []string{"<!--", "%%%%", "//", "--", "#", ";", "REM ", "rem ", "'''"}

// remarkMark returns the mark that makes a row a remark, or "".
func (t *typer) remarkMark(text string) string {
	for _, mark := range remarkMarks {
		if !strings.HasPrefix(text, mark) {
			continue
		}
		switch {
		case mark == "--" && !strings.HasPrefix(text, "-- "),
			mark == ";" && t.table != nil && t.table.comma == ';',
			mark == "//" && (shareForm.MatchString(text) || encodedAtEnd(text, t.hint) != nil):
			return ""
		}
		return mark
	}
	return ""
}

// comment types remarks. One that names an algorithm and nothing else is a heading; one
// that is a file's name may head the rows below.
func (t *typer) comment(r *typedRow) bool {
	mark := t.remarkMark(r.text)
	if mark == "" {
		return false
	}
	inner := strings.Trim(r.text, "#;/-%<>!= \t*")
	r.kind = rowComment
	heads := mark == "%%%%" || mark == "#" || mark == ";"
	switch {
	case inner == "":
	case len(digestsIn(inner)) > 0:
		r.why = "it stands in a remark"
	case heads && t.headerRow(inner):
	case t.heading(inner), mark != "#" && mark != ";" && t.looseHeading(inner):
		r.kind = rowHeading
	default:
		t.remarkOfFile(r, inner, mark)
	}
	return true
}

// remarkOfFile types a remark that says the size of a file or is its name.
func (t *typer) remarkOfFile(r *typedRow, inner, mark string) {
	if name, size, ok := strings.Cut(inner, ": "); ok && looksLikeFile(name) {
		if n := sizeOf(size); n != nil {
			r.said.name, r.said.size = name, n
			return
		}
	}
	if mark == "#" && (looksLikeFile(inner) && !strings.Contains(inner, " ") || t.known.is(inner)) {
		r.kind, r.said.name, r.said.pure = rowName, inner, true
	}
}

// maxHeading bounds the length of a row that is a heading, and maxHeadingWords the words
// in one beside those for digests.
const (
	maxHeading      = 200
	maxHeadingWords = 8
)

// heading recognises a row that names one or more algorithms and neither a value nor a
// file, in few words or with a colon at its end.
func (t *typer) heading(text string) bool {
	return t.headed(text, func(others int) bool { return others <= maxHeadingWords || announces(text) })
}

// looseHeading is [typer.heading] of a row above a rule, or between marks, for which a sentence
// will do.
func (t *typer) looseHeading(text string) bool { return t.headed(text, func(int) bool { return true }) }

// headed takes a heading, if as many other words as it has are allowed.
func (t *typer) headed(text string, allowed func(others int) bool) bool {
	labels := labelsIn(text)
	if len(labels) == 0 || len(text) > maxHeading || len(t.files(text)) > 0 {
		return false
	}
	if f, ok := fieldOf(text); ok && f.text != "" && len(labelsIn(f.label)) == 0 {
		return false // it is said of something else
	}
	others := 0
	for _, w := range splitKey(withoutLabels(text, labels)) {
		if !hashWords[w] && !lead[w] && !joining[w] {
			others++
		}
	}
	if !allowed(others) {
		return false
	}
	t.section, t.table = section{firm: others == 0}, nil
	for _, a := range labels {
		if !slices.Contains(t.section.algorithms, a.algorithm) {
			t.section.algorithms = append(t.section.algorithms, a.algorithm)
		}
	}
	return true
}

// joining are words of a heading that say nothing else.
var joining = wordSet(`und et files file`)

func withoutLabels(text string, labels []label) string {
	for _, l := range slices.Backward(labels) {
		text = text[:l.from] + " " + text[l.to:]
	}
	return text
}

// announces reports whether a row ends as one does that something follows.
func announces(text string) bool {
	for _, end := range []string{":", "=", "=\"", "=(", ": |", ": >"} {
		if strings.HasSuffix(text, end) {
			return true
		}
	}
	return false
}

// chatMark is what programs for chats write before what somebody said.
var chatMark = regexp.MustCompile(
	`^(?:\[(?:[\d./-]+[,T ]+ ?)?\d{1,2}[:.]\d{2}(?:[:.]\d{2})?(?: ?[AaPp][Mm])?\]\s+(?:<?[\pL][\pL\d._@-]{0,30}(?: [\pL][\pL\d._@-]{0,30})?>?:\s+)?|` +
		`(?:\d{1,2}[:.]\d{2}(?:[:.]\d{2})?\s+)?<[@+ ]?[\pL][\pL\d._ -]{0,30}>:?\s+|\d{1,2}:\d{2}(?::\d{2})?\s+[\pL][\pL\d._-]{0,30}:\s+)`,
)

// forumMark are marks that forums put around words.
var forumMark = regexp.MustCompile(
	`(?i)\[/?(?:b|i|u|s|code|size|color|quote|pre|tt|hr|list|font|center|spoiler|url|\*)(?:=[^\]]*)?\]`,
)

// mayBeForum is a quick look before forumMark is tried: a bracket with a letter that such
// a mark begins with.
func mayBeForum(text string) bool {
	for at := strings.IndexByte(text, '['); at >= 0 && at+2 < len(text); {
		first := text[at+1]
		if first == '/' {
			first = text[at+2]
		}
		if strings.IndexByte("biuscqpthlf*", first|0x20) >= 0 || first == '*' {
			return true
		}
		next := strings.IndexByte(text[at+1:], '[')
		if next < 0 {
			return false
		}
		at += 1 + next
	}
	return false
}

// mayBeChat is a quick look before chatMark is tried: the time of a day, in brackets or
// not, or a name in pointed ones.
func mayBeChat(text string) bool {
	if len(text) < len("1:00") {
		return false
	}
	switch text[0] {
	case '<':
		return true
	case '[':
		return hasDigit(text[1:2])
	}
	return hasDigit(text[:1]) &&
		(strings.IndexByte(":.", text[1]) >= 0 || hasDigit(text[1:2]) && strings.IndexByte(":.", text[2]) >= 0)
}

// maxItemDigits bounds the number of an item in a list.
const maxItemDigits = 3

// listNumber returns how long the number of an item is that a text begins with, with the
// blanks behind it, or 0.
func listNumber(text string) int {
	n := 0
	for n < len(text) && hasDigit(text[n:n+1]) {
		n++
	}
	if n == 0 || n > maxItemDigits || n+1 >= len(text) || strings.IndexByte(".)", text[n]) < 0 {
		return 0
	}
	rest := strings.TrimLeft(text[n+1:], " \t")
	if len(rest) == len(text)-n-1 {
		return 0
	}
	return len(text) - len(rest)
}

// spaces replaces blanks of other kinds, which pages and word processors put between
// words, by plain ones, and drops what is not seen.
var spaces = strings.NewReplacer(
	"\u00a0", " ", "\u202f", " ", "\u2007", " ", "\u2009", " ", "\u3000", " ", "\u200b", "", "\ufeff", "", "：", ": ",
	"（", " (", "）", ") ", "，", ", ", "＝", "= ", "。", ". ", "│", "|", "┃", "|", "║", "|",
)

// unmark takes marks of quotation, of lists and of chats from the front of a row, and
// brings its blanks into one form. It is for rows that are in no strict form.
func (r *typedRow) unmark() {
	text := r.text
	if !isASCII(text) {
		text = strings.TrimSpace(spaces.Replace(text))
	}
	if mayBeForum(text) {
		text = strings.TrimSpace(forumMark.ReplaceAllString(text, ""))
	}
	if mayBeChat(text) {
		text = text[len(chatMark.FindString(text)):]
	}
	for more := true; more; {
		text, more = cutMark(text)
	}
	if text != r.text {
		r.column += max(0, strings.Index(r.text, text))
		r.text = text
	}
}

func isASCII(text string) bool {
	for i := 0; i < len(text); i++ {
		if text[i] >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

// cutMark cuts one mark from the front of a text, and reports whether there was one.
func cutMark(text string) (string, bool) {
	rest := text
	first, width := utf8.DecodeRuneInString(text)
	switch {
	case unicode.Is(unicode.So, first) || unicode.Is(unicode.Variation_Selector, first) || first == '\u200d':
		rest = text[width:] // “📦 gauge.bin”
	case strings.HasPrefix(text, ">"):
		rest = text[1:]
	case strings.HasPrefix(text, "| ") && strings.Count(text, "|") == 1:
		rest = text[2:]
	case strings.HasPrefix(text, "• "),
		strings.HasPrefix(text, "– "),
		strings.HasPrefix(text, "· "),
		strings.HasPrefix(text, "‣ "):
		_, n := utf8.DecodeRuneInString(text)
		rest = text[n:]
	case strings.HasPrefix(text, "- "), strings.HasPrefix(text, "* "), strings.HasPrefix(text, "+ "):
		rest = text[2:]
	case text != "" && '0' <= text[0] && text[0] <= '9':
		rest = text[listNumber(text):]
	}
	return strings.TrimLeft(rest, " \t"), rest != text
}

// rule reports whether a row draws a line.
func rule(text string) bool {
	if len(text) < 2 {
		return false
	}
	return strings.Trim(text, "-=_*~#+|:. ─━═│┼├┤┬┴┌┐└┘║╔╗╚╝╠╣╦╩╬\t") == "" && strings.ContainsAny(text, "-=_*~#+─━═┼")
}
