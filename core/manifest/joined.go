package manifest

import (
	"slices"
	"strings"

	"endeixis/core/digest"
)

// maxJoined bounds the rows that one value is written in.
const maxJoined = 16

// joined puts together values that go on in the next row. Rows that were a part of a value
// above them are gone.
func (t *typer) joined(rows []typedRow) []typedRow {
	out := rows[:0]
	tails := make([]digitTail, len(rows))
	for i := range rows {
		if rows[i].mayGoOn() && rows[i].warm {
			tails[i] = tailOf(rows[i].text)
		}
	}
	for i := 0; i < len(rows); {
		r := rows[i]
		n := 0
		if tails[i].digits > 0 {
			above := typedRow{}
			if len(out) > 0 {
				above = out[len(out)-1]
			}
			n = t.joinFrom(&above, rows[i:], tails[i:], &r)
		}
		out = append(out, r)
		i += 1 + n
	}
	return out
}

// mayGoOn reports whether a row is one of which a value may go on in the next.
func (r *typedRow) mayGoOn() bool {
	switch r.kind {
	case rowStated, rowAside, rowBlank, rowComment:
		return false
	default:
		return true
	}
}

// joinFrom joins a row, which is the first of rows, with those that its value goes on in.
// It returns how many these are.
//
//nolint:cyclop // one case for each way in which a value goes on
func (t *typer) joinFrom(above *typedRow, rows []typedRow, tails []digitTail, r *typedRow) int {
	tail := tails[0]
	if tail.from > 0 && tail.groups == 1 && tail.digits < minDamaged {
		return 0
	}
	announced := t.announcedFor(above, r, tail.from)
	if announced == digest.Unknown && tail.whole() {
		n := partsBelow(above, rows, tails)
		if n > 0 && !joinRows(r, rows[1:n+1], tail.from) {
			return 0
		}
		return n
	}
	if announced != digest.Unknown && tail.digits == 2*announced.Size() {
		return 0
	}
	n := goesOnFor(rows, tails, announced)
	if n == 0 && len(rows) > 1 && rows[1].mayGoOn() && !tailAt(rows, tails, 1).wholeRow() {
		// The rest of the value, and the name behind it.
		if head := leadingHex(rows[1].text); splits(tail, head) {
			t.splice(r, &rows[1], tail.from, head)
			return 1
		}
	}
	if n > 0 && !joinRows(r, rows[1:n+1], tail.from) {
		return 0
	}
	return n
}

// partsBelow returns over how many further rows a value goes on whose first row might be a
// whole one, where nothing says of which algorithm: several of one length below the only
// name would contradict each other, and together they are one.
func partsBelow(name *typedRow, rows []typedRow, tails []digitTail) int {
	if name.kind != rowName || !name.said.pure || len(rows[0].section.algorithms) > 0 {
		return 0
	}
	digits := tails[0].digits
	n := 1
	for n < len(rows) && n <= maxJoined && rows[n].mayGoOn() && tails[n].whole() && tails[n].digits == digits {
		n++
	}
	if n == 1 || digest.OfSize(n*digits/2) == nil {
		return 0
	}
	return n - 1
}

// goesOnFor returns over how many further rows a value goes on, of which the first row has
// the beginning.
func goesOnFor(rows []typedRow, tails []digitTail, announced digest.Algorithm) (n int) {
	tail := tails[0]
	total := tail.digits
	for j := 1; j < len(rows) && j <= maxJoined && rows[j].mayGoOn(); j++ {
		next := tailAt(rows, tails, j)
		if !next.wholeRow() {
			return n
		}
		total += next.digits
		if tail.goesOn(next, total, announced, j == 1 && rows[j].indent > rows[0].indent) {
			n = j
		}
		if announced != digest.Unknown && announced.Size() <= total/2 {
			return n
		}
	}
	return n
}

// tailAt returns the digits at the end of a row; the short end of a value counts, where it
// is all of the row.
func tailAt(rows []typedRow, tails []digitTail, j int) digitTail {
	if head := leadingHex(rows[j].text); head > 0 && head == len(rows[j].text) && !tails[j].wholeRow() {
		return digitTail{digits: head, groups: 1, width: head}
	}
	return tails[j]
}

// goesOn reports whether the digits of several rows, so many in all, are one value. in is
// set for a second row that is set in.
func (tail digitTail) goesOn(next digitTail, total int, announced digest.Algorithm, in bool) bool {
	if announced != digest.Unknown {
		return 2*announced.Size() == total || 2*announced.Size()+1 == total
	}
	if total%2 != 0 || digest.OfSize(total/2) == nil {
		return false
	}
	if tail.groups > 1 {
		return next.groups > 1 && tail.width == next.width && next.digits <= tail.digits
	}
	// Half a value may be as long as one of another kind; but what is set in below it goes
	// on with it.
	return next.groups == 1 && (digest.OfSize(tail.digits/2) == nil || tail.from > 0 && total == 2*tail.digits && in)
}

// splits reports whether a value of which a row has the beginning ends with so many digits
// of the next.
func splits(tail digitTail, head int) bool {
	total := tail.digits + head
	return tail.groups == 1 && head >= 4 && digest.OfSize(tail.digits/2) == nil && total%2 == 0 &&
		digest.OfSize(total/2) != nil
}

// joinRows puts the digits of further rows behind those of the first.
func joinRows(r *typedRow, more []typedRow, from int) bool {
	var all strings.Builder
	pieces := r.text[from:]
	all.WriteString(onlyHex(r.text[from:]))
	for j := range more {
		all.WriteString(onlyHex(more[j].text))
		pieces += " " + more[j].text
	}
	decoded, ok := decodeHex(all.String())
	if !ok {
		return false
	}
	r.values = slices.DeleteFunc(slices.Clone(r.values), func(v value) bool { return v.to > from })
	r.values = append(r.values, value{from: from, to: len(r.text), digest: decoded, grouped: true, pieces: pieces})
	r.kind = rowValue
	return true
}

// announcedFor returns the algorithm of a value that begins in a row: what stands before
// it there, or in the row above, or over all.
func (t *typer) announcedFor(above, r *typedRow, from int) digest.Algorithm {
	labels := labelsIn(r.text[:from])
	switch {
	case len(labels) > 0:
		return labels[len(labels)-1].algorithm
	case above.kind == rowName && above.said.label != digest.Unknown:
		return above.said.label
	case len(r.section.algorithms) == 1:
		return r.section.algorithms[0]
	}
	return t.hint
}

// splice moves the rest of a value from the start of the next row to where it began.
func (t *typer) splice(r, next *typedRow, from, head int) {
	pieces := r.text[from:] + " " + next.text[:head]
	r.text += next.text[:head]
	if rest := next.text[head:]; strings.TrimSpace(rest) != "" {
		r.text += rest
	}
	r.values = digestsIn(r.text)
	for i := range r.values {
		if v := &r.values[i]; v.from <= from && from < v.to {
			v.pieces = pieces
		}
	}
	r.kind = rowValue
}

// wholeRow reports whether a row is nothing but digits.
func (tail digitTail) wholeRow() bool { return tail.from == 0 && tail.digits > 0 }

// whole reports whether a row is a whole value and nothing else, which goes on nowhere.
func (tail digitTail) whole() bool {
	return tail.from == 0 && tail.groups == 1 && tail.digits%2 == 0 && digest.OfSize(tail.digits/2) != nil
}

// A digitTail are groups of digits at the end of a row.
type digitTail struct {
	// from is where they begin, and width how long the first group is.
	from, digits, groups, width int
}

// tailOf returns the groups of digits at the end of a row.
func tailOf(text string) digitTail {
	text = strings.TrimRight(text, " \\")
	tail := digitTail{from: len(text)}
	for at := len(text); at > 0; {
		start := at
		for start > 0 && isHex(text[start-1]) {
			start--
		}
		n := at - start
		if n == 0 || n%2 != 0 && n < minDamaged || start > 0 && partOfName(text[start-1]) ||
			tail.groups > 0 && n < tail.width {
			break
		}
		tail = digitTail{from: start, digits: tail.digits + n, groups: tail.groups + 1, width: n}
		at = start
		for at > 0 && strings.IndexByte(" \t:-", text[at-1]) >= 0 {
			at--
		}
	}
	if tail.groups == 1 && tail.digits < minDamaged {
		return digitTail{from: len(text)}
	}
	return tail
}

// partOfName reports whether digits behind a character are a part of a name or address.
func partOfName(c byte) bool { return isNameByte(c) && c != '-' || c == '.' || c == '/' }

// leadingHex returns how many digits a row begins with, if they are a word.
func leadingHex(text string) int {
	n := 0
	for n < len(text) && isHex(text[n]) {
		n++
	}
	if n < len(text) && text[n] != ' ' && text[n] != '\t' {
		return 0
	}
	return n
}

func onlyHex(s string) string {
	return strings.Map(func(r rune) rune {
		if r < 0x80 && isHex(byte(r)) {
			return r
		}
		return -1
	}, s)
}

// allHex reports whether a text has hexadecimal digits only.
func allHex(s string) bool {
	for i := range len(s) {
		if !isHex(s[i]) {
			return false
		}
	}
	return true
}
