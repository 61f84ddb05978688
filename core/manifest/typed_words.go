package manifest

import (
	"regexp"
	"strings"

	"endeixis/core/digest"
)

// onlyWords reports whether a row has nothing but words in it, as most rows of a letter.
func onlyWords(text string) bool {
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case '0' <= c && c <= '9',
			c == '.' && i+1 < len(text) && text[i+1] != ' ',
			strings.IndexByte(":=|\t/\\[%$>", c) >= 0,
			c >= 0x80:
			return false
		}
	}
	return true
}

// roundSize is a row with nothing but a size, in whatever unit.
var roundSize = regexp.MustCompile(`(?i)^\(?~?\d[\d.,' ]*\s*(?:[kmgt]i?b|[kmgt]|b|bytes?|octets?|kbytes?|mbytes?)?\)?$`)

// A wordRule types a row of words, or leaves it to the next.
type wordRule func(t *typer, r *typedRow) bool

// wordReadings are tried one after the other. The first that types a row ends it.
var wordReadings = []wordRule{
	(*typer).smallRow,
	(*typer).plainWords,
	(*typer).prompt,
	(*typer).knownName,
	(*typer).fieldOfRecord,
	(*typer).percentLabel,
	(*typer).headingOfRows,
	(*typer).addressAlone,
	(*typer).nameAlone,
	(*typer).nameOfWords,
	(*typer).notOneName,
	(*typer).nameInColumns,
	(*typer).nameWithLabel,
	(*typer).nameBehindColon,
	(*typer).nameInField,
	(*typer).nameOfDownload,
	(*typer).nameAndMore,
}

// wordRow says what a row without values is.
func (t *typer) wordRow(r *typedRow) {
	for _, reading := range wordReadings {
		if reading(t, r) {
			return
		}
	}
}

// files returns the names of files in a text. The readings of one row ask for it several
// times.
func (t *typer) files(text string) []string {
	if text != t.asked {
		t.asked, t.found = text, t.known.fileWords(text)
	}
	return t.found
}

// names types a row as the name of a file and nothing beside it.
func (r *typedRow) names(name string) {
	r.kind, r.said.name, r.said.pure = rowName, name, true
}

// maxSmall bounds a row that holds nothing but a word for digests, a size or a date.
const maxSmall = 32

// smallRow types such a row: it parts nothing.
func (t *typer) smallRow(r *typedRow) bool {
	text := r.text
	if len(text) >= maxSmall {
		return false
	}
	sized := (text[0] == '(' || text[0] == '~' || hasDigit(text[:1])) && roundSize.MatchString(text)
	if !sized && !hashWords[foldWords(text)] && kindOf(text) != cellDate {
		return false
	}
	r.kind, r.said.size = rowField, sizeOf(text)
	return true
}

// plainWords leaves alone what has nothing but words in it.
func (t *typer) plainWords(r *typedRow) bool {
	return onlyWords(r.text) && len(r.labels) == 0 && !t.known.is(r.text)
}

// prompt types a command in what was copied from a console, which may name a file.
func (t *typer) prompt(r *typedRow) bool {
	command := promptOf(r.text)
	if command == "" {
		return false
	}
	files := t.known.fileWords(command)
	if len(files) != 1 {
		return true
	}
	r.kind, r.said.name, r.said.prompt = rowName, files[0], true
	if labels := labelsIn(command); len(labels) == 1 {
		r.said.label = labels[0].algorithm
	} else {
		r.said.label, _ = algorithmOf(leadingWord(command))
	}
	return true
}

func (t *typer) knownName(r *typedRow) bool {
	inner := trimSeparators(r.text)
	if !t.known.is(inner) {
		return false
	}
	r.names(inner)
	return true
}

func (t *typer) fieldOfRecord(r *typedRow) bool {
	f, ok := fieldOf(r.text)
	return ok && !isAddress(r.text) && t.fieldRow(r, f.label, strings.TrimSpace(f.text))
}

func (t *typer) percentLabel(r *typedRow) bool {
	inner, ok := strings.CutSuffix(r.text, "%")
	if !ok || len(inner) < 2 || inner[0] != '%' {
		return false
	}
	r.kind, r.said.label = rowField, markOf(inner[1:])
	return true
}

func (t *typer) headingOfRows(r *typedRow) bool {
	if t.labelsAbove && isAside(r.text) && len(r.labels) == 1 {
		r.kind, r.said.label = rowField, r.labels[0].algorithm // “(SHA-256)” below a value
		return true
	}
	if a := labelOfSection(r.text); a != digest.Unknown {
		t.section, t.table = section{algorithms: digest.Only(a), firm: true}, nil
		r.kind = rowHeading
		return true
	}
	if len(r.labels) == 0 || !t.heading(r.text) {
		return false
	}
	r.kind = rowHeading
	return true
}

// labelOfSection returns the algorithm in the name of a field that heads lines of its own:
// “SHA256-History:”.
func labelOfSection(text string) digest.Algorithm {
	name, ok := strings.CutSuffix(text, ":")
	label, what, two := strings.Cut(name, "-")
	if !ok || !two || strings.ContainsAny(what, " -.0123456789") {
		return digest.Unknown
	}
	return markOf(label)
}

// isAside reports whether a text is a remark on what stands above it.
func isAside(text string) bool {
	return text[0] == '(' && text[len(text)-1] == ')' || text[0] == '^' || strings.HasPrefix(text, "↑")
}

// addressAlone types a row that is an address and nothing else.
func (t *typer) addressAlone(r *typedRow) bool {
	inner := trimSeparators(r.text)
	if !isAddress(inner) || strings.Contains(inner, " ") {
		return false
	}
	if name := nameOfAddress(inner); looksLikeFile(name) {
		r.names(name)
	}
	return true
}

// nameAlone types a row that is one word with the form of a file's name, or the name of a
// section in brackets.
func (t *typer) nameAlone(r *typedRow) bool {
	inner := trimSeparators(r.text)
	quoted := quotedKey(r.text)
	switch {
	case quoted != "":
		r.names(quoted)
	case looksLikeFile(inner) && (!strings.ContainsAny(inner, " \t") || r.text[0] == '[' && r.text[len(r.text)-1] == ']'):
		r.names(inner)
	default:
		return false
	}
	return true
}

// maxNameWords bounds the words of a name with blanks that nothing marks as one.
const maxNameWords = 6

// nameOfWords types a row that is a file's name with blanks in it.
func (t *typer) nameOfWords(r *typedRow) bool {
	inner := trimSeparators(r.text)
	if !looksLikeFile(inner) || strings.Contains(inner, "  ") || len(labelsIn(r.text)) > 0 || hasHashWord(inner) ||
		startsProse(inner) ||
		strings.ContainsAny(inner, ":?&") ||
		len(strings.Fields(inner)) > maxNameWords ||
		len(t.files(r.text)) > 1 {
		return false
	}
	r.names(inner)
	return true
}

// notOneName leaves alone what names no file, or several.
func (t *typer) notOneName(r *typedRow) bool { return len(t.files(r.text)) != 1 }

// nameInColumns types columns of which one is the name and others a size, a date, an
// algorithm.
func (t *typer) nameInColumns(r *typedRow) bool {
	file := t.files(r.text)[0]
	cells := columns(r.text)
	if len(cells) < 2 {
		return false
	}
	for _, cell := range cells {
		if !looksLikeFile(cell) || !strings.HasSuffix(cell, file) {
			continue
		}
		r.names(cell)
		if labels := labelsIn(r.text); len(labels) == 1 {
			r.said.label = labels[0].algorithm
		}
		for _, other := range cells {
			if n := sizeOf(other); n != nil {
				r.said.size = n
			}
		}
		return true
	}
	return false
}

// nameWithLabel types a row of words with one name that speaks of digests.
func (t *typer) nameWithLabel(r *typedRow) bool {
	labels := labelsIn(r.text)
	if len(labels) == 0 && !hasHashWord(r.text) {
		return false
	}
	r.kind, r.said.name = rowName, t.files(r.text)[0]
	if len(labels) > 0 {
		r.said.label = labels[len(labels)-1].algorithm
	}
	return true
}

// nameBehindColon types “the image is up: gauge.img”.
func (t *typer) nameBehindColon(r *typedRow) bool {
	file := t.files(r.text)[0]
	before, ok := strings.CutSuffix(trimSeparators(r.text), file)
	if !ok || !strings.HasSuffix(strings.TrimSpace(before), ":") {
		return false
	}
	r.names(file)
	return true
}

// nameInField types “Attachment: gauge.img (64 KB)”. Other fields, such as
// “Homepage: https://…”, are about something else.
func (t *typer) nameInField(r *typedRow) bool {
	f, ok := fieldOf(r.text)
	if !ok || strings.HasPrefix(f.text, "//") {
		return false
	}
	file := t.files(r.text)[0]
	if after, ok := strings.CutPrefix(f.text, file); ok && strings.HasPrefix(strings.TrimSpace(after), "(") {
		r.names(file)
	}
	return true
}

// nameOfDownload types “wget https://…”.
func (t *typer) nameOfDownload(r *typedRow) bool {
	inner := trimSeparators(r.text)
	last := inner[strings.LastIndexByte(inner, ' ')+1:]
	file := t.files(r.text)[0]
	if !isAddress(last) || nameOfAddress(last) != file || len(strings.Fields(inner)) > maxNameWords {
		return false
	}
	r.names(file)
	return true
}

// nameAndMore types “gauge.img (64 MB)” and “gauge.img - for the tower”.
func (t *typer) nameAndMore(r *typedRow) bool {
	file := t.files(r.text)[0]
	rest, ok := strings.CutPrefix(strings.TrimLeft(trimSeparators(r.text), "\"'`“«"), file)
	if !ok {
		return false
	}
	after := strings.TrimLeft(rest, " \"'`”»")
	if after != "" && strings.IndexByte("(-[", after[0]) >= 0 || kindOf(strings.Fields(after + " x")[0]) == cellNumber {
		r.names(file)
		r.said.size = sizeOf(after)
	}
	return true
}

// quotedKey returns the name of a file that ends the name of a section in quotation marks,
// “[assets."gauge.img"]”, or "".
func quotedKey(text string) string {
	inner, ok := strings.CutSuffix(text, `"]`)
	if !ok || !strings.HasPrefix(inner, "[") {
		return ""
	}
	if at := strings.LastIndex(inner, `."`); at > 0 && looksLikeFile(inner[at+2:]) {
		return inner[at+2:]
	}
	return ""
}

func hasHashWord(text string) bool {
	return hasWord(text, func(w []byte) bool { return isHashBytes(w) && !loose[string(w)] })
}

// loose are words for digests that are said of much else.
var loose = wordSet(`value content sum verify verification`)

// fieldRow reads “LABEL: VALUE” of a record where the label is one that is known.
//
//nolint:cyclop // a list of cases, one for each kind of field
func (t *typer) fieldRow(r *typedRow, key, text string) bool {
	folded := foldWords(key)
	if singular := strings.TrimSuffix(folded, "s"); addressWords[singular] {
		folded = singular
	}
	inner := trimSeparators(text)
	switch {
	case t.wordedName(r, key, folded, inner):
	case namesField(folded):
		return t.nameField(r, key, folded, inner)
	case sizeWords[folded]:
		r.kind, r.said.size = rowField, statedSize(inner)
	case folded == "contentdisposition":
		return t.disposition(r, text)
	case algorithmWords[folded] && markOf(inner) != digest.Unknown:
		r.kind, r.said.label = rowField, markOf(inner)
	case hashWords[folded] && inner == "":
		r.kind = rowField
	case folded == "version" || folded == "pkgver":
		r.kind, r.said.packaged = rowField, true
	case inner == "" && looksLikeFile(key) && !hasHashWord(key) && len(labelsIn(key)) == 0:
		r.names(key) // “gauge.bin:” heads the values below
	default:
		return false
	}
	return true
}

// namesField reports whether a field is there for the name of a file or its address.
func namesField(folded string) bool {
	return nameWords[folded] || addressWords[folded] || strings.HasSuffix(folded, "filename") ||
		strings.HasSuffix(folded, "hashof")
}

// wordedName reads a field with further words before the one for names: “TIDE_URL: …”.
func (t *typer) wordedName(r *typedRow, key, folded, inner string) bool {
	words := splitKey(key)
	if len(words) < 2 || strings.Contains(key, " ") || nameWords[folded] || addressWords[folded] || inner == "" {
		return false
	}
	last := words[len(words)-1]
	name := inner
	if isAddress(inner) {
		name = nameOfAddress(inner)
	}
	if !addressWords[last] && !strongNames[last] || !looksLikeFile(name) {
		return false
	}
	r.names(name)
	r.said.prefix, r.said.key = strings.Join(words[:len(words)-1], " "), strings.Join(words, " ")
	return true
}

// packageNames are fields that may hold the name of a package instead of a file's.
var packageNames = wordSet(`package name target image nom nome имя download`)

// nameField reads a field for the name of a file or its address.
func (t *typer) nameField(r *typedRow, key, folded, inner string) bool {
	name := inner
	if isAddress(inner) {
		name = nameOfAddress(inner)
	}
	if inner == "" || (isAddress(inner) || addressWords[folded]) && !looksLikeFile(name) {
		return false
	}
	if packageNames[folded] && !looksLikeFile(name) && !t.known.is(name) {
		r.kind, r.said.packaged = rowField, true
		if strings.EqualFold(key, "Name") && t.archive {
			r.names(inner)
		}
		return true
	}
	r.names(name)
	r.said.strong = strongNames[folded]
	return true
}

// disposition reads the name in a header field of an answer (RFC 6266).
func (t *typer) disposition(r *typedRow, text string) bool {
	if files := t.known.fileWords(text); len(files) == 1 {
		r.names(files[0])
		return true
	}
	const key = "filename="
	at := strings.Index(text, key)
	if at >= 0 {
		r.names(trimSeparators(text[at+len(key):]))
	}
	return at >= 0
}

// prompts are marks behind which a command stands in what was copied from a console.
var prompts = []string{"$ ", "# ", "% ", "> "}

// maxPrompt bounds what stands before a command.
const maxPrompt = 60

// promptOf returns the command in a row copied from a console, or "".
func promptOf(text string) string {
	for _, mark := range prompts {
		at := strings.Index(text, mark)
		if at >= 0 && at <= maxPrompt && isPrompt(text[:at], mark) {
			return strings.TrimSpace(text[at+len(mark):])
		}
	}
	if i := strings.Index(text, `>`); i > 2 && strings.Contains(text[:i], `:\`) {
		return strings.TrimSpace(text[i+1:])
	}
	return ""
}

// isPrompt reports whether what stands before a mark is a console's: a person, a machine,
// a folder.
func isPrompt(before, mark string) bool {
	if before == "" {
		return true
	}
	last := before[len(before)-1]
	switch {
	case strings.Contains(before, "  "), strings.IndexByte("~]:)/\\", last) < 0 && !isAlnum(last):
		return false
	case mark == "# ":
		return strings.ContainsAny(before, "@:")
	case mark == "> ":
		return strings.HasPrefix(before, "PS") || strings.Contains(before, `:\`)
	}
	return true
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
