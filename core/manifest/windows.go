package manifest

import "strings"

// window is about how many rows are laid out together. A longer text is read in as many
// windows as it takes, so that what is kept of rows is bounded: each has up to twice as
// many, and ends where a record does.
const window = 4_000

// An outline is what a row looks like from afar: enough to tell where in a long text one
// record ends and the next begins. The zero outline is that of a blank row.
type outline struct {
	look look
	// cells counts those of a row of a table, indented is set for a row that is set in,
	// and label is that of a field.
	cells    int
	indented bool
	label    string
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

// outlineOf returns the outline of a row, and that of a field if it may be one.
func outlineOf(r *row) (plain, field outline) { //nolint:cyclop // a list of cases, one for each kind of outline
	if r.blank {
		return outline{}, outline{}
	}
	if r.cells != nil {
		return outline{look: looksCells, cells: len(r.cells)}, outline{}
	}
	text := r.text
	if text != "" && !isAlnum(text[0]) {
		text = strings.TrimLeft(text, ">-*•| \t")
	}
	if at := strings.IndexAny(text, ":="); at > 0 && at <= 40 && (at+1 == len(text) || text[at+1] == ' ' || text[at+1] == '\t') && !strings.ContainsAny(text[:at], "./\\") {
		field = outline{look: looksField, label: strings.ToLower(strings.TrimSpace(text[:at]))}
	}
	plain = outline{look: looksText, indented: r.indent > 0}
	switch {
	case strings.HasPrefix(text, "#"), strings.HasPrefix(text, ";"), strings.HasPrefix(text, "//"):
		plain.look = looksComment
	case strings.ContainsAny(text, " \t"):
		if digitRun(text) >= 32 {
			plain.look = looksNamed
		}
	case digitRun(text) >= 32, digitRun(text) == len(text) && len(text) >= 8, len(text) >= 22 && mixed(text) && !looksLikeFile(text):
		plain.look = looksValue
	case looksLikeFile(text):
		plain.look = looksFile
	}
	return plain, field
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
	fields := make([]outline, len(rows))
	often := map[outline]int{}
	for i := range rows {
		outlines[i], fields[i] = outlineOf(&rows[i])
		if fields[i].look == looksField {
			often[fields[i]]++
		}
	}
	for i := range outlines {
		if often[fields[i]] > rare {
			outlines[i] = fields[i]
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
