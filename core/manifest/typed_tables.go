package manifest

import (
	"encoding/csv"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"endeixis/core/digest"
)

// A table is a header row: which column holds what.
type table struct {
	// comma cuts the rows into cells; 0 stands for two blanks or more.
	comma   byte
	columns int
	// name, size, algorithm and value are columns, or -1. Value is one of digests whose
	// algorithm the row itself names, or nobody.
	name, size, algorithm, value int
	algorithms                   map[int]digest.Algorithm
	// images is set for a table of something else than files.
	images bool
	// others are columns of values that are digests of something else.
	others map[int]bool
	// files are the names over the columns of a table on its side, whose rows begin with
	// the algorithm; the first is empty.
	files []string
	// unnamed is set for a table without a column for names: the file is named above it.
	unnamed bool
	// above is the name in the row above, for tables whose rows leave it out when it is the
	// same.
	above string
}

// maxHeaderCell bounds a cell of a header.
const maxHeaderCell = 60

// headerOf recognises the header of a table: a column for the file's name, and at least
// one for digests.
func headerOf(cells []string, comma byte) *table { //nolint:cyclop // a list of cases, one for each kind of table
	if len(cells) < 2 {
		return nil
	}
	t := &table{
		comma: comma, columns: len(cells), name: -1, size: -1, algorithm: -1, value: -1,
		algorithms: map[int]digest.Algorithm{}, others: map[int]bool{},
	}
	address := -1
	for i, cell := range cells {
		cell = trimSeparators(strings.TrimSpace(cell))
		if len(cell) > maxHeaderCell {
			return nil
		}
		if addressWords[foldWords(cell)] && !nameWords[foldWords(cell)] {
			address = i
			continue
		}
		t.column(i, cell)
	}
	if t.name < 0 {
		t.name = address
	}
	switch {
	case t.name >= 0 && (len(t.algorithms) > 0 || t.value >= 0):
		return t
	case t.name < 0 && len(cells) == 2 && t.algorithm >= 0 && t.value >= 0:
		t.unnamed = true
		return t
	case t.images && len(t.algorithms) == 0:
		return t // “CONTAINER ID  IMAGE  STATUS”
	}
	return onItsSide(cells, t)
}

// onItsSide recognises the header of a table with a column for each file: its first cell is
// empty or says what the rows are, and all others are names.
func onItsSide(cells []string, t *table) *table {
	if t.comma != '|' && len(cells) < 3 {
		return nil
	}
	first := foldWords(trimCell(cells[0]))
	if first != "" && !nameWords[first] && !algorithmWords[first] && !hashWords[first] {
		return nil
	}
	t.files = []string{""}
	for _, cell := range cells[1:] {
		name := trimCell(cell)
		if isAddress(name) {
			name = nameOfAddress(name)
		}
		if !looksLikeFile(name) || len(digestsIn(name)) > 0 {
			return nil
		}
		t.files = append(t.files, name)
	}
	return t
}

// column notes what a cell of a header says of the column with an index.
func (t *table) column(i int, cell string) { //nolint:cyclop // a list of cases, one for each kind of column
	folded := foldWords(cell)
	bare := folded // without what stands in brackets
	if at := strings.IndexAny(cell, "(["); at > 0 {
		bare = foldWords(cell[:at])
	}
	labels := labelsIn(cell)
	switch {
	case nameWords[folded] && t.name < 0:
		t.name = i
	case len(labels) == 1 && !otherWords[bare]:
		t.labelled(i, cell, labels[0])
	case sizeWords[bare] || strings.HasPrefix(folded, "size"):
		if t.size < 0 && (bare == folded || inBytes(folded)) {
			t.size = i
		}
	case hashWords[folded] && t.value < 0:
		t.value = i
	case algorithmWords[folded] && t.algorithm < 0:
		t.algorithm = i
	case imageColumns[folded]:
		t.images = true
	case otherWords[folded]:
		t.others[i] = true
	}
}

// imageColumns are those of tables of images, which are no files.
var imageColumns = wordSet(`tag repository imageid containerid`)

// hasImageColumn is a quick look before a header of such a table is tried.
func hasImageColumn(text string) bool {
	return strings.Contains(text, "IMAGE ID") || strings.Contains(text, "CONTAINER ID")
}

// labelled notes a column with a label: one of digests, unless it says more.
func (t *table) labelled(i int, cell string, l label) {
	if onlyAbout(cell, l) {
		t.algorithms[i] = l.algorithm
	} else {
		t.others[i] = true
	}
}

// onlyAbout reports whether a cell says nothing besides its label but words for digests.
func onlyAbout(cell string, l label) bool {
	return !slices.ContainsFunc(
		splitKey(cell[:l.from]+" "+cell[l.to:]), func(w string) bool { return !hashWords[w] && !lead[w] },
	)
}

// inBytes reports whether the header of a column says that sizes in it are in bytes.
func inBytes(folded string) bool {
	return strings.Contains(folded, "byte") || strings.Contains(folded, "octet") || strings.Contains(folded, "байт")
}

// kind returns what the header of a table is as a row: one of a table whose file is named
// above it does not part the two.
func (t *table) kind() rowKind {
	if t.unnamed {
		return rowField
	}
	return rowHeader
}

// headerRow takes a text for the header of a table, if it is one.
func (t *typer) headerRow(text string) bool {
	for _, comma := range []byte{'\t', '|', ';', ',', 0} {
		if comma != 0 && strings.IndexByte(text, comma) < 0 {
			continue
		}
		if header := headerOf(cut(text, comma), comma); header != nil {
			t.table = header
			if len(header.algorithms) > 0 {
				t.section = section{}
			}
			return true
		}
	}
	return false
}

// cut cuts a row into cells, with the quoting of CSV where that applies.
func cut(text string, comma byte) []string {
	switch comma {
	case 0:
		return alignedCells(text)
	case '|':
		text = strings.TrimSpace(text)
		if strings.HasPrefix(text, "||") {
			return strings.Split(strings.Trim(text, "|"), "||") // the header of a wiki's table
		}
		text = wikiLink.ReplaceAllString(text, "$1")
		if strings.HasPrefix(text, "|") {
			return strings.Split(strings.TrimSuffix(text[1:], "|"), "|")
		}
		return strings.Split(strings.TrimSuffix(text, "|"), "|")
	}
	if strings.IndexByte(text, '"') < 0 {
		return strings.Split(text, string(comma))
	}
	r := csv.NewReader(strings.NewReader(text))
	r.Comma, r.LazyQuotes, r.FieldsPerRecord = rune(comma), true, -1
	cells, err := r.Read()
	if err != nil {
		return nil
	}
	return cells
}

// wikiLink is a link of which the text stands before a bar and the target behind it.
var wikiLink = regexp.MustCompile(`\[\[?([^\]|\[]+)\|[^\]|]+\]\]?`)

// alignedCells cuts a row at two blanks or more, at tabs, and around digests.
func alignedCells(text string) []string {
	var out []string
	add := func(s string) {
		s = strings.TrimSpace(s)
		if strings.Trim(s, "`\"'") == "" {
			return // the marks around a value
		}
		for s != "" {
			i := strings.Index(s, "  ")
			if j := strings.IndexByte(s, '\t'); j >= 0 && (i < 0 || j < i) {
				i = j
			}
			if i < 0 {
				out = append(out, s)
				return
			}
			out = append(out, s[:i])
			s = strings.TrimSpace(s[i:])
		}
	}
	at := 0
	for _, t := range digestsIn(text) {
		add(text[at:t.from])
		out = append(out, text[t.from:t.to])
		at = t.to
	}
	add(text[at:])
	return out
}

// tableRow reads a row of the table in force. It returns false when the row is not one;
// then the table has ended.
func (t *typer) tableRow(r *typedRow) bool {
	cells := cut(r.text, t.table.comma)
	if len(cells) != t.table.columns {
		cells = t.table.fit(r.text, cells)
	}
	if cells != nil {
		return t.takeCells(r, cells)
	}
	if t.table.comma != 0 && strings.IndexByte(r.text, t.table.comma) >= 0 && digitRun(r.text) >= 32 {
		// The table goes on behind it.
		r.kind = rowStated
		r.stated = append(
			r.stated,
			statement{
				code: BadDigest,
				message: fmt.Sprintf(
					"the row has not the %d cells that the header names, so that its digest cannot be told",
					t.table.columns,
				),
			},
		)
		return true
	}
	t.table = nil
	return false
}

// fit cuts a row that has another number of cells than the header: at single blanks, where
// every cell is one word, and with what is left over in the name, where that is the last.
// It returns nil where that does not fit either.
func (t *table) fit(text string, cells []string) []string {
	last := t.name == t.columns-1
	switch {
	case t.comma == 0:
		words := strings.Fields(text)
		if len(words) == t.columns {
			return words
		}
		if last && len(words) > t.columns {
			rest := text
			for range t.columns - 1 {
				rest = strings.TrimLeft(rest, " \t")
				rest = rest[strings.IndexAny(rest+" ", " \t"):]
			}
			return append(words[:t.columns-1:t.columns-1], strings.TrimSpace(rest))
		}
	case last && t.comma != '|' && len(cells) > t.columns:
		return append(cells[:t.columns-1:t.columns-1], strings.Join(cells[t.columns-1:], string(t.comma)))
	}
	return nil
}

// takeCells takes the cells of a row under the table's header.
func (t *typer) takeCells(r *typedRow, cells []string) bool { //nolint:cyclop // one check for each kind of cell
	if t.table.images {
		r.kind, r.why = rowAside, "it is of an image or a package, and no file of that is named"
		return true
	}
	switch {
	case t.table.files != nil:
		return t.sideRow(r, cells)
	case t.table.unnamed:
		return t.unnamedRow(r, cells)
	}
	name := trimCell(cells[t.table.name])
	switch {
	case name == "" && t.table.algorithm >= 0 && t.table.above != "":
		name = t.table.above
	case name == "" || strings.Trim(name, "-=: ") == "":
		return rule(r.text)
	}
	above := *t.table
	above.above = name
	t.table = &above
	if base := nameOfAddress(name); isAddress(name) && base != "" {
		name = base
	}
	var length *size
	if t.table.size >= 0 {
		length = statedSize(trimCell(cells[t.table.size]))
	}
	stated := r.stated
	for i := range cells {
		s, ok := t.cell(r, cells, i)
		if !ok {
			continue
		}
		if s.code == "" {
			s.entry.Name = name
			s.entry.take(length)
			if cutName(name) {
				s.entry.Name, s.entry.format = "", codeOf(Bare)
			}
			s.entry.at(r.no, r.column)
		}
		stated = append(stated, s)
	}
	if len(stated) == len(r.stated) {
		return false
	}
	r.kind, r.stated = rowStated, stated
	return true
}

// sideRow reads a row of a table with a column for each file: the algorithm, and a digest
// for each. Other rows say something else of the files.
func (t *typer) sideRow(r *typedRow, cells []string) bool {
	a := markOf(trimCell(cells[0]))
	r.kind = rowStated
	if a == digest.Unknown {
		return true
	}
	turned := &table{
		columns: len(cells), name: -1, size: -1, algorithm: -1, value: -1, algorithms: map[int]digest.Algorithm{},
	}
	for i := range cells[1:] {
		turned.algorithms[i+1] = a
	}
	header := t.table
	t.table = turned
	defer func() { t.table = header }()
	for i := range cells[1:] {
		s, ok := t.cell(r, cells, i+1)
		if !ok {
			continue
		}
		if s.code == "" {
			s.entry.Name = header.files[i+1]
			s.entry.at(r.no, r.column)
		}
		r.stated = append(r.stated, s)
	}
	return true
}

// unnamedRow reads a row with an algorithm and a digest, whose file is named elsewhere.
func (t *typer) unnamedRow(r *typedRow, cells []string) bool {
	a := markOf(trimCell(cells[t.table.algorithm]))
	values := valuesIn(r.text, a.Size() == 4, a)
	if a == digest.Unknown || len(values) != 1 {
		t.table = nil
		return false
	}
	if values[0].algorithm == digest.Unknown {
		values[0].algorithm = a
	}
	r.kind, r.values, r.labels = rowValue, values, labelsIn(r.text)
	return true
}

// cell reads the digest in one cell of a row, if its column is there for one.
func (t *typer) cell(r *typedRow, cells []string, i int) (s statement, ok bool) {
	a, ok := t.table.algorithmOf(cells, i)
	cell := trimCell(cells[i])
	if !ok || cell == "" || cell == "-" || cell == "—" || strings.EqualFold(cell, "n/a") {
		return s, false
	}
	values := t.valuesInCell(cell, a)
	if len(values) != 1 {
		return statement{code: BadDigest, message: "what stands in the column of " + a.String() + " is no such digest"},
			len(values) == 0 && len(cell) >= minDigits && a != digest.Unknown
	}
	v := values[0]
	if v.algorithm != digest.Unknown {
		a = v.algorithm
	}
	if v.digest == nil {
		return statement{code: BadDigest, message: notADigest + v.wrong}, true
	}
	candidates, wrong := t.candidates(r.section, v.digest, a)
	if wrong != "" {
		return statement{code: BadDigest, message: wrong}, true
	}
	return statement{entry: entryOf("", v.digest, candidates, Table)}, true
}

// algorithmOf returns the algorithm of the digests in a column, by the header or by the
// row. ok is false for a column of something else.
func (t *table) algorithmOf(cells []string, i int) (a digest.Algorithm, ok bool) {
	if a, ok := t.algorithms[i]; ok || i != t.value {
		return a, ok
	}
	if t.algorithm >= 0 {
		a = markOf(trimCell(cells[t.algorithm]))
	}
	return a, true
}

// valuesInCell finds the values in a cell of a column of digests.
func (t *typer) valuesInCell(cell string, a digest.Algorithm) []value {
	values := valuesIn(cell, a.Size() == 4 || t.hint.Size() == 4, a)
	if len(values) > 0 || a == digest.Unknown {
		return values
	}
	if decoded := decodeBase64(cell); len(decoded) == a.Size() {
		return []value{{to: len(cell), digest: decoded, algorithm: a, encoded: true}}
	}
	return nil
}

// trimCell takes blanks, quotes and marks of Markdown from a cell, and of a link what it
// stands for.
func trimCell(cell string) string {
	if !isASCII(cell) {
		cell = spaces.Replace(cell)
	}
	cell = strings.TrimSpace(plainLinks(cell))
	if cell == "" || strings.IndexByte("`*{\"'", cell[0]) < 0 {
		return cell
	}
	for _, mark := range []string{"``", "`", "**", "{{", "\"", "'"} {
		end := mark
		if mark == "{{" {
			end = "}}"
		}
		if len(cell) > 2*len(mark) && strings.HasPrefix(cell, mark) && strings.HasSuffix(cell, end) {
			cell = cell[len(mark) : len(cell)-len(mark)]
		}
	}
	return strings.TrimSpace(cell)
}

// pageRow takes a row of a page's table, whose cells are known.
func (t *typer) pageRow(r *typedRow) bool {
	if r.head || t.table == nil || t.table.columns != len(r.cells) {
		if header := headerOf(r.cells, 0); header != nil && len(digestsIn(r.text)) == 0 {
			t.table, r.kind = header, header.kind()
			return true
		}
		if t.table == nil || t.table.columns != len(r.cells) {
			return false
		}
	}
	return t.takeCells(r, r.cells)
}
