package manifest

import (
	"encoding/csv"
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
		folded := foldWords(cell)
		bare := folded
		if at := strings.IndexAny(cell, "(["); at > 0 {
			bare = foldWords(cell[:at])
		}
		labels := labelsIn(cell)
		switch {
		case len(cell) > 60:
			return nil
		case nameWords[folded] && t.name < 0:
			t.name = i
		case len(labels) == 1 && !otherWords[bare]:
			words := splitKey(cell[:labels[0].from] + " " + cell[labels[0].to:])
			mine := true
			for _, w := range words {
				mine = mine && (hashWords[w] || lead[w])
			}
			if mine {
				t.algorithms[i] = labels[0].algorithm
			} else {
				t.others[i] = true
			}
		case sizeWords[bare] || strings.HasPrefix(folded, "size"):
			if t.size < 0 && (bare == folded || strings.Contains(folded, "byte") || strings.Contains(folded, "octet") || strings.Contains(folded, "байт")) {
				t.size = i
			}
		case addressWords[folded]:
			address = i
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
	if t.name < 0 {
		t.name = address
	}
	if t.name < 0 || len(t.algorithms) == 0 && t.value < 0 {
		return nil
	}
	return t
}

// headerRow takes a row for the header of a table, if it is one.
func (l *layout) headerRow(r *row) bool {
	for _, comma := range []byte{'\t', '|', ';', ',', 0} {
		if comma != 0 && strings.IndexByte(r.text, comma) < 0 {
			continue
		}
		if t := headerOf(cut(r.text, comma), comma); t != nil {
			l.table = t
			if len(t.algorithms) > 0 {
				l.section = section{}
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
	for _, t := range tokensIn(text, false, digest.Unknown) {
		add(text[at:t.from])
		out = append(out, text[t.from:t.to])
		at = t.to
	}
	add(text[at:])
	return out
}

// tableRow reads a row of the table in force. It returns false when the row is not one;
// then the table has ended.
func (l *layout) tableRow(r *row) bool {
	t := l.table
	text := r.text
	cells := cut(text, t.comma)
	if len(cells) != t.columns {
		// A row may be cut at single blanks too, where every cell is one word.
		if words := strings.Fields(text); t.comma == 0 && len(words) == t.columns {
			cells = words
		} else {
			l.table = nil
			return false
		}
	}
	return l.takeCells(r, cells)
}

// takeCells takes the cells of a row under the table's header.
func (l *layout) takeCells(r *row, cells []string) bool {
	t, p := l.table, l.p
	if t.images {
		r.kind = rowDone
		p.aside.note(r.no, "it is of an image or a package, and no file of that is named")
		return true
	}
	name := trimCell(cells[t.name])
	if name == "" || strings.Trim(name, "-=: ") == "" {
		return rule(r.text)
	}
	if isAddress(name) {
		if base := nameOfAddress(name); base != "" {
			name = base
		}
	}
	var size *int64
	if t.size >= 0 {
		size = sizeOf(trimCell(cells[t.size]))
	}
	label := digest.Unknown
	if t.algorithm >= 0 {
		label = l.markOf(trimCell(cells[t.algorithm]))
	}
	p.line = r.no
	var found []Entry
	told := false
	for i := range cells {
		a, ok := t.algorithms[i]
		if !ok && i == t.value {
			a, ok = label, true
		}
		cell := trimCell(cells[i])
		if !ok || cell == "" || cell == "-" || cell == "—" || strings.EqualFold(cell, "n/a") {
			continue
		}
		tokens := tokensIn(cell, a.Size() == 4 || p.hint.Size() == 4, a)
		if len(tokens) == 0 && a != digest.Unknown {
			if value := decodeBase64(cell); len(value) == a.Size() {
				tokens = []token{{to: len(cell), value: value, algorithm: a, encoded: true}}
			}
		}
		if len(tokens) != 1 {
			if len(tokens) == 0 && len(cell) > 7 && a != digest.Unknown {
				p.problem(BadDigest, "what stands in the column of "+a.String()+" is no such digest")
				told = true
			}
			continue
		}
		one := tokens[0]
		if one.algorithm != digest.Unknown {
			a = one.algorithm
		}
		if one.value == nil {
			p.problem(BadDigest, notADigest+one.wrong)
			told = true
			continue
		}
		candidates, wrong := l.candidates(r, one.value, a)
		if wrong != "" {
			p.problem(BadDigest, wrong)
			told = true
			continue
		}
		e := entryOf(name, one.value, candidates, Table)
		if cutName(name) {
			e.Name, e.format = "", codeOf(Bare)
		}
		e.Size = size
		e.at(r.no, r.column)
		found = append(found, e)
	}
	if len(found) == 0 && !told {
		return false
	}
	for _, e := range found {
		p.add(e)
	}
	r.kind = rowDone
	return true
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
func (l *layout) pageRow(r *row) bool {
	if r.isHeader || l.table == nil || l.table.columns != len(r.cells) {
		if t := headerOf(r.cells, 0); t != nil && len(tokensIn(r.text, false, digest.Unknown)) == 0 {
			l.table, r.kind = t, rowHeader
			return true
		}
		if l.table == nil || l.table.columns != len(r.cells) {
			return false
		}
	}
	return l.takeCells(r, r.cells)
}

// columnsOf reads rows that are cut into cells by one sign, without a header.
func (l *layout) columnsOf(group []*shape) bool {
	if len(group) == 0 {
		return false
	}
	for _, comma := range []byte{'\t', '|', ';', ','} {
		count := 0
		var rows [][]string
		for _, s := range group {
			t := s.r.tokens[0]
			last := s.r.tokens[len(s.r.tokens)-1]
			text := s.r.text
			beside := func(at, step int) bool {
				for at >= 0 && at < len(text) && (text[at] == ' ' || text[at] == '"' || text[at] == '`') {
					at += step
				}
				return at >= 0 && at < len(text) && text[at] == comma
			}
			if !beside(t.from-1, -1) && !beside(last.to, 1) {
				break
			}
			cells := cut(text, comma)
			if len(cells) < 2 || count != 0 && len(cells) != count {
				break
			}
			count = len(cells)
			rows = append(rows, cells)
		}
		if len(rows) == len(group) && l.typedColumns(group, rows) {
			return true
		}
	}
	return false
}

// typedColumns finds out what the columns of rows without a header hold, and adds the
// rows when exactly one can be the name.
func (l *layout) typedColumns(group []*shape, rows [][]string) bool {
	name, size, label := -1, -1, -1
	sizes := 0
	bestFiles := 0
	for c := range rows[0] {
		values, numbers, labels, files, empty := 0, 0, 0, 0, 0
		for i := range rows {
			cell := trimCell(rows[i][c])
			switch {
			case cell == "":
				empty++
			case len(tokensIn(cell, l.p.crcList || l.p.hint.Size() == 4, digest.Unknown)) > 0:
				values++
			case sizeOf(cell) != nil:
				numbers++
			default:
				if _, ok := algorithmOf(cell); ok {
					labels++
				} else if kindOf(cell) == cellDate {
					empty++
				} else if looksLikeFile(cell) || l.p.known.is(cell) || isAddress(cell) {
					files++
				}
			}
		}
		switch n := len(rows) - empty; {
		case n == 0 || values > 0:
		case numbers == n:
			size = c
			sizes++
		case labels == n:
			label = c
		case files > bestFiles:
			name, bestFiles = c, files
		}
	}
	if name < 0 || 2*bestFiles < len(rows) {
		return false
	}
	for i, s := range group {
		if sizes == 1 {
			s.size = sizeOf(trimCell(rows[i][size]))
		}
		if label >= 0 {
			if a, ok := algorithmOf(trimCell(rows[i][label])); ok {
				for j := range s.r.tokens {
					if s.r.tokens[j].algorithm == digest.Unknown {
						s.r.tokens[j].algorithm = a
					}
				}
			}
		}
		cell := trimCell(rows[i][name])
		if isAddress(cell) {
			cell = nameOfAddress(cell)
		}
		f := Table
		if len(rows[i]) == 2 {
			f = l.formatOf(s)
		}
		l.emit(s.r, cell, s.size, f)
	}
	return true
}
