package manifest

import (
	"strings"

	"endeixis/core/digest"
)

// columnsOf reads rows that are cut into cells by one sign, without a header.
func (l *layout) columnsOf(group []*shape) bool {
	for _, comma := range []byte{'\t', '|', ';', ','} {
		if rows := cellsOf(group, comma); rows != nil && l.typedColumns(group, rows) {
			return true
		}
	}
	return false
}

// cellsOf cuts the rows of a group into cells, as many in each, or returns nil.
func cellsOf(group []*shape, comma byte) [][]string {
	var rows [][]string
	for _, s := range group {
		if !besideComma(s.r, comma) {
			return nil
		}
		cells := cut(s.r.text, comma)
		if len(cells) < 2 || len(rows) > 0 && len(cells) != len(rows[0]) {
			return nil
		}
		rows = append(rows, cells)
	}
	return rows
}

// besideComma reports whether a sign stands before the first value of a row or behind the
// last.
func besideComma(r *laidRow, comma byte) bool {
	text := r.text
	atComma := func(at, step int) bool {
		for at >= 0 && at < len(text) && strings.IndexByte(" \"`", text[at]) >= 0 {
			at += step
		}
		return at >= 0 && at < len(text) && text[at] == comma
	}
	return atComma(r.values[0].from-1, -1) || atComma(r.values[len(r.values)-1].to, 1)
}

// A columnCount tells what the cells of a column are, each by its form.
type columnCount struct{ values, numbers, labels, files, empty int }

func (l *layout) countColumn(rows [][]string, c int) (n columnCount) {
	for i := range rows {
		cell := trimCell(rows[i][c])
		_, label := algorithmOf(cell)
		switch {
		case cell == "":
			n.empty++
		case len(cell) >= minDigits && len(valuesIn(cell, l.crcList || l.hint.Size() == 4, digest.Unknown)) > 0:
			n.values++
		case sizeOf(cell) != nil:
			n.numbers++
		case label:
			n.labels++
		case kindOf(cell) == cellDate:
			n.empty++
		case looksLikeFile(cell) || l.known.is(cell) || isAddress(cell):
			n.files++
		}
	}
	return n
}

// columnRoles say which column of rows without a header holds what; -1 is none.
type columnRoles struct{ name, size, label int }

// rolesOf finds out what the columns of rows without a header hold. ok tells whether
// exactly one can be the name.
func (l *layout) rolesOf(rows [][]string) (roles columnRoles, ok bool) {
	roles = columnRoles{-1, -1, -1}
	sizes, files := 0, 0
	for c := range rows[0] {
		n := l.countColumn(rows, c)
		filled := len(rows) - n.empty
		switch {
		case filled == 0 || n.values > 0:
		case n.numbers == filled:
			roles.size = c
			sizes++
		case n.labels == filled:
			roles.label = c
		case n.files > files:
			roles.name, files = c, n.files
		}
	}
	if sizes != 1 {
		roles.size = -1
	}
	return roles, roles.name >= 0 && 2*files >= len(rows)
}

// typedColumns adds rows without a header, where it is plain what their columns hold.
func (l *layout) typedColumns(group []*shape, rows [][]string) bool {
	roles, ok := l.rolesOf(rows)
	if !ok {
		return false
	}
	for i, s := range group {
		if roles.size >= 0 {
			s.size = sizeOf(trimCell(rows[i][roles.size]))
		}
		if roles.label >= 0 {
			s.r.label(markOf(trimCell(rows[i][roles.label])))
		}
		cell := trimCell(rows[i][roles.name])
		if isAddress(cell) {
			cell = nameOfAddress(cell)
		}
		f := Table
		if len(rows[i]) == 2 {
			f = formatOf(s)
		}
		l.emit(s.r, cell, s.size, f)
	}
	return true
}

// label gives the values of a row that have none a label.
func (r *laidRow) label(a digest.Algorithm) {
	for j := range r.values {
		if r.values[j].algorithm == digest.Unknown {
			r.values[j].algorithm = a
		}
	}
}
