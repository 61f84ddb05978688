package manifest

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"endeixis/core/digest"
	"endeixis/core/plain"
)

// A laidRow is a typed row while the layout looks for the entries that it belongs to (the fourth
// room of docs/decisions/13). The typed row is not changed; what is concluded from the rows around
// it is kept here.
type laidRow struct {
	*typedRow
	// kind is the typed row's kind, and rowDone once the row is an entry or a problem.
	kind rowKind
	// values are those of the typed row, with the labels that the layout gives them.
	values []value
	// size is what is said of the file's size, here or in the record's other rows.
	size *size
	// prefix are the words before the label of a value: “TIDE” of “TIDE_SHA256”.
	prefix string
	// used is set once a value was tied to the row's name. wordy is set for a value among words that
	// are neither a name nor a label.
	used, wordy bool
	// within is set where the row has words beside its file's name.
	within bool
	// open is set for a value that two names have an equal claim to.
	open bool
	// unsaid is set for a value that is as short as an identifier and stands behind a label that names
	// no algorithm.
	unsaid bool
}

// rowDone is a row that went into a record, or was told as a problem.
const rowDone rowKind = 255

// A layout turns typed rows into entries: it finds how rows of one shape are arranged, and ties
// values to names that stand in other rows.
type layout struct {
	*clues
	p     *parser
	typer typer
	rows  []laidRow
	// strict counts the rows whose form states name, algorithm and digest.
	strict int
	// bare counts the rows that have values and no name.
	bare int
	// digestFirst and nameFirst count the rows in which a digest stands before its name or
	// behind it.
	digestFirst, nameFirst int
}

func (p *parser) newLayout() *layout {
	return &layout{clues: &p.clues, p: p, typer: typer{clues: &p.clues}}
}

// layOut reads rows that are all of a text.
func (p *parser) layOut(rows []row) { p.newLayout().take(rows, true) }

// take reads the rows of one window, and adds the entries and problems that it finds. last is set
// for the last window of the text.
func (l *layout) take(rows []row, last bool) {
	rows = l.p.whole(rows)
	l.warm(rows)
	arrays, rows := recipeArrays(rows)
	(&tree{p: l.p, format: Records}).recipe(arrays)
	l.begin(l.typer.joined(l.typer.typeRows(pressed(rows))))
	l.readShapes()
	l.associate()
	l.tellRest(last)
}

// begin starts a window, and adds the entries of rows that state one by themselves.
func (l *layout) begin(rows []typedRow) {
	l.rows = make([]laidRow, len(rows))
	for i := range rows {
		r := &rows[i]
		l.rows[i] = laidRow{typedRow: r, kind: r.kind, values: slices.Clone(r.values), size: r.said.size}
		if r.counts() {
			l.p.out.Lines += max(1, r.many)
		}
		if r.strict {
			l.strict++
		}
		l.takeStated(&l.rows[i])
	}
}

// takeStated adds the entries that one row states by itself.
func (l *layout) takeStated(r *laidRow) {
	for _, s := range r.stated {
		switch {
		case s.code != "":
			l.p.problemAt(r.no, s.code, s.message)
		default:
			l.ordered(s.entry.Format())
			l.p.add(s.entry)
			l.p.aside.cover(s.cover)
		}
	}
	if r.why != "" {
		l.p.aside.note(r.no, r.why)
	}
	switch r.kind {
	case rowStated, rowAside:
		r.kind = rowDone
		if r.said.size != nil {
			l.p.sizes[r.said.name] = r.said.size
		}
	case rowComment:
		if r.said.name != "" {
			l.p.sizes[r.said.name] = r.said.size
		}
	default:
	}
}

// emit adds the values of a row under a name.
func (l *layout) emit(r *laidRow, name string, size *size, f Format) {
	if size == nil {
		size = r.size
	}
	if cutName(name) {
		name, f = "", Bare
	}
	l.ordered(f)
	for _, v := range r.values {
		l.emitValue(r, v, name, size, f)
	}
	r.kind = rowDone
}

// ordered counts a row by the order of its digest and its name.
func (l *layout) ordered(f Format) {
	switch f {
	case DigestFirst:
		l.digestFirst++
	case NameFirst:
		l.nameFirst++
	default:
	}
}

func (l *layout) emitValue(r *laidRow, v value, name string, size *size, f Format) {
	switch {
	case v.digest == nil && v.wrong == "":
		return // it is of something else
	case v.digest == nil:
		l.p.problemAt(r.no, BadDigest, notADigest+v.wrong)
		return
	}
	candidates, wrong := l.candidates(r.section, v.digest, v.algorithm)
	if wrong != "" {
		l.p.problemAt(r.no, BadDigest, wrong)
		return
	}
	e := entryOf(name, v.digest, candidates, f)
	e.take(size)
	if len(v.digest) == 4 && v.algorithm == digest.Unknown && !l.crcSaid && r.section.of(4) == digest.Unknown {
		e.Guessed |= DigestPart
	}
	e.at(r.no, r.column)
	e.within = r.within
	l.p.add(e)
	l.p.covered(r, v)
}

// tellDamage reports the damaged values of a row as problems; values that nothing calls a digest are
// left aside.
func (l *layout) tellDamage(r *laidRow, lone bool) {
	for _, v := range r.values {
		if v.digest != nil || v.wrong == "" {
			continue
		}
		if l.hint != digest.Unknown || v.algorithm != digest.Unknown || len(r.section.algorithms) > 0 || l.strict > 0 ||
			l.p.out.Entries.Len() > 0 && !lone {
			l.p.problemAt(r.no, BadDigest, notADigest+v.wrong)
		} else {
			l.p.aside.note(r.no, v.wrong)
		}
	}
}

// noise reports whether a row holds what no text does.
func noise(text string) bool {
	bad := 0
	for _, r := range text {
		if r == utf8.RuneError || r < ' ' && r != '\t' && r != 0x1b && r != '\a' || 0x7f <= r && r < 0xa0 {
			bad++
		}
	}
	return bad > 0 && bad*20 > len(text) || strings.IndexByte(text, 0) >= 0
}

// cutRow is a row of a list with too few digits.
var cutRow = regexp.MustCompile(`^[0-9a-fA-F]{4,31}[ \t]+\*?\S`)

// foreign reports whether a row is mostly of letters beyond ASCII. In a text that is not
// in Unicode that is no language.
func foreign(text string) bool {
	all, beyond := 0, 0
	for _, r := range text {
		all++
		if r >= 0x80 {
			beyond++
		}
	}
	return all >= 16 && beyond*4 > all
}

// tellRest reports the rows that became nothing and interrupt a list. end is set where the text ends
// with these rows.
func (l *layout) tellRest(end bool) {
	last := len(l.rows) - 1
	for last >= 0 && l.rows[last].kind == rowBlank {
		last--
	}
	list := l.strict > 0 && 2*l.strict >= l.p.out.Lines
	for i := range l.rows {
		r := &l.rows[i]
		switch {
		case r.kind == rowDone || r.kind == rowBlank:
		case l.p.out.Entries.Len() > 0 && (noise(r.text) || l.latin && foreign(r.text)):
			l.p.problemAt(r.no, NotAnEntry, "this is neither a digest with a file name nor a comment")
		case list:
			l.tellOdd(r, i > 0, end && i == last)
		}
	}
}

// conflictMark begins a line that a program puts between two versions of a text.
var conflictMark = regexp.MustCompile(`^(?:<{7}|>{7}|={7})(?: |$)`)

// tellOdd reports a row of a list that has not the list's form.
//
//nolint:cyclop // a list of cases, one for each kind of damage
func (l *layout) tellOdd(r *laidRow, behind, last bool) {
	switch {
	case conflictMark.MatchString(r.text):
		l.p.problemAt(
			r.no, NotAnEntry,
			"this is the mark of a conflict between two versions of the list, of which nobody has chosen one",
		)
	case r.kind != rowComment && r.kind != rowHeading && r.kind != rowValue && digitRun(r.text) >= 32:
		l.p.problemAt(r.no, NotAnEntry, "a digest stands here in no form that the list has, so that it is not used")
	case last && r.kind == rowText && len(r.text) < 32 && strings.Trim(r.text, "0123456789abcdefABCDEF") == "":
		l.p.problemAt(
			r.no, BadDigest, fmt.Sprintf("%s is not a digest: the list ends in the middle of it", plain.Quoted(r.text)),
		)
	case (r.kind == rowText || r.kind == rowName) && cutRow.MatchString(r.text):
		l.p.problemAt(
			r.no, BadDigest, "what stands in the place of the digest is too short to be one, so it may be cut short",
		)
	case r.kind == rowName && r.said.pure && !r.said.prompt && behind:
		l.p.problemAt(r.no, NotAnEntry, "a file is named here without a digest")
	}
}
