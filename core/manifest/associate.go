package manifest

import (
	"bytes"
	"io"
	"mime/quotedprintable"
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
	return r.kind == rowText && fieldOf(r.text) == nil || r.kind == rowComment || r.kind == rowHeader
}

// sentencesAbove ties a value to the sentence that ends right above it: “The SHA-256 of
// gauge.img is”.
func (l *layout) sentencesAbove() {
	for i := 1; i < len(l.rows); i++ {
		r, above := &l.rows[i], &l.rows[i-1]
		if r.kind != rowValue || r.prefix != "" || above.kind != rowName || above.pure || above.prompt {
			continue
		}
		if field := fieldOf(above.text); field != nil && field[2] != "" && !strings.HasPrefix(field[2], "//") && len(labelsIn(field[1])) == 0 {
			continue // “Homepage: …/hash.html” is no sentence
		}
		l.tie(r, above, FreeText)
	}
}

// tie adds the values of a row under the name of another.
func (l *layout) tie(r, name *row, f Format) {
	for j := range r.tokens {
		if r.tokens[j].algorithm == digest.Unknown && len(r.labels) == 0 {
			r.tokens[j].algorithm = name.label
		}
	}
	if slices.ContainsFunc(r.tokens, func(t token) bool { return t.encoded }) {
		f = Encoded
	}
	name.used = true
	l.emit(r, wholePath(name.text, name.name), name.size, f)
}

// paragraph ties the values of rows without a blank line between them.
func (l *layout) paragraph(rows []row) {
	l.byPrefix(rows)
	var names, values []int
	packaged := false
	label := digest.Unknown
	labels := 0
	var size *int64
	inner := ""
	for i := range rows {
		r := &rows[i]
		switch r.kind {
		case rowName:
			if len(names) == 0 || rows[names[len(names)-1]].name != r.name {
				names = append(names, i)
				inner += "N"
			}
			if r.size != nil {
				size = r.size
			}
		case rowValue:
			if r.unsaid {
				r.kind = rowDone
				l.p.aside.note(r.no, "nothing says that it is a digest of a file")
				continue
			}
			values = append(values, i)
			inner += "D"
		case rowField:
			packaged = packaged || r.packaged
			if r.size != nil {
				size = r.size
			}
			if r.label != digest.Unknown {
				label = r.label
				labels++
			}
		default:
		}
	}
	if len(values) > 0 && len(names) == 0 && packaged {
		for _, v := range values {
			rows[v].kind = rowDone
			l.p.aside.note(rows[v].no, "it is of a package, and no file of that is named")
		}
		return
	}
	if len(names) == 1 && rows[names[0]].size == nil {
		rows[names[0]].size = size
	}
	if len(values) == 0 || len(names) == 0 {
		return
	}
	if len(names) > 1 {
		// The record's own file, where other fields name other files.
		strong := slices.DeleteFunc(slices.Clone(names), func(i int) bool { return !rows[i].strong })
		if len(strong) == 1 {
			names = strong
		}
	}
	if labels == 1 {
		for _, v := range values {
			if r := &rows[v]; len(values) == 1 && len(r.tokens) == 1 && r.tokens[0].algorithm == digest.Unknown {
				r.tokens[0].algorithm = label
			}
		}
	}
	if len(names) == 1 && contradicts(rows, values) {
		for _, v := range values {
			rows[v].wordy = true // which of them is of the file is not said
		}
		return
	}
	if len(names) == 1 {
		name := &rows[names[0]]
		if name.size == nil {
			name.size = size
		}
		for _, v := range values {
			l.tie(&rows[v], name, Records)
		}
		return
	}
	l.alternate(inner, func(name, value int) {
		l.tie(&rows[values[value]], &rows[names[name]], Records)
	})
}

// contradicts reports whether rows state two values of one algorithm.
func contradicts(rows []row, values []int) bool {
	seen := map[digest.Algorithm]string{}
	for _, v := range values {
		for _, t := range rows[v].tokens {
			if t.value == nil || t.algorithm == digest.Unknown {
				continue
			}
			if before, ok := seen[t.algorithm]; ok && before != string(t.value) {
				return true
			}
			seen[t.algorithm] = string(t.value)
		}
	}
	return false
}

// byPrefix ties values whose field has words before the label to the name of a field with
// the same words. Without one they are of something that is not named.
func (l *layout) byPrefix(rows []row) {
	for i := range rows {
		r := &rows[i]
		if r.kind != rowValue || r.prefix == "" {
			continue
		}
		if !slices.ContainsFunc(rows, func(n row) bool { return n.kind == rowName }) {
			continue
		}
		at := slices.IndexFunc(rows, func(n row) bool {
			return n.kind == rowName && (startsWith(n.name, r.prefix) || strings.EqualFold(n.prefix, r.prefix) || strings.EqualFold(n.key, r.prefix))
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
func (l *layout) alternate(order string, tie func(name, value int)) {
	if order == "" {
		return
	}
	above := order[0] == 'N'
	if above == (order[len(order)-1] == 'N') || strings.Contains(order, "NN") {
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
	var names, values []*row
	order := ""
	flush := func() {
		l.alternate(order, func(name, value int) { l.tie(values[value], names[name], Records) })
		names, values, order = nil, nil, ""
	}
	for i := range l.rows {
		r := &l.rows[i]
		switch {
		case r.kind == rowName && r.used, r.kind == rowValue && r.wordy:
			flush()
		case r.kind == rowName:
			if len(names) > 0 && names[len(names)-1].name == r.name && order[len(order)-1] == 'N' {
				continue
			}
			names = append(names, r)
			order += "N"
		case r.kind == rowValue:
			values = append(values, r)
			order += "D"
		case r.kind == rowDone || l.breaks(i):
			flush()
		}
	}
	flush()
}

// nameless deals with the values that nothing names. Where the text says that they are
// digests, they are entries without a name, and the content decides what they are of.
func (l *layout) nameless() {
	p := l.p
	var bare []int
	for i := range l.rows {
		if l.rows[i].kind == rowValue {
			bare = append(bare, i)
		}
	}
	if len(bare) == 0 {
		return
	}
	l.bare += len(bare)
	others := p.out.Lines - l.bare
	seen := map[string]bool{}
	for _, at := range bare {
		r := &l.rows[at]
		p.line = r.no
		above := l.announcedAbove(at)
		for i := range r.tokens {
			if t := &r.tokens[i]; t.algorithm == digest.Unknown && above.Size() == len(t.value) {
				t.algorithm = above
			}
		}
		if l.saysOther(r) {
			r.kind = rowDone
			p.aside.note(r.no, "what it stands with is not the name of a file")
			continue
		}
		r.kind = rowDone
		l.tellDamage(r, others > 0 && p.hint == digest.Unknown)
		for _, t := range r.tokens {
			if t.value == nil {
				continue
			}
			announced := t.algorithm != digest.Unknown || hasHashWord(r.text) || !r.wordy && (p.hint.Size() == len(t.value) || r.section.of(len(t.value)) != digest.Unknown)
			candidates, wrong := l.candidates(r, t.value, t.algorithm)
			key := t.value.String()
			switch {
			case wrong != "":
				p.problem(BadDigest, wrong)
			case seen[key]:
			case l.strict > 0 || p.out.Entries.Len() > 0 && !announced && others > 0 && l.listed():
				p.problem(NoName, "a digest stands here without a file name")
			case announced || others == 0 && !r.wordy:
				e := entryOf("", t.value, candidates, Bare)
				e.at(r.no, r.column)
				e.Size = r.size
				p.add(e)
				seen[key] = true
				p.covered(r, t)
			default:
				p.aside.note(r.no, "nothing says of which file it is, or that it is a digest")
			}
		}
	}
}

// announcedAbove returns the algorithm that the row right above one names.
func (l *layout) announcedAbove(at int) digest.Algorithm {
	if at == 0 {
		return digest.Unknown
	}
	if above := &l.rows[at-1]; above.kind == rowText || above.kind == rowName {
		if labels := labelsIn(above.text); len(labels) > 0 {
			return labels[len(labels)-1].algorithm
		}
	}
	return digest.Unknown
}

// saysOther reports whether a row names something that is no file, such as a package and
// its version.
func (l *layout) saysOther(r *row) bool {
	return strings.Contains(r.text, "==") || strings.Contains(r.text, "--hash")
}

// listed reports whether most rows of the text became entries.
func (l *layout) listed() bool { return 2*l.p.out.Entries.Len() >= l.p.out.Lines }

// joinRows puts together values that go on in the next row.
func (l *layout) joinRows() {
	for i := 0; i < len(l.rows); i++ {
		r := &l.rows[i]
		if r.kind == rowDone || r.kind == rowBlank || r.kind == rowComment {
			continue
		}
		from, digits, groups, width := hexTail(r.text)
		if digits == 0 || from > 0 && groups == 1 && digits < 16 {
			continue
		}
		announced := l.announcedFor(i, from)
		if announced != digest.Unknown && digits == 2*announced.Size() {
			continue
		}
		total, joined := digits, 0
		for j := i + 1; j < len(l.rows) && j <= i+16; j++ {
			next := &l.rows[j]
			if next.kind == rowBlank || next.kind == rowDone || next.kind == rowComment {
				break
			}
			nextFrom, nextDigits, nextGroups, nextWidth := hexTail(next.text)
			if n := leadingHex(next.text); n > 0 && n == len(next.text) && nextFrom != 0 {
				nextFrom, nextDigits, nextGroups, nextWidth = 0, n, 1, n // the short end of it
			}
			if nextFrom != 0 {
				// The rest of the value, and the name behind it.
				head := leadingHex(next.text)
				if j == i+1 && groups == 1 && head >= 4 && digest.OfSize(digits/2) == nil && digest.OfSize((total+head)/2) != nil && (total+head)%2 == 0 {
					l.splice(r, next, from, head)
					joined = 0
				}
				break
			}
			total += nextDigits
			value := total / 2
			fits := total%2 == 0 && digest.OfSize(value) != nil
			switch {
			case announced != digest.Unknown && announced.Size() == value,
				announced == digest.Unknown && fits && groups > 1 && nextGroups > 1 && width == nextWidth && nextDigits <= digits,
				announced == digest.Unknown && fits && groups == 1 && nextGroups == 1 && digest.OfSize(digits/2) == nil,
				// Half a value may be as long as one of another kind; but what is set in below it goes on with it.
				announced == digest.Unknown && fits && groups == 1 && nextGroups == 1 && from > 0 && j == i+1 && total == 2*digits && next.indent > r.indent:
				joined = j - i
			}
			if announced != digest.Unknown && announced.Size() <= value {
				break
			}
		}
		if joined == 0 {
			continue
		}
		var all strings.Builder
		pieces := r.text[from:]
		all.WriteString(onlyHex(r.text[from:]))
		for j := i + 1; j <= i+joined; j++ {
			all.WriteString(onlyHex(l.rows[j].text))
			pieces += " " + l.rows[j].text
			l.rows[j].kind, l.rows[j].tokens = rowDone, nil
		}
		value, ok := decodeHex([]byte(all.String()))
		if !ok {
			continue
		}
		r.tokens = slices.DeleteFunc(r.tokens, func(t token) bool { return t.to > from })
		r.tokens = append(r.tokens, token{from: from, to: len(r.text), value: value, grouped: true, pieces: pieces})
		r.kind = rowValue
	}
}

// announcedFor returns the algorithm of a value that begins in a row: what stands before
// it there, or in the row above, or over all.
func (l *layout) announcedFor(i, from int) digest.Algorithm {
	r := &l.rows[i]
	labels := labelsIn(r.text[:from])
	switch {
	case len(labels) > 0:
		return labels[len(labels)-1].algorithm
	case i > 0 && l.rows[i-1].label != digest.Unknown && l.rows[i-1].kind == rowName:
		return l.rows[i-1].label
	case len(r.section.algorithms) == 1:
		return r.section.algorithms[0]
	}
	return l.p.hint
}

// splice moves the rest of a value from the start of the next row to where it began.
func (l *layout) splice(r, next *row, from, head int) {
	pieces := r.text[from:] + " " + next.text[:head]
	r.text += next.text[:head]
	if rest := next.text[head:]; strings.TrimSpace(rest) != "" {
		r.text += rest
	}
	next.kind, next.tokens = rowDone, nil
	r.tokens = tokensIn(r.text, false, digest.Unknown)
	for i := range r.tokens {
		if t := &r.tokens[i]; t.from <= from && from < t.to {
			t.pieces = pieces
		}
	}
	r.kind = rowValue
}

// hexTail returns where the groups of digits at the end of a row begin, how many digits
// and groups they are, and how long the first group is.
func hexTail(text string) (from, digits, groups, width int) {
	text = strings.TrimRight(text, " \\")
	from = len(text)
	for at := len(text); at > 0; {
		start := at
		for start > 0 && isHex(text[start-1]) {
			start--
		}
		n := at - start
		if n == 0 || n%2 != 0 && n < 16 || start > 0 && (isNameByte(text[start-1]) && text[start-1] != '-' || text[start-1] == '.' || text[start-1] == '/') {
			break
		}
		if groups > 0 && n != width && n < width {
			break
		}
		from, digits, groups, width = start, digits+n, groups+1, n
		at = start
		for at > 0 && (text[at-1] == ' ' || text[at-1] == '\t' || text[at-1] == ':' || text[at-1] == '-') {
			at--
		}
	}
	if groups == 1 && digits < 16 {
		return len(text), 0, 0, 0
	}
	return from, digits, groups, width
}

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

// percentField is a row with the name of a field between percent signs; its value is the
// next row.
var percentField = regexp.MustCompile(`^%[A-Z0-9]+%$`)

// undoPercent makes rows of fields of such ones. A blank row ends a field and no record.
func (l *layout) undoPercent() {
	for i := 0; i+1 < len(l.rows); i++ {
		r, next := &l.rows[i], &l.rows[i+1]
		if r.kind != rowText || !percentField.MatchString(r.text) || next.kind != rowText {
			continue
		}
		r.text = strings.Trim(r.text, "%") + ": " + next.text
		r.no, r.column = next.no, next.column
		next.kind = rowDone
		if i+2 < len(l.rows) && l.rows[i+2].kind == rowBlank && i+3 < len(l.rows) && percentField.MatchString(l.rows[i+3].text) && l.rows[i+3].text != "%FILENAME%" {
			l.rows[i+2].kind = rowDone
		}
	}
}

var (
	arrayStart = regexp.MustCompile(`^([A-Za-z_]\w*)\+?=\((.*)$`)
	arrayItem  = regexp.MustCompile(`"([^"]*)"|'([^']*)'|([^\s"'()]+)`)
)

// arrays reads the lists of a recipe in the form “source=(…)” and “sha256sums=(…)”, whose
// items belong together one by one.
func (l *layout) arrays() {
	record := &node{}
	for i := 0; i < len(l.rows); i++ {
		m := arrayStart.FindStringSubmatch(l.rows[i].text)
		if m == nil || l.rows[i].kind != rowText {
			continue
		}
		key, architecture, _ := strings.Cut(m[1], "_")
		list := &node{key: key, list: true, line: l.rows[i].no}
		from := i
		text := m[2]
		for {
			inside, _, ended := strings.Cut(text, ")")
			for _, item := range arrayItem.FindAllStringSubmatch(inside, -1) {
				value := item[1] + item[2] + item[3]
				if name, _, renamed := strings.Cut(value, "::"); renamed {
					value = name
				}
				list.kids = append(list.kids, &node{text: value, scalar: true, line: l.rows[i].no, column: 1})
			}
			if ended || i+1 >= len(l.rows) {
				break
			}
			i++
			text = l.rows[i].text
		}
		label, _ := labelOfKey(key)
		if key != "source" && label == digest.Unknown {
			continue
		}
		list.key = key
		for j := from; j <= i; j++ {
			l.rows[j].kind = rowDone
		}
		if architecture != "" {
			// Lists for one kind of machine belong to each other.
			other := slices.IndexFunc(record.kids, func(n *node) bool { return n.key == "_"+architecture })
			if other < 0 {
				record.kids = append(record.kids, &node{key: "_" + architecture})
				other = len(record.kids) - 1
			}
			record.kids[other].kids = append(record.kids[other].kids, list)
			continue
		}
		record.kids = append(record.kids, list)
	}
	t := &tree{p: l.p, format: Records}
	t.parallel(record)
	for _, kid := range record.kids {
		if !kid.list {
			t.parallel(kid)
		}
	}
}

// undoWrapping joins what mail programs broke: lines in quoted-printable.
func (l *layout) undoWrapping() {
	l.undoPercent()
	l.arrays()
	encoded := false
	for i := range min(len(l.rows), 80) {
		if t := l.rows[i].text; len(t) < 80 && strings.HasPrefix(strings.ToLower(t), "content-transfer-encoding:") && strings.Contains(strings.ToLower(t), "quoted-printable") {
			encoded = true
			break
		}
	}
	if !encoded {
		return
	}
	for i := 0; i < len(l.rows); i++ {
		r := &l.rows[i]
		if r.kind != rowText {
			continue
		}
		last := i
		text := r.text
		for strings.HasSuffix(text, "=") && last+1 < len(l.rows) {
			last++
			l.p.aside.cover(strings.TrimSuffix(text, "="))
			text = strings.TrimSuffix(text, "=") + l.rows[last].text
			l.p.aside.cover(leadingWord(l.rows[last].text))
			l.rows[last].kind = rowDone
		}
		if decoded, err := io.ReadAll(quotedprintable.NewReader(bytes.NewReader([]byte(text)))); err == nil {
			text = strings.TrimSpace(string(decoded))
		}
		r.text = text
		i = last
	}
}

func leadingWord(s string) string {
	word, _, _ := strings.Cut(s, " ")
	return word
}
