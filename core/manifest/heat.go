package manifest

import "strings"

// Most of a long text holds nothing. What may hold a value is told from the rest by one
// look at each byte, and only what stands near that is read.

// The classes of bytes in values.
const (
	hexClass  = 1 << iota // a hexadecimal digit
	wordClass             // a letter or digit
	codeClass             // of base64, of either alphabet
	upperClass
	lowerClass
	digitClass
)

var classes = func() (t [256]uint8) {
	for i := range t {
		c := byte(i)
		if '0' <= c && c <= '9' || 'a' <= c|0x20 && c|0x20 <= 'f' {
			t[i] |= hexClass
		}
		if isAlnum(c) {
			t[i] |= wordClass | codeClass
		}
		switch {
		case c == '+', c == '/', c == '-', c == '_':
			t[i] |= codeClass
		case 'A' <= c && c <= 'Z':
			t[i] |= upperClass
		case 'a' <= c && c <= 'z':
			t[i] |= lowerClass
		case '0' <= c && c <= '9':
			t[i] |= digitClass
		}
	}
	return t
}()

const (
	// leastRun is how many digits there are at least of a value, or of a damaged one.
	leastRun = 7
	// leastCode is the length of the shortest value in base64, without its end.
	leastCode = 20
	// leastGroups is how many groups of digits are no words that look like some.
	leastGroups = 4
)

// A heat goes through the bytes of a line.
type heat struct {
	digits, code, groups, word int
	// seen are the classes in the code at hand, and hexadecimal is set while the word at hand
	// is all digits.
	seen        uint8
	hexadecimal bool
}

// mayHoldValue reports whether a line may hold a value, or a damaged one: a run of digits,
// groups of them, or base64. It is wrong only in holding too much for one.
func mayHoldValue(line string) bool {
	h := heat{hexadecimal: true}
	for i := 0; i < len(line); i++ {
		if h.take(classes[line[i]]) {
			return true
		}
	}
	return h.take(0)
}

// take takes a byte of a class, and reports whether there is a value up to it.
func (h *heat) take(class uint8) bool {
	if class&codeClass != 0 {
		h.code++
		h.seen |= class
		if h.code >= leastCode && h.seen&(upperClass|lowerClass) == upperClass|lowerClass {
			return true
		}
	} else {
		h.code, h.seen = 0, 0
	}
	if class&hexClass != 0 {
		if h.digits++; h.digits >= leastRun {
			return true
		}
	} else {
		h.digits = 0
	}
	if class&wordClass != 0 {
		h.word++
		h.hexadecimal = h.hexadecimal && class&hexClass != 0
		return false
	}
	if h.word == 0 {
		return false
	}
	if h.hexadecimal && h.word%2 == 0 {
		h.groups++
	} else {
		h.groups = 0
	}
	h.word, h.hexadecimal = 0, true
	return h.groups >= leastGroups
}

// near is how many rows around one that may hold a value are read: what names it, heads it
// or belongs to its record.
const near = 40

// warm marks the rows of a window that are read. Those that name an algorithm are, for what
// they head may be far below.
func (c *clues) warm(rows []row) {
	if c.readsAll {
		for i := range rows {
			rows[i].warm = true
		}
		return
	}
	until := 0
	for i := range rows {
		r := &rows[i]
		switch {
		case r.blank || r.long:
			r.warm = true
		case !r.cold():
			for k := max(0, i-near); k < i; k++ {
				rows[k].warm = true
			}
			until, r.warm = i+near+1, true
		default:
			r.warm = i < until
		}
	}
}

// cold reports whether a row by itself is not worth reading.
func (r *row) cold() bool {
	return r.cells == nil && !mayHoldValue(r.text) && !strings.Contains(r.text, "0x") && !mayHaveLabel(r.text) &&
		!strings.HasPrefix(r.text, armorBegin)
}

// holdsNothing reports whether no line of a text may hold a value.
func holdsNothing(text string) bool {
	for len(text) > 0 {
		end := strings.IndexByte(text, '\n')
		if end < 0 {
			end = len(text) - 1
		}
		if line := text[:end+1]; mayHoldValue(line) || strings.Contains(line, "0x") {
			return false
		}
		text = text[end+1:]
	}
	return true
}

// pressed returns rows in which each run of cold ones is one row, which stands for all of
// them. Those that a list cannot hold stay, for they are told.
func pressed(rows []row) []row {
	out := rows[:0]
	for i := range rows {
		r := &rows[i]
		if r.warm || r.odd() {
			out = append(out, *r)
			continue
		}
		n := len(out) - 1
		if n > 0 && out[n].blank && out[n-1].many > 0 {
			out, n = out[:n], n-1 // between words it parts nothing
		}
		if n >= 0 && out[n].many > 0 {
			out[n].many++
			continue
		}
		out = append(out, row{text: coldText, no: r.no, column: 1, many: 1})
	}
	return out
}

// coldText is the text of a row that stands for many: words, and no field of a record.
const coldText = "…"

// odd reports whether a row is none of a list, as it may have to be told.
func (r *row) odd() bool {
	if n := leadingHex(r.text); n >= leastOdd && n < len(r.text) {
		return true
	}
	if r.text == "" || strings.IndexByte("<>=", r.text[0]) >= 0 {
		return true
	}
	for i := range len(r.text) {
		if c := r.text[i]; c >= 0x7f || c < ' ' && c != '\t' {
			return true
		}
	}
	return false
}

// leastOdd is how many digits at the front of a row may be what is left of a value.
const leastOdd = 4
