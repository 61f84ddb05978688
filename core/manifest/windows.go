package manifest

import (
	"hash/fnv"
	"strings"
)

// window is about how many rows are laid out together. A longer text is read in as many
// windows as it takes, so that what is kept of rows is bounded: each has up to twice as
// many, and ends where a record does.
const window = 20_000

// An outline is what a row looks like from afar: enough to tell where in a long text one
// record ends and the next begins.
type outline uint64

const (
	looksBlank outline = iota
	looksComment
	looksText
	looksFile
	// looksValue is a value and nothing else, looksNamed one with words.
	looksValue
	looksNamed
	// looksCells and what is above it are rows of tables, by their cells.
	looksCells outline = 1 << 16
	// looksIndented is added to those of rows that are set in.
	looksIndented outline = 1 << 32
	// looksKey and what is above it are fields, by their labels.
	looksKey outline = 1 << 63
)

// outlineOf returns the outline of a row, and that of its label if it may be a field.
func outlineOf(r *row) (plain, field outline) {
	if r.kind == rowBlank {
		return looksBlank, 0
	}
	if r.cells != nil {
		return looksCells + outline(len(r.cells)), 0
	}
	text := strings.TrimLeft(r.text, ">-*•| \t")
	if at := strings.IndexAny(text, ":="); at > 0 && at <= 40 && (at+1 == len(text) || text[at+1] == ' ' || text[at+1] == '\t') && !strings.ContainsAny(text[:at], "./\\") {
		h := fnv.New64a()
		h.Write([]byte(strings.ToLower(strings.TrimSpace(text[:at]))))
		field = looksKey | outline(h.Sum64())
	}
	switch {
	case strings.HasPrefix(text, "#"), strings.HasPrefix(text, ";"), strings.HasPrefix(text, "//"):
		plain = looksComment
	case !strings.ContainsAny(text, " \t"):
		switch {
		case digitRun(text) >= 32, digitRun(text) == len(text) && len(text) >= 8, len(text) >= 22 && mixed(text) && !looksLikeFile(text):
			plain = looksValue
		case looksLikeFile(text):
			plain = looksFile
		default:
			plain = looksText
		}
	case digitRun(text) >= 32:
		plain = looksNamed
	default:
		plain = looksText
	}
	if r.indent > 0 {
		plain += looksIndented
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
	outlines := make([]outline, len(rows))
	fields := make([]outline, len(rows))
	often := map[outline]int{}
	for i := range rows {
		outlines[i], fields[i] = outlineOf(&rows[i])
		if fields[i] != 0 {
			often[fields[i]]++
		}
	}
	// Runs are counted: ten lines of remarks are one thing, and so are ten digests.
	runs := map[outline]int{}
	before := looksBlank
	for i := range outlines {
		if fields[i] != 0 && often[fields[i]] > rare {
			outlines[i] = fields[i]
		}
		if outlines[i] == looksBlank {
			continue
		}
		if outlines[i] != before {
			runs[outlines[i]]++
		}
		before = outlines[i]
	}
	first, last := looksBlank, looksBlank // how a record begins and ends
	before = looksBlank
	cut, blank := 0, 0
	for i, s := range outlines {
		switch {
		case s == looksBlank:
			blank = i + 1
			continue
		case first == looksBlank && runs[s] > rare:
			first = s
		case first != looksBlank && last == looksBlank && s == first && before != first:
			last = before
		}
		if last != looksBlank && s == first && before == last {
			cut = i
		}
		before = s
	}
	switch {
	case cut > len(rows)/2:
		return cut
	case blank > len(rows)/2:
		return blank
	}
	return len(rows)
}
