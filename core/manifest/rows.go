package manifest

import (
	"bytes"
	"io"
	"mime/quotedprintable"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"
)

// A row is one line of a text as it stands there, or what a page shows as one: the second
// room. Nothing changes a row once it is made.
type row struct {
	// text is the line without blanks around it.
	text string
	// no is its number in the source, and column where text begins in it.
	no, column int
	// indent counts the blanks before it.
	indent int
	blank  bool
	// long is set for a line over the bound, which is not read.
	long bool
	// warm is set for a row that is near one that may hold a value. Others are words.
	warm bool
	// many counts the rows that one stands for in whose place it is, or is 0.
	many int
	// head is set by a page's own marks for the head of a table, and cells are those of a
	// table's row in a page, or nil.
	head  bool
	cells []string
}

// rowOf makes a row of a line.
func rowOf(line string, no, maxLine int) row {
	if len(line) > maxLine {
		return row{no: no, column: 1, long: true}
	}
	if n := len(line); n > 0 && (line[n-1] <= ' ' || line[n-1] >= utf8.RuneSelf) {
		line = strings.TrimRight(line, " \t\r\u00a0\u3000")
	}
	text := strings.TrimLeft(line, " \t")
	indent := len(line) - len(text)
	return row{text: text, no: no, column: indent + 1, indent: indent, blank: text == ""}
}

// blankRow is one that parts what is above it from what is below.
func blankRow(no int) row { return row{no: no, column: 1, blank: true} }

// rowsOf cuts the first rows of a text, of which the first is of the given number, until
// there are twice as many as a window has. Of blank lines one after the other one is kept.
func (p *parser) rowsOf(text string, no int, rows []row) (_ []row, rest string) {
	for len(text) > 0 && len(rows) < 2*p.opts.window {
		var line string
		if end := strings.IndexByte(text, '\n'); end >= 0 {
			line, text = text[:end], text[end+1:]
		} else {
			line, text = text, ""
		}
		r := rowOf(line, no, p.opts.MaxLine)
		no++
		if n := len(rows); n > 1 && r.blank && rows[n-1].blank {
			rows[n-1].no = r.no
			continue
		}
		rows = append(rows, r)
	}
	return rows, text
}

// nulRecord is a record of a list whose records end with a NUL, so that names can hold
// anything else.
var nulRecord = regexp.MustCompile(`^[0-9a-fA-F]{32,128} [ *][^\x00]+\x00`)

// nulHead is how much of a text is looked at to tell whether its records end so.
const nulHead = 8192

func nulSeparated(text string) bool {
	head := text[:min(len(text), nulHead)]
	if strings.IndexByte(head, 0) < 0 || !nulRecord.MatchString(head) {
		return false
	}
	for at := strings.IndexByte(head, 0); at >= 0; {
		rest := strings.TrimLeft(head[at+1:], "\n")
		next := strings.IndexByte(rest, 0)
		if rest != "" && next >= 0 && leadingHex(rest) < 32 || rest != "" && next < 0 && len(head) == len(text) {
			return false
		}
		if at = next; next >= 0 {
			head = rest
		}
	}
	return true
}

// nulRows makes rows of such records.
func nulRows(text string, maxLine int) []row {
	var out []row
	no := 1
	for record := range strings.SplitSeq(text, "\x00") {
		record = strings.TrimLeft(record, "\n")
		if record == "" {
			continue
		}
		out = append(out, rowOf(record, no, maxLine))
		no += strings.Count(record, "\n")
	}
	return out
}

// whole returns rows in which what was broken over several lines is one again: lines that
// go on in the next, fields of two lines, texts in the encodings of mail.
func (p *parser) whole(rows []row) []row {
	if p.archive {
		rows = p.continuedLines(rows)
	}
	rows = percentFields(rows)
	if quotedPrintable(rows) {
		rows = p.decodedLines(rows)
	}
	return openTags(byteArrays(p.wrappedCells(cellLines(valueLists(rows)))))
}

// cellLines makes rows of a table of one whose cells stand each on a line of its own,
// between lines of “|===”.
func cellLines(rows []row) []row {
	const fence = "|==="
	if !slices.ContainsFunc(rows, func(r row) bool { return r.text == fence }) {
		return rows
	}
	out := rows[:0:0]
	inside, columns := false, 0
	var cells []string
	for _, r := range rows {
		switch {
		case r.text == fence:
			inside, columns, cells = !inside, 0, nil
			r.text, r.blank = "", true
		case !inside || !strings.HasPrefix(r.text, "|"):
		case columns == 0:
			r.cells = strings.Split(strings.TrimPrefix(r.text, "|"), "|")
			r.head, columns = true, len(r.cells)
		default:
			if cells = append(cells, strings.Split(strings.TrimPrefix(r.text, "|"), "|")...); len(cells) < columns {
				continue
			}
			r.cells, cells = cells[:columns:columns], nil
			r.text = strings.Join(r.cells, "\t")
		}
		out = append(out, r)
	}
	return out
}

// byteLine is a line of an array of bytes in a program.
var byteLine = regexp.MustCompile(`^(?:0x[0-9a-fA-F]{2},? *){4,}$`)

// byteArrays joins the lines of such an array.
func byteArrays(rows []row) []row {
	isBytes := func(r row) bool { return strings.HasPrefix(r.text, "0x") && byteLine.MatchString(r.text) }
	if !slices.ContainsFunc(rows, isBytes) {
		return rows
	}
	out := rows[:0:0]
	joined := false
	for _, r := range rows {
		if n := len(out) - 1; joined && isBytes(r) {
			out[n].text = strings.TrimRight(out[n].text, ", ") + ", " + r.text
			continue
		}
		joined = isBytes(r)
		out = append(out, r)
	}
	return out
}

// valueList is the head of a dump of a table: the names of its columns.
var valueList = regexp.MustCompile(`(?i)^INSERT INTO [^(]*\(([^)]*)\)\s*VALUES\s*(.*)$`)

// valueLists makes rows of a table of a dump in SQL: columns named once, and values in
// brackets.
func valueLists(rows []row) []row {
	if !slices.ContainsFunc(
		rows, func(r row) bool { return len(r.text) > 12 && strings.EqualFold(r.text[:12], "INSERT INTO ") },
	) {
		return rows
	}
	out := rows[:0:0]
	columns := 0
	for _, r := range rows {
		rest := r.text
		if m := valueList.FindStringSubmatch(r.text); m != nil {
			head := r
			head.cells, head.head = strings.Split(m[1], ","), true
			columns, rest = len(head.cells), m[2]
			head.text = m[1]
			out = append(out, head)
			if rest == "" {
				continue
			}
		}
		if columns > 0 && strings.HasPrefix(rest, "(") {
			if cells := quotedCells(strings.TrimRight(rest, ",; ")); len(cells) == columns {
				r.cells, r.text = cells, strings.Join(cells, "\t")
			}
		}
		out = append(out, r)
	}
	return out
}

// quotedCells cuts “(1, 'a”b', 2)” into its values.
func quotedCells(text string) []string {
	text = strings.TrimSuffix(strings.TrimPrefix(text, "("), ")")
	var out []string
	var cell strings.Builder
	quoted := false
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c == '\'' && quoted && i+1 < len(text) && text[i+1] == '\'':
			cell.WriteByte(c)
			i++
		case c == '\'':
			quoted = !quoted
		case c == ',' && !quoted:
			out = append(out, strings.TrimSpace(cell.String()))
			cell.Reset()
		default:
			cell.WriteByte(c)
		}
	}
	return append(out, strings.TrimSpace(cell.String()))
}

// continuedLines joins the lines of a manifest of an archive that go on in the next one,
// which begins with a space.
func (p *parser) continuedLines(rows []row) []row {
	out := rows[:0:0]
	for _, r := range rows {
		if n := len(out) - 1; n >= 0 && !out[n].blank && !r.blank && r.indent == 1 {
			p.aside.cover(out[n].text)
			p.aside.cover(r.text)
			out[n].text += r.text
			continue
		}
		out = append(out, r)
	}
	return out
}

// percentField is a row with the name of a field between percent signs; its value is the
// next row.
var percentField = regexp.MustCompile(`^%[A-Z0-9]+%$`)

// percentFields makes rows of fields of such ones. A blank row ends a field and no record.
func percentFields(rows []row) []row {
	if !hasPercentFields(rows) {
		return rows
	}
	out := rows[:0:0]
	for i := 0; i < len(rows); i++ {
		r := rows[i]
		if i+1 >= len(rows) || !percentField.MatchString(r.text) || rows[i+1].text == "" {
			out = append(out, r)
			continue
		}
		next := rows[i+1]
		next.text = strings.Trim(r.text, "%") + ": " + next.text
		out = append(out, next)
		i++
		if i+2 < len(rows) && rows[i+1].blank && percentField.MatchString(rows[i+2].text) &&
			rows[i+2].text != "%FILENAME%" {
			i++
		}
	}
	return out
}

func hasPercentFields(rows []row) bool {
	for i := range rows {
		if text := rows[i].text; len(text) > 2 && text[0] == '%' && percentField.MatchString(text) {
			return true
		}
	}
	return false
}

// mailHead bounds the rows at the top of a text in which a mail says how it is encoded.
const mailHead = 80

// quotedPrintable reports whether a text says that its lines are in the encoding of that
// name (RFC 2045, section 6.7).
func quotedPrintable(rows []row) bool {
	for i := range min(len(rows), mailHead) {
		t := rows[i].text
		if len(t) < 80 && strings.HasPrefix(strings.ToLower(t), "content-transfer-encoding:") &&
			strings.Contains(strings.ToLower(t), "quoted-printable") {
			return true
		}
	}
	return false
}

// decodedLines decodes such lines, and joins those that were broken.
func (p *parser) decodedLines(rows []row) []row {
	out := rows[:0:0]
	for i := 0; i < len(rows); i++ {
		r := rows[i]
		if r.blank || r.long {
			out = append(out, r)
			continue
		}
		text := r.text
		for strings.HasSuffix(text, "=") && i+1 < len(rows) {
			i++
			text = strings.TrimSuffix(text, "=")
			p.aside.cover(text)
			p.aside.cover(leadingWord(rows[i].text))
			text += rows[i].text
		}
		if decoded, err := io.ReadAll(quotedprintable.NewReader(bytes.NewReader([]byte(text)))); err == nil {
			text = strings.TrimSpace(string(decoded))
		}
		r.text, r.blank = text, text == ""
		out = append(out, r)
	}
	return out
}

func leadingWord(s string) string {
	word, _, _ := strings.Cut(s, " ")
	return word
}

// openTag is a tagged row whose value has gone to the next one.
var openTag = regexp.MustCompile(`^\\?[A-Za-z][A-Za-z0-9/_-]* ?\(.*\) ?=$`)

// openTags puts such values back.
func openTags(rows []row) []row {
	isOpen := func(i int) bool {
		text := rows[i].text
		if text == "" || text[len(text)-1] != '=' || i+1 >= len(rows) || strings.IndexByte(text, '(') < 0 ||
			!openTag.MatchString(text) {
			return false
		}
		next := rows[i+1].text
		return next != "" && allHex(next)
	}
	first := 0
	for first < len(rows) && !isOpen(first) {
		first++
	}
	if first == len(rows) {
		return rows
	}
	out := slices.Clone(rows[:first])
	for i := first; i < len(rows); i++ {
		r := rows[i]
		if isOpen(i) {
			i++
			r.text += " " + rows[i].text
		}
		out = append(out, r)
	}
	return out
}
