package manifest

import (
	"math"
	"strings"
)

// window is about how many rows are laid out together. A longer text is read in as many
// windows as it takes, so that what is kept of rows is bounded: each has up to twice as
// many, and ends where a record does.
const window = 4_000

// An outline is what a row looks like from afar: enough to tell where in a long text one
// record ends and the next begins. The zero outline is that of a blank row.
type outline struct {
	look look
	// indented is set for a row that is set in.
	indented bool
	// number counts the cells of a row of a table, and is that of a field's label.
	number int32
}

// A look is the kind of an outline.
type look uint8

const (
	looksBlank look = iota
	looksComment
	looksText
	looksFile
	// looksValue is a value and nothing else, looksNamed one with words.
	looksValue
	looksNamed
	looksCells
	looksField
)

// outlineOf returns the outline of a row, and its label if it may be a field.
func outlineOf(r *row) (plain outline, label string) {
	if r.blank {
		return outline{}, ""
	}
	if r.cells != nil {
		return outline{look: looksCells, number: int32(min(len(r.cells), math.MaxInt32))}, ""
	}
	text := r.text
	if text != "" && !isAlnum(text[0]) {
		text = strings.TrimLeft(text, ">-*•| \t")
	}
	if at := signAt(text); at > 0 && (at+1 == len(text) || text[at+1] == ' ' || text[at+1] == '\t') &&
		!strings.ContainsAny(text[:at], "./\\") {
		label = strings.ToLower(strings.TrimSpace(text[:at]))
	}
	plain = outline{look: looksText, indented: r.indent > 0}
	switch {
	case strings.HasPrefix(text, "#"), strings.HasPrefix(text, ";"), strings.HasPrefix(text, "//"):
		plain.look = looksComment
	case strings.IndexByte(text, ' ') >= 0, strings.IndexByte(text, '\t') >= 0:
		if digitRun(text) >= 32 {
			plain.look = looksNamed
		}
	case valueWord(text):
		plain.look = looksValue
	case looksLikeFile(text):
		plain.look = looksFile
	}
	return plain, label
}

// valueWord reports whether a word looks like a value from afar.
func valueWord(text string) bool {
	if len(text) < 8 {
		return false
	}
	run := digitRun(text)
	return run >= 32 || run == len(text) || len(text) >= 22 && mixed(text) && !looksLikeFile(text)
}

// farthestSign is where the sign of a field stands at most.
const farthestSign = 40

// signAt returns where the first sign of a field stands in a text, or -1.
func signAt(text string) int {
	for i := range min(len(text), farthestSign+1) {
		if text[i] == ':' || text[i] == '=' {
			return i
		}
	}
	return -1
}

// digitRun returns the length of the longest run of hexadecimal digits.
func digitRun(text string) int {
	longest, run := 0, 0
	for i := range len(text) {
		if !isHex(text[i]) {
			run = 0
			continue
		}
		run++
		longest = max(longest, run)
	}
	return longest
}

// rare is how often an outline is seen at most that says nothing about records.
const rare = 2

// wholeRecords returns how many rows of a window are read before the next one begins: up
// to the beginning of the last record, so that none is cut. A record is taken to begin
// with what the text begins with, of what comes again and again.
func wholeRecords(rows []row) int {
	outlines := outlinesOf(rows)
	cut, blank := lastRecord(outlines, runsOf(outlines))
	switch {
	case cut > len(rows)/2:
		return cut
	case blank > len(rows)/2:
		return blank
	}
	return len(rows)
}

// outlinesOf returns the outlines of rows: as fields, where such come again and again.
func outlinesOf(rows []row) []outline {
	outlines := make([]outline, len(rows))
	labels := map[string]int32{} // with their numbers, from 1
	var often []int              // how often each label comes
	var fields []int32           // the label of each row, where there are such
	for i := range rows {
		plain, label := outlineOf(&rows[i])
		outlines[i] = plain
		if label == "" {
			continue
		}
		number, known := labels[label]
		if !known {
			often = append(often, 0)
			number = int32(len(often)) //nolint:gosec // one for each row of a window at most
			labels[label] = number
		}
		if fields == nil {
			fields = make([]int32, len(rows))
		}
		fields[i] = number
		often[number-1]++
	}
	for i, number := range fields {
		if number > 0 && often[number-1] > rare {
			outlines[i] = outline{look: looksField, number: number}
		}
	}
	return outlines
}

// runsOf counts runs of outlines: ten lines of remarks are one thing, and so are ten
// digests.
func runsOf(outlines []outline) map[outline]int {
	runs := map[outline]int{}
	before := outline{}
	for _, o := range outlines {
		if o == (outline{}) {
			continue
		}
		if o != before {
			runs[o]++
		}
		before = o
	}
	return runs
}

// lastRecord returns where the last record begins, and behind which row the last blank one
// stands.
func lastRecord(outlines []outline, runs map[outline]int) (cut, blank int) {
	none := outline{}
	first, last, before := none, none, none // how a record begins and ends
	for i, o := range outlines {
		switch {
		case o == none:
			blank = i + 1
			continue
		case o == before:
		case first == none && runs[o] > rare:
			first = o
		case first != none && last == none && o == first && before != first:
			last = before
		}
		if last != none && o == first && before == last {
			cut = i
		}
		before = o
	}
	return cut, blank
}
