package manifest

import (
	"bytes"
	"path"
	"regexp"
	"slices"
	"strings"

	"endeixis/core/digest"
)

// associate ties values that stand in rows of their own to the names above or below
// them. A paragraph with one name is a record of that file. In a paragraph with more,
// and in a run of paragraphs, names and values have to alternate, from the first to the
// last; otherwise nothing says which belongs to which.
func (l *layout) associate() {
	l.sentencesAbove()
	start := 0
	for i := 0; i <= len(l.rows); i++ {
		if i < len(l.rows) && l.rows[i].kind != rowBlank && !l.breaks(i) {
			continue
		}
		l.paragraph(l.rows[start:i])
		start = i + 1
	}
	l.acrossParagraphs()
	l.nameless()
}

// breaks reports whether a row of words parts what is above it from what is below. A
// field of a record does not, for it only says something else.
func (l *layout) breaks(i int) bool {
	r := &l.rows[i]
	if r.kind == rowDone {
		return false
	}
	if r.kind == rowText {
		_, isField := fieldOf(r.text)
		return !isField
	}
	return r.kind == rowComment || r.kind == rowHeader
}

// sentencesAbove ties a value to the sentence that ends right above it: “The SHA-256 of
// gauge.img is”.
func (l *layout) sentencesAbove() {
	for i := 1; i < len(l.rows); i++ {
		r, above := &l.rows[i], &l.rows[i-1]
		if r.kind != rowValue || r.prefix != "" || above.kind != rowName || above.said.pure || above.said.prompt {
			continue
		}
		if f, ok := fieldOf(
			above.text,
		); ok && f.text != "" && !strings.HasPrefix(f.text, "//") &&
			len(labelsIn(f.label)) == 0 {
			continue // “Homepage: …/hash.html” is no sentence
		}
		l.tie(r, above, FreeText)
	}
}

// tie adds the values of a row under the name of another.
func (l *layout) tie(r, name *laidRow, f Format) {
	for j := range r.values {
		if r.values[j].algorithm == digest.Unknown && len(r.labels) == 0 {
			r.values[j].algorithm = name.said.label
		}
	}
	if slices.ContainsFunc(r.values, func(v value) bool { return v.encoded }) {
		f = Encoded
	}
	name.used = true
	l.emit(r, wholePath(name.text, name.said.name), name.size, f)
}

// A paragraph are rows without a blank line between them, by what they hold.
type paragraph struct {
	rows []laidRow
	// names and values are the places of such rows.
	names, values []int
	// order is that of names and values, as N and D.
	order []byte
	// packaged is set where a row names a package or its version.
	packaged bool
	// label is the algorithm that rows without values name, and labels how many do.
	label  digest.Algorithm
	labels int
	size   *size
}

// paragraph ties the values of rows without a blank line between them.
func (l *layout) paragraph(rows []laidRow) {
	l.byPrefix(rows)
	l.byNumber(rows)
	p := l.sorted(rows)
	if len(p.values) == 0 {
		p.sizeOnly()
		return
	}
	switch {
	case len(p.names) == 0 && p.packaged:
		l.setAsideUnsaid(&p, notNamed)
		return
	case len(p.names) == 0:
		return
	}
	p.sizeOnly()
	p.ownName()
	p.giveLabel()
	switch {
	case len(p.names) > 1:
		l.alternate(p.order, func(name, value int) { l.tie(&rows[p.values[value]], &rows[p.names[name]], Records) })
	case p.contradicts():
		for _, v := range p.values {
			rows[v].wordy, rows[v].open = true, true // which of them is of the file is not said
		}
	default:
		for _, v := range p.values {
			l.tie(&rows[v], &rows[p.names[0]], Records)
		}
	}
}

// sorted tells apart what the rows of a paragraph hold.
func (l *layout) sorted(rows []laidRow) paragraph {
	p := paragraph{rows: rows}
	for i := range rows {
		r := &rows[i]
		switch r.kind {
		case rowName:
			if len(p.names) == 0 || rows[p.names[len(p.names)-1]].said.name != r.said.name {
				p.names = append(p.names, i)
				p.order = append(p.order, 'N')
			}
			p.takeSize(r)
		case rowValue:
			if r.unsaid {
				r.kind = rowDone
				l.p.aside.note(r.no, "nothing says that it is a digest of a file")
				continue
			}
			p.values = append(p.values, i)
			p.order = append(p.order, 'D')
		case rowField:
			p.packaged = p.packaged || r.said.packaged
			p.takeSize(r)
			if r.said.label != digest.Unknown {
				p.label = r.said.label
				p.labels++
			}
		default:
		}
	}
	return p
}

func (p *paragraph) takeSize(r *laidRow) {
	if r.size != nil {
		p.size = r.size
	}
}

// sizeOnly gives the only name of a paragraph the size that stands in it.
func (p *paragraph) sizeOnly() {
	if len(p.names) == 1 && p.rows[p.names[0]].size == nil {
		p.rows[p.names[0]].size = p.size
	}
}

// ownName leaves of several names the record's own file, where other fields name other
// files.
func (p *paragraph) ownName() {
	if len(p.names) < 2 {
		return
	}
	strong := slices.DeleteFunc(slices.Clone(p.names), func(i int) bool { return !p.rows[i].said.strong })
	if len(strong) == 1 {
		p.names = strong
		p.sizeOnly()
	}
}

// giveLabel gives the only value of a paragraph the algorithm that stands in it.
func (p *paragraph) giveLabel() {
	if p.labels != 1 || len(p.values) != 1 {
		return
	}
	if values := p.rows[p.values[0]].values; len(values) == 1 && values[0].algorithm == digest.Unknown {
		values[0].algorithm = p.label
	}
}

// contradicts reports whether the rows state two values of one algorithm.
func (p *paragraph) contradicts() bool {
	type kind struct {
		of   digest.Algorithm
		size int
	}
	seen := map[kind]string{}
	for _, at := range p.values {
		for _, v := range p.rows[at].values {
			if v.digest == nil {
				continue
			}
			k := kind{v.algorithm, len(v.digest)}
			if before, ok := seen[k]; ok && before != string(v.digest) {
				return true
			}
			seen[k] = string(v.digest)
		}
	}
	return false
}

// setAsideUnsaid leaves the values of a paragraph aside that nothing calls digests.
func (l *layout) setAsideUnsaid(p *paragraph, why string) {
	for _, at := range p.values {
		r := &p.rows[at]
		if hasHashWord(r.text) ||
			slices.ContainsFunc(r.values, func(v value) bool { return v.algorithm != digest.Unknown }) {
			continue // it says what it is, though not of what
		}
		r.kind = rowDone
		l.p.aside.note(r.no, why)
	}
}

// byPrefix ties values whose field has words before the label to the name of a field with
// the same words. Without one they are of something that is not named.
func (l *layout) byPrefix(rows []laidRow) {
	isName := func(r laidRow) bool { return r.kind == rowName }
	for i := range rows {
		r := &rows[i]
		if r.kind != rowValue || r.prefix == "" || !slices.ContainsFunc(rows, isName) {
			continue
		}
		at := slices.IndexFunc(rows, func(n laidRow) bool {
			return isName(n) &&
				(startsWith(n.said.name, r.prefix) || strings.EqualFold(n.said.prefix, r.prefix) ||
					strings.EqualFold(n.said.key, r.prefix))
		})
		if at >= 0 {
			l.tie(r, &rows[at], Records)
			continue
		}
		r.kind = rowDone
		l.p.aside.note(r.no, "it is of something else than a file that is named: “"+r.prefix+"” stands before it")
	}
}

// startsWith reports whether the words before a label begin the name of the file:
// “GAUGE_SHA256” that of “gauge.bin”.
func startsWith(name, prefix string) bool {
	return len(prefix) > 2 && strings.HasPrefix(foldWords(path.Base(name)), foldWords(prefix))
}

// alternate calls tie for each value with its name, where names and groups of values
// take turns from the first to the last.
func (l *layout) alternate(order []byte, tie func(name, value int)) {
	if len(order) == 0 {
		return
	}
	above := order[0] == 'N'
	if above == (order[len(order)-1] == 'N') || bytes.Contains(order, []byte("NN")) {
		return
	}
	name, value := -1, 0
	if !above {
		name = 0
	}
	for i := 0; i < len(order); i++ {
		if order[i] == 'D' {
			tie(name, value)
			value++
			continue
		}
		if above || i < len(order)-1 && order[i+1] == 'D' {
			name++
		}
	}
}

// acrossParagraphs ties paragraphs of values to paragraphs that are a name, where those
// take turns with nothing else between them.
func (l *layout) acrossParagraphs() {
	var names, values []*laidRow
	var order []byte
	flush := func() {
		l.alternate(order, func(name, value int) { l.tie(values[value], names[name], Records) })
		names, values, order = nil, nil, nil
	}
	for i := range l.rows {
		r := &l.rows[i]
		switch {
		case r.kind == rowName && r.used, r.kind == rowValue && r.wordy:
			flush()
		case r.kind == rowName:
			if len(names) > 0 && names[len(names)-1].said.name == r.said.name && order[len(order)-1] == 'N' {
				continue
			}
			names = append(names, r)
			order = append(order, 'N')
		case r.kind == rowValue:
			values = append(values, r)
			order = append(order, 'D')
		case r.kind == rowDone || l.breaks(i):
			flush()
		}
	}
	flush()
}

// nameless deals with the values that nothing names. Where the text says that they are
// digests, they are entries without a name, and the content decides what they are of.
func (l *layout) nameless() {
	var bare []int
	for i := range l.rows {
		if l.rows[i].kind == rowValue {
			bare = append(bare, i)
		}
	}
	l.bare += len(bare)
	others := l.p.out.Lines - l.bare
	seen := map[string]bool{}
	for _, at := range bare {
		r := &l.rows[at]
		above := l.announcedAbove(at)
		for i := range r.values {
			if v := &r.values[i]; v.algorithm == digest.Unknown && above.Size() == len(v.digest) {
				v.algorithm = above
			}
		}
		r.kind = rowDone
		if saysOther(r.text) &&
			!slices.ContainsFunc(r.values, func(v value) bool { return v.algorithm != digest.Unknown }) {
			l.p.aside.note(r.no, "what it stands with is not the name of a file")
			continue
		}
		l.tellDamage(r, others > 0 && l.hint == digest.Unknown)
		for _, v := range r.values {
			if v.digest != nil {
				l.namelessValue(r, v, others, seen)
			}
		}
	}
}

// namelessValue deals with one such value. others counts the rows that hold something
// else, and seen are the values that were added.
//
//nolint:cyclop // a list of cases, one for each thing that becomes of a value
func (l *layout) namelessValue(r *laidRow, v value, others int, seen map[string]bool) {
	announced := v.algorithm != digest.Unknown || hasHashWord(r.text) ||
		!r.wordy && (l.hint.Size() == len(v.digest) || r.section.of(len(v.digest)) != digest.Unknown)
	candidates, wrong := l.candidates(r.section, v.digest, v.algorithm)
	key := string(v.digest)
	switch {
	case wrong != "":
		l.p.problemAt(r.no, BadDigest, wrong)
	case seen[key]:
	case l.strict > 0 || l.p.out.Entries.Len() > 0 && !announced && others > 0 && l.listed():
		l.p.problemAt(r.no, NoName, "a digest stands here without a file name")
	case announced || r.open || others == 0 && !r.wordy:
		e := entryOf("", v.digest, candidates, Bare)
		e.at(r.no, r.column)
		e.take(r.size)
		l.p.add(e)
		seen[key] = true
		l.p.covered(r, v)
	default:
		l.p.aside.note(r.no, notSaid)
		if v.grouped {
			l.p.leaveAside(r.no, r.column-1+v.from, r.text[v.from:v.to])
		}
	}
}

// declared is the name of a variable to which the next row gives a value.
var declared = regexp.MustCompile(`(\w+)\s*(?:\[\w*\])?\s*:?=\s*[\[{(]?$`)

// announcedAbove returns the algorithm that the row right above one names.
func (l *layout) announcedAbove(at int) digest.Algorithm {
	if at == 0 {
		return digest.Unknown
	}
	if above := &l.rows[at-1]; above.kind == rowText || above.kind == rowName {
		if labels := labelsIn(above.text); len(labels) > 0 {
			return labels[len(labels)-1].algorithm
		}
		if m := declared.FindStringSubmatch(above.text); m != nil {
			a, _ := labelOfKey(m[1])
			return a
		}
	}
	return digest.Unknown
}

// saysOther reports whether a row names something that is no file, such as a package and
// its version.
func saysOther(text string) bool {
	return strings.Contains(text, "==")
}

// listed reports whether most rows of the text became entries.
func (l *layout) listed() bool { return 2*l.p.out.Entries.Len() >= l.p.out.Lines }
