package manifest

import (
	"encoding/csv"
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
}

// maxHeaderCell bounds a cell of a header.
const maxHeaderCell = 60

// headerOf recognises the header of a table: a column for the file's name, and at least
// one for digests.
func headerOf(cells []string, comma byte) *table {
	if len(cells) < 2 {
		return nil
	}
	t := &table{comma: comma, columns: len(cells), name: -1, size: -1, algorithm: -1, value: -1, algorithms: map[int]digest.Algorithm{}, others: map[int]bool{}}
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
	if t.name < 0 || len(t.algorithms) == 0 && t.value < 0 {
		return nil
	}
	return t
}

// column notes what a cell of a header says of the column with an index.
func (t *table) column(i int, cell string) {
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
		if onlyAbout(cell, labels[0]) {
			t.algorithms[i] = labels[0].algorithm
		} else {
			t.others[i] = true
		}
	case sizeWords[bare] || strings.HasPrefix(folded, "size"):
		if t.size < 0 && (bare == folded || inBytes(folded)) {
			t.size = i
		}
	case hashWords[folded] && t.value < 0:
		t.value = i
	case algorithmWords[folded] && t.algorithm < 0:
		t.algorithm = i
	case folded == "tag" || folded == "repository" || folded == "imageid":
		t.images = true
	case otherWords[folded]:
		t.others[i] = true
	}
}

// onlyAbout reports whether a cell says nothing besides its label but words for digests.
func onlyAbout(cell string, l label) bool {
	return !slices.ContainsFunc(splitKey(cell[:l.from]+" "+cell[l.to:]), func(w string) bool { return !hashWords[w] && !lead[w] })
}

// inBytes reports whether the header of a column says that sizes in it are in bytes.
func inBytes(folded string) bool {
	return strings.Contains(folded, "byte") || strings.Contains(folded, "octet") || strings.Contains(folded, "байт")
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
		return strings.Split(strings.Trim(strings.TrimSpace(text), "|"), "|")
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

// alignedCells cuts a row at two blanks or more, at tabs, and around digests.
func alignedCells(text string) []string {
	var out []string
	add := func(s string) {
		s = strings.TrimSpace(s)
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
	for _, t := range valuesIn(text, false, digest.Unknown) {
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
		// A row may be cut at single blanks too, where every cell is one word.
		if cells = strings.Fields(r.text); t.table.comma != 0 || len(cells) != t.table.columns {
			t.table = nil
			return false
		}
	}
	return t.takeCells(r, cells)
}

// takeCells takes the cells of a row under the table's header.
func (t *typer) takeCells(r *typedRow, cells []string) bool {
	if t.table.images {
		r.kind, r.why = rowAside, "it is of an image or a package, and no file of that is named"
		return true
	}
	name := trimCell(cells[t.table.name])
	if name == "" || strings.Trim(name, "-=: ") == "" {
		return rule(r.text)
	}
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

// cell reads the digest in one cell of a row, if its column is there for one.
func (t *typer) cell(r *typedRow, cells []string, i int) (s statement, ok bool) {
	a, ok := t.table.algorithms[i]
	if !ok && i == t.table.value {
		ok = true
		if t.table.algorithm >= 0 {
			a = markOf(trimCell(cells[t.table.algorithm]))
		}
	}
	cell := trimCell(cells[i])
	if !ok || cell == "" || cell == "-" || cell == "—" || strings.EqualFold(cell, "n/a") {
		return s, false
	}
	values := valuesIn(cell, a.Size() == 4 || t.hint.Size() == 4, a)
	if len(values) == 0 && a != digest.Unknown {
		if decoded := decodeBase64(cell); len(decoded) == a.Size() {
			values = []value{{to: len(cell), digest: decoded, algorithm: a, encoded: true}}
		}
	}
	if len(values) != 1 {
		return statement{code: BadDigest, message: "what stands in the column of " + a.String() + " is no such digest"},
			len(values) == 0 && len(cell) > 7 && a != digest.Unknown
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

// trimCell takes blanks, quotes and marks of Markdown from a cell, and of a link what it
// stands for.
func trimCell(cell string) string {
	cell = strings.TrimSpace(plainLinks(spaces.Replace(cell)))
	for _, mark := range []string{"``", "`", "**", "\"", "'"} {
		if len(cell) > 2*len(mark) && strings.HasPrefix(cell, mark) && strings.HasSuffix(cell, mark) {
			cell = cell[len(mark) : len(cell)-len(mark)]
		}
	}
	return strings.TrimSpace(cell)
}

// pageRow takes a row of a page's table, whose cells are known.
func (t *typer) pageRow(r *typedRow) bool {
	if r.head || t.table == nil || t.table.columns != len(r.cells) {
		if header := headerOf(r.cells, 0); header != nil && len(valuesIn(r.text, false, digest.Unknown)) == 0 {
			t.table, r.kind = header, rowHeader
			return true
		}
		if t.table == nil || t.table.columns != len(r.cells) {
			return false
		}
	}
	return t.takeCells(r, r.cells)
}
