package manifest

import (
	"slices"
	"strings"

	"endeixis/core/digest"
)

// A grid is a table that is drawn with letters: where its columns begin, in bytes from the
// margin.
type grid struct {
	// bars is set for a table with a bar between its cells; columns are those of another.
	bars    bool
	columns []int
}

// wrappedCells makes one row of those over which the cells of a drawn table go on, as they
// do where a terminal was too narrow for them.
func (p *parser) wrappedCells(rows []row) []row {
	if !slices.ContainsFunc(rows, func(r row) bool { return gridOf(&r) != nil }) {
		return rows
	}
	out := rows[:0:0]
	var g *grid
	for i := 0; i < len(rows); i++ {
		r := &rows[i]
		switch found := gridOf(r); {
		case found != nil:
			g = found
		case r.blank || r.cells != nil:
			g = nil
		case g != nil && !rule(r.text):
			if line, n := p.unwrapped(g, rows[i:]); n > 1 {
				out = append(out, line)
				i += n - 1
				continue
			}
		}
		out = append(out, *r)
	}
	if len(out) == len(rows) {
		return rows
	}
	return out
}

// leastDash is how many dashes there are at least under the head of a column.
const leastDash = 3

// gridOf returns the table that a row of lines belongs to, or nil.
func gridOf(r *row) *grid {
	if len(r.text) < 2*leastDash || !strings.HasPrefix(r.text[1:], r.text[:1]) && r.text[0] == '-' ||
		strings.IndexByte("-+|", r.text[0]) < 0 ||
		strings.Trim(r.text, "-+=| ") != "" {
		return nil
	}
	if r.text[0] != '-' {
		return &grid{bars: true}
	}
	g := &grid{}
	for at := 0; at < len(r.text); {
		width := len(r.text[at:]) - len(strings.TrimLeft(r.text[at:], "-="))
		if width < leastDash {
			return nil
		}
		g.columns = append(g.columns, r.indent+at)
		at += width
		at += len(r.text[at:]) - len(strings.TrimLeft(r.text[at:], " "))
	}
	if len(g.columns) < 2 {
		return nil
	}
	return g
}

// cells cuts a row of the table, or returns nil for one that is none.
func (g *grid) cells(r *row) []string {
	if g.bars {
		if len(r.text) < 2 || r.text[0] != '|' || r.text[len(r.text)-1] != '|' {
			return nil
		}
		cells := strings.Split(r.text[1:len(r.text)-1], "|")
		for i := range cells {
			cells[i] = strings.TrimSpace(cells[i])
		}
		return cells
	}
	if strings.IndexByte(r.text, '\t') >= 0 {
		return nil
	}
	var cells []string
	for i, from := range g.columns {
		from = max(0, from-r.indent)
		to := len(r.text)
		if i+1 < len(g.columns) {
			to = min(to, max(0, g.columns[i+1]-r.indent))
		}
		if from > 0 && from < to && r.text[from-1] != ' ' {
			return nil // a cell that reaches over its column
		}
		cells = append(cells, strings.TrimSpace(r.text[min(from, to):to]))
	}
	return cells
}

// unwrapped returns the first of rows with those behind it that go on in its cells, and how
// many these are together; 1 where none does.
func (p *parser) unwrapped(g *grid, rows []row) (joined row, n int) {
	joined = rows[0]
	cells := g.cells(&joined)
	if cells == nil {
		return joined, 1
	}
	var pieces []string
	for n = 1; n < len(rows) && n <= maxJoined; n++ {
		more := g.cells(&rows[n])
		if rows[n].blank || len(more) != len(cells) || !goesOnInCells(cells, more) {
			break
		}
		for c := range cells {
			if cells[c] != "" && more[c] != "" {
				pieces = append(pieces, cells[c], more[c])
			}
			cells[c] += more[c]
		}
	}
	if n == 1 || slices.ContainsFunc(cells, noDigest) {
		return joined, 1
	}
	for _, piece := range pieces {
		p.aside.cover(piece)
	}
	if g.bars {
		joined.text = "| " + strings.Join(cells, " | ") + " |"
	} else {
		joined.text = strings.Join(cells, "  ")
	}
	return joined, n
}

// noDigest reports whether a cell is all digits, and not as many as a digest has.
func noDigest(cell string) bool {
	return len(cell) >= minDamaged && allHex(cell) && (len(cell)%2 != 0 || digest.OfSize(len(cell)/2) == nil)
}

// goesOnInCells reports whether the cells of a row go on in those of the next: some of them
// do, and others are empty there. A digest goes on in digits, and where none does, the row
// has none.
func goesOnInCells(cells, more []string) bool {
	empty, digits, names := 0, 0, 0
	for c := range cells {
		switch {
		case more[c] == "":
			empty++
		case cells[c] == "":
			return false
		case allHex(cells[c]) && allHex(more[c]) && len(cells[c]) >= minDamaged:
			digits++
		case digitRun(more[c]) >= minDamaged || strings.Contains(more[c], "  "):
			return false
		default:
			names++
		}
	}
	return empty > 0 && (digits > 0 || names == 1 && cutInPath(cells, more))
}

// cutInPath reports whether the one cell that goes on was cut within a path or a word: what
// is behind it would be no name by itself, or a sign of a path is at the cut.
func cutInPath(cells, more []string) bool {
	for c := range cells {
		if more[c] == "" {
			continue
		}
		last := cells[c][len(cells[c])-1]
		return strings.IndexByte(`/\-_.`, last) >= 0 || strings.IndexByte(`/\-_.`, more[c][0]) >= 0 ||
			!looksLikeFile(cells[c]) && looksLikeFile(cells[c]+more[c])
	}
	return false
}
