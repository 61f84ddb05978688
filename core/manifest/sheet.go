package manifest

import (
	"regexp"
	"strings"
	"unicode/utf8"

	"endeixis/core/digest"
)

// A rowKind says what a row of a sheet is.
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
	// rowDone was read, or told as a problem.
	rowDone
)

// A row is one line of a sheet, and what was made of it.
type row struct {
	// text is the line without marks of quotation and without blanks around it.
	text string
	// no is its number in the source, and column where text begins in it.
	no, column int
	// indent counts the blanks before it.
	indent int
	kind   rowKind
	tokens []token
	labels []label
	// section is the algorithm that was announced when the row was reached.
	section section
	// name is that of a rowName, and size what a row says of one.
	name string
	size *int64
	// prefix are the words before the label of a field: “TIDE” of “TIDE_SHA256”.
	prefix string
	// key is all of the label of a field that names a file.
	key string
	// pure is set for a row that holds the name and nothing beside it.
	pure bool
	// label is the algorithm that a row without a value names.
	label digest.Algorithm
	// used is set once a value was tied to the name, and wordy for a value with words
	// around it that say something else.
	used, wordy bool
	// unsaid is set for a value behind a label that says of no digest, as short as
	// identifiers of many kinds are.
	unsaid bool
	// strong is set for a field that names the file of a record and nothing else.
	strong bool
	// packaged is set for a field that names a package or its version.
	packaged bool
	// prompt is set for a command in the transcript of a console.
	prompt bool
	// isHeader is set by a page's own marks for the head of a table.
	isHeader bool
	// cells are those of a table's row in a page, or nil.
	cells []string
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

// spaces replaces blanks of other kinds, which pages and word processors put between
// words, by plain ones, and drops what is not seen.
var spaces = strings.NewReplacer("\u00a0", " ", "\u202f", " ", "\u2007", " ", "\u2009", " ", "\u3000", " ", "\u200b", "", "\ufeff", "", "：", ": ", "（", " (", "）", ") ", "，", ", ", "＝", "= ", "。", ". ", "│", "|", "┃", "|", "║", "|")

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
		r := p.rowOf(line, no)
		no++
		if n := len(rows); n > 1 && r.kind == rowBlank && rows[n-1].kind == rowBlank {
			rows[n-1].no = r.no
			continue
		}
		rows = append(rows, r)
	}
	return rows, text
}

func (p *parser) rowOf(line string, no int) row {
	r := row{no: no, column: 1}
	if len(line) > p.opts.MaxLine {
		p.line = no
		p.out.Lines++
		p.problem(LineTooLong, "the line is longer than is read, and was passed over")
		r.kind = rowDone
		return r
	}
	line = strings.TrimRight(line, " \t\r\u00a0\u3000")
	trimmed := strings.TrimLeft(line, " \t")
	r.indent = len(line) - len(trimmed)
	r.column = r.indent + 1
	r.text = trimmed
	if trimmed == "" {
		r.kind = rowBlank
	}
	return r
}

// chatMark is what programs for chats write before what somebody said.
var chatMark = regexp.MustCompile(`^(?:\[(?:[\d./-]+[,T ]+ ?)?\d{1,2}[:.]\d{2}(?:[:.]\d{2})?(?: ?[AaPp][Mm])?\]\s+(?:<?[\pL][\pL\d._@-]{0,30}(?: [\pL][\pL\d._@-]{0,30})?>?:\s+)?|` +
	`(?:\d{1,2}[:.]\d{2}(?:[:.]\d{2})?\s+)?<[@+ ]?[\pL][\pL\d._ -]{0,30}>:?\s+|\d{1,2}:\d{2}(?::\d{2})?\s+[\pL][\pL\d._-]{0,30}:\s+)`)

// listNumber is the number of an item in a list.
var listNumber = regexp.MustCompile(`^\d{1,3}[.)]\s+`)

// unmark takes marks of quotation, of lists and of chats from the front of a row, and
// brings its blanks into one form. It is for rows that are in no strict form.
func (r *row) unmark() {
	text := r.text
	ascii := true
	for i := 0; i < len(text); i++ {
		if text[i] >= 0x80 {
			ascii = false
			break
		}
	}
	if !ascii {
		text = strings.TrimSpace(spaces.Replace(text))
	}
	if at := chatMark.FindString(text); at != "" {
		text = text[len(at):]
	}
	for {
		before := text
		switch {
		case strings.HasPrefix(text, ">"):
			text = strings.TrimLeft(text[1:], " \t")
		case strings.HasPrefix(text, "| ") && strings.Count(text, "|") == 1:
			text = strings.TrimLeft(text[2:], " \t")
		case strings.HasPrefix(text, "• "), strings.HasPrefix(text, "– "), strings.HasPrefix(text, "· "), strings.HasPrefix(text, "‣ "):
			_, n := utf8.DecodeRuneInString(text)
			text = strings.TrimLeft(text[n:], " \t")
		case listNumber.MatchString(text):
			text = text[len(listNumber.FindString(text)):]
		case strings.HasPrefix(text, "- "), strings.HasPrefix(text, "* "), strings.HasPrefix(text, "+ "):
			text = strings.TrimLeft(text[2:], " \t")
		}
		if text == before {
			break
		}
	}
	if text != r.text {
		r.column += max(0, strings.Index(r.text, text))
		r.text = text
	}
}

// rule reports whether a row draws a line.
func rule(text string) bool {
	if len(text) < 2 {
		return false
	}
	return strings.Trim(text, "-=_*~#+|:. ─━═│┼├┤┬┴┌┐└┘║╔╗╚╝╠╣╦╩╬\t") == "" && strings.ContainsAny(text, "-=_*~#+─━═┼")
}
