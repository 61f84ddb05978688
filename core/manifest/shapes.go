package manifest

import (
	"slices"
	"strings"

	"endeixis/core/digest"
)

// A shape is a row with values and what stands around them.
type shape struct {
	r *laidRow
	// before and after are what is left of the text in front of the first value and
	// behind the last, once labels and separators are taken off.
	before, after string
	// explicit is set where the sign between name and value leaves no doubt that what
	// is before it is one thing: a colon, an equals sign, a tab, two blanks.
	explicit bool
	// prose is set where words stand between values, or labels within sentences.
	prose bool
	size  *size
	// gap is how many blanks are behind the value.
	gap int
	// numbers counts the columns of numbers that were stripped. Of several, none is
	// known to be the size.
	numbers int
	// alone is set for the only row of its shape.
	alone bool
}

// A side is the text before the values of a shape or behind them.
type side uint8

const (
	beforeValues side = iota
	afterValues
)

var sides = []side{beforeValues, afterValues}

// of returns the text on that side of a shape.
func (d side) of(s *shape) *string {
	if d == beforeValues {
		return &s.before
	}
	return &s.after
}

// A group are shapes that are alike: as many values, and text of the same kind around them.
type groupKey struct {
	values        int
	before, after bool
	kinds         [2]cellKind
}

// readShapes reads the rows that have both values and names. Rows of one shape are
// looked at together: what is typed alike in all of them, such as a size or a date, is a
// column and no part of a name.
func (l *layout) readShapes() {
	groups := map[groupKey][]*shape{}
	var order []groupKey
	var twos []*laidRow
	for i := range l.rows {
		r := &l.rows[i]
		if r.kind != rowValue {
			continue
		}
		if r.isTwoValues() {
			twos = append(twos, r)
			continue
		}
		s := l.shapeOf(r)
		if s == nil {
			continue
		}
		key := groupKey{len(r.values), s.before != "", s.after != "", [2]cellKind{kindOf(s.before), kindOf(s.after)}}
		if groups[key] == nil {
			order = append(order, key)
		}
		groups[key] = append(groups[key], s)
	}
	for _, key := range order {
		l.readGroup(groups[key])
	}
	l.readTwos(twos)
}

// isTwoValues reports whether a row is two values of one length with blanks between them,
// of which one is the name of a file.
func (r *laidRow) isTwoValues() bool {
	if len(r.values) != 2 {
		return false
	}
	a, b := &r.values[0], &r.values[1]
	return a.digest != nil && len(a.digest) == len(b.digest) && a.from == 0 && b.to == len(r.text) &&
		a.algorithm == digest.Unknown &&
		b.algorithm == digest.Unknown &&
		!a.encoded &&
		!b.encoded &&
		strings.Trim(r.text[a.to:b.from], " \t*") == "" &&
		b.from-a.to >= 2
}

// readTwos reads such rows in the order of digest and name that the other rows of the text
// have: it is one for all of a list.
func (l *layout) readTwos(rows []*laidRow) {
	for _, r := range rows {
		name, f := r.text[r.values[1].from:], DigestFirst
		keep := r.values[:1]
		if l.nameFirst > l.digestFirst {
			name, f, keep = r.text[:r.values[0].to], NameFirst, r.values[1:]
		}
		r.values = keep
		l.emit(r, name, nil, f)
	}
}

// shapeOf takes a row apart. It returns nil when nothing is left to do with the row.
func (l *layout) shapeOf(r *laidRow) *shape {
	s := &shape{r: r}
	if r.pure {
		return s
	}
	segments := segmentsOf(r.text, r.values)
	last := len(segments) - 1
	s.gap = len(segments[last]) - len(strings.TrimLeft(segments[last], " "))
	s.explicit = endsExplicitly(segments[0])
	if !l.leaveOthers(r, segments) {
		r.kind = rowDone
		return nil
	}
	if len(r.values) == 1 {
		segments[0] = r.dottedKey(segments[0])
	}
	mids := s.takeLabels(segments)
	carryLabels(r, segments)
	segments[last] = cutTail(r, segments[last])
	if r.prefix != "" {
		// The value is of what the other fields with the same words name.
		segments[0], segments[last] = "", ""
	}
	s.before, s.after = segments[0], segments[last]
	for _, d := range sides {
		text := d.of(s)
		*text = trimSeparators(withoutPointers(*text))
		if rest, n := cutSize(*text); n != nil && !l.known.is(*text) {
			*text, s.size = trimSeparators(rest), n
			s.numbers++
		} else if rest, ok := cutRoundSize(*text); ok && !l.known.is(*text) {
			*text = trimSeparators(rest)
		}
	}
	if mids {
		s.prose = true
		return s
	}
	for _, text := range segments[1:last] {
		if n := sizeOf(text); n != nil {
			s.size = n
		}
	}
	return s
}

// segmentsOf returns what stands before, between and behind values.
func segmentsOf(text string, values []value) []string {
	out := make([]string, 0, len(values)+1)
	at := 0
	for _, v := range values {
		out = append(out, text[at:v.from])
		at = v.to
	}
	return append(out, text[at:])
}

// endsExplicitly reports whether a text ends with a sign that leaves no doubt that what is
// before it is one thing.
func endsExplicitly(text string) bool {
	end := strings.TrimRight(text, " ")
	if end == "" {
		return false
	}
	blanks := len(text) - len(end)
	switch end[len(end)-1] {
	case ':', '=', '\t', '|':
		return true
	case ',', ';':
		return blanks != 1
	}
	return blanks >= 2
}

// leaveOthers leaves those values of a row aside that are of something else than a file,
// and reports whether any is left.
func (l *layout) leaveOthers(r *laidRow, segments []string) bool {
	left := false
	for i := range r.values {
		v := &r.values[i]
		if why := otherThan(r, segments[i], v); why != "" {
			l.p.aside.note(r.no, why)
			v.digest, v.wrong = nil, ""
			continue
		}
		left = true
	}
	return left
}

// takeLabels takes the labels before values off the text, and reports whether words are
// left between values.
func (s *shape) takeLabels(segments []string) (mids bool) {
	for i := range s.r.values {
		v := &s.r.values[i]
		rest, label, inside := cutLabel(segments[i])
		if v.algorithm == digest.Unknown && label != digest.Unknown && (v.digest != nil || v.wrong != "") {
			v.algorithm = label
		}
		segments[i] = rest
		s.prose = s.prose || inside
		mids = mids || i > 0 && rest != "" && kindOf(rest) == cellOther
	}
	return mids
}

// carryLabels gives a value without a label the one behind it, as in “… is the SHA-256
// of”, or that of the value before it in the same row.
func carryLabels(r *laidRow, segments []string) {
	for i := range r.values {
		v := &r.values[i]
		if v.digest == nil || v.algorithm != digest.Unknown {
			continue
		}
		if behind := labelsIn(
			segments[i+1],
		); len(behind) > 0 && i == 0 && behind[0].algorithm.Size() == len(v.digest) &&
			startsProse(segments[1]) {
			v.algorithm = behind[0].algorithm
		} else if i > 0 &&
			r.values[i-1].algorithm.Size() == len(v.digest) {
			v.algorithm = r.values[i-1].algorithm
		}
	}
}

// cutTail cuts from what is behind the last value a label in brackets, a mark and the
// end of a sentence.
func cutTail(r *laidRow, text string) string {
	rest := strings.TrimLeft(text, " \t")
	last := &r.values[len(r.values)-1]
	if labels := labelsIn(rest); len(labels) == 1 && last.algorithm == digest.Unknown {
		inner := trimSeparators(strings.Trim(rest, separators+"\"'`)]}/#-*"))
		if a, ok := algorithmOf(inner); ok {
			last.algorithm = a
			return ""
		}
		if rest[0] == '(' || rest[0] == '[' {
			if end := strings.IndexAny(rest, ")]"); end > 0 && labels[0].to <= end {
				last.algorithm = labels[0].algorithm
				rest = rest[end+1:]
			}
		}
	}
	rest = strings.TrimSuffix(rest, `\`)
	rest = trimSeparators(rest)
	rest = strings.TrimLeft(rest, "*")
	if strings.Trim(rest, ".!?)(]}>'\"-–—,;:*\\`") == "" {
		return ""
	}
	return rest
}

// openers are signs before a value that belong to it.
const openers = separators + "([{<\"'`*"

// cutLabel cuts from the text in front of a value the label of its algorithm, and words
// such as “checksum”. inside is set when the label stands within a sentence.
func cutLabel(text string) (rest string, label digest.Algorithm, inside bool) {
	rest = strings.TrimRight(text, openers)
	for {
		words := strings.TrimRight(rest, openers+")]}")
		at := strings.LastIndexAny(words, " \t:=,;|([{<\"'`*")
		word := words[at+1:]
		if word == "" {
			break
		}
		if hashWords[foldWords(word)] || digestField(word) || label != digest.Unknown && isArticle(word) {
			if at < 0 && looksLikeFile(word) {
				break
			}
			rest = strings.TrimRight(words[:at+1], openers)
			continue
		}
		labels := labelsIn(words)
		n := len(labels)
		if n == 0 || labels[n-1].to != len(words) || label != digest.Unknown {
			break
		}
		label = labels[n-1].algorithm
		rest = strings.TrimRight(words[:labels[n-1].from], openers+"-")
	}
	if label == digest.Unknown {
		rest, label, inside = labelWithin(rest)
	}
	return trimQuote(trimSeparators(rest)), label, inside
}

// labelWithin finds the label of a value further ahead in the text: at its start, where it
// is cut off, or within a sentence.
func labelWithin(text string) (rest string, label digest.Algorithm, inside bool) {
	labels := labelsIn(text)
	n := len(labels)
	if n == 0 {
		return text, digest.Unknown, false
	}
	label = labels[n-1].algorithm
	if n > 1 || labels[0].from > 1 {
		return text, label, true
	}
	rest = strings.TrimLeft(strings.TrimLeft(text[labels[0].to:], separators+")]}"), "*")
	if first, more, ok := strings.Cut(rest, " "); ok && ofWords[strings.ToLower(first)] {
		rest = more // “MD5 of gauge.bin”
	}
	if strings.HasPrefix(rest, "(") && !strings.Contains(rest, ")") {
		rest = rest[1:]
	}
	return rest, label, false
}

// trimQuote cuts off a quote that has lost its other half.
func trimQuote(text string) string {
	for _, quote := range []string{`"`, "'", "`"} {
		if strings.Count(text, quote) == 1 {
			text = strings.Trim(text, quote)
		}
	}
	return text
}

// digestField reports whether a word is the name of a field for digests, such as
// “Repr-Digest” (RFC 9530).
func digestField(word string) bool {
	parts := splitKey(word)
	return len(parts) > 1 && strings.ContainsAny(word, "-_") && !looksLikeFile(word) &&
		hashWords[parts[len(parts)-1]] &&
		!otherWords[parts[0]]
}

// ofWords tie a label to the name behind it.
var ofWords = wordSet(`of for von für fuer de del da di du pour para per z ze dla för av af van`)

// articles may stand between a name and the label of its value.
var articles = wordSet(`the a its der die das le la el il o de het and und et y e en`)

func isArticle(word string) bool { return articles[strings.ToLower(word)] }

// isLog reports whether rows are those of a log: values of the length of a commit's name
// that nothing calls digests, each with a sentence behind it.
func (l *layout) isLog(group []*shape) bool {
	if l.hint != digest.Unknown || l.listName {
		return false
	}
	sentences := 0
	for _, s := range group {
		v := s.r.values[0]
		if len(s.r.values) != 1 || hasHashWord(s.r.text) || len(v.digest) != 20 || v.algorithm != digest.Unknown ||
			len(s.r.section.algorithms) > 0 ||
			s.before != "" ||
			s.gap > 1 {
			return false
		}
		if strings.Count(s.after, " ") > 0 && !looksLikeFile(s.after) {
			sentences++
		}
	}
	return sentences > 0
}

// isReferences reports whether rows are those of a repository's references, each with the
// name of its commit.
func (l *layout) isReferences(group []*shape) bool {
	refs := 0
	for _, s := range group {
		n := len(s.r.values[0].digest)
		if n != 20 && n != 32 || s.before != "" {
			return false
		}
		switch {
		case strings.HasPrefix(s.after, "refs/"):
			refs++
		case s.after != "HEAD":
			return false
		}
	}
	return refs > 0
}

// readGroup reads rows of one shape.
func (l *layout) readGroup(group []*shape) {
	if l.isLog(group) {
		for _, s := range group {
			s.r.kind = rowDone
			l.p.aside.note(s.r.no, "it stands in front of a sentence, as the name of a commit does")
		}
		return
	}
	if l.isReferences(group) {
		for _, s := range group {
			s.r.kind = rowDone
			l.p.aside.note(s.r.no, "it stands before a reference of a repository, as the name of a commit does")
		}
		return
	}
	if l.columnsOf(group) {
		return
	}
	var list []*shape
	for _, s := range group {
		if !s.prose {
			list = append(list, s)
		}
	}
	for _, d := range sides {
		l.strip(list, d, false)
		l.strip(list, d, true)
	}
	l.stripWhole(list)
	c := l.count(list)
	for _, s := range group {
		s.alone = len(group) == 1
		named := l.listName || c.files > 0 || s.r.section.firm
		l.nameShape(s, func(d side) bool { return named && c.all[d] > 0 && 2*c.clean[d] >= c.all[d] })
	}
}

// A nameCount tells how many rows of a group have on a side what can only be a name. It
// decides whether all of that side is one.
type nameCount struct {
	all, clean [2]int
	files      int
}

func (l *layout) count(list []*shape) (c nameCount) {
	for _, s := range list {
		for _, d := range sides {
			text := *d.of(s)
			if text == "" {
				continue
			}
			c.all[d]++
			if looksLikeFile(text) || strings.ContainsAny(text, `/\`) {
				c.files++
			}
			if l.cleanName(text) {
				c.clean[d]++
			}
		}
	}
	return c
}

// cleanName reports whether a text can only be the name of one file.
func (l *layout) cleanName(text string) bool {
	text, _ = cutKey(text)
	if l.known.is(text) {
		return true
	}
	if isAddress(text) {
		return !strings.Contains(text, " ")
	}
	if !strings.ContainsAny(text, " \t") {
		return !strings.HasSuffix(text, ":") && !lead[foldWords(text)]
	}
	return looksLikeFile(text) && !startsProse(text) && len(l.known.fileWords(text)) <= 1 &&
		len(strings.Fields(text)) <= 3
}

// cutKey cuts the label of a name from the front of it: “File: gauge.bin”.
func cutKey(text string) (string, bool) {
	at := strings.IndexAny(text, ":=")
	if at <= 0 || at == len(text)-1 || strings.HasPrefix(text[at:], "://") || strings.HasPrefix(text[at:], `:\`) {
		return text, false
	}
	if folded := foldWords(text[:at]); nameWords[folded] || addressWords[folded] {
		return trimQuote(trimSeparators(text[at+1:])), true
	}
	return text, false
}

// strip takes a column of sizes, dates and the like from one end of what rows have on a
// side, for as long as all of them have one.
func (l *layout) strip(group []*shape, d side, end bool) {
	kept := func(s *shape) bool { return !l.strippable(s, d, end, len(group) == 1) }
	for len(group) > 0 && !slices.ContainsFunc(group, kept) {
		for _, s := range group {
			text := d.of(s)
			word, rest := endWord(*text, end)
			rest = s.takeColumn(word, rest, end)
			if *text = trimSeparators(rest); *text == "" {
				*text = rest
			}
		}
	}
}

// strippable reports whether the word at an end of a side is that of a column and no part
// of a name.
func (l *layout) strippable(s *shape, d side, end, lone bool) bool {
	text := *d.of(s)
	word, rest := endWord(text, end)
	kind := kindOf(word)
	switch {
	case rest == "" || kind == cellOther || l.known.is(text):
		return false
	case kind != cellNumber:
		return true
	case d == afterValues && !end && s.gap == 2 && !strings.HasPrefix(text[len(word):], "  ") && !strings.ContainsAny(text[len(word):len(word)+1], ",;|\t"):
		return false // “DIGEST  2031 tides.csv”
	}
	rest = trimSeparators(rest)
	return !lone || looksLikeFile(rest) || !strings.ContainsAny(rest, " \t")
}

// takeColumn takes what the word of a column says, and returns what is left behind it.
func (s *shape) takeColumn(word, rest string, end bool) string {
	switch kindOf(word) {
	case cellNumber:
		s.numbers++
		s.size = sizeOf(word)
		if unit, more := endWord(rest, end); !end && isUnit(unit) {
			rest, s.size = more, statedSize(word)
		}
		if s.numbers > 1 {
			s.size = nil
		}
	case cellOption:
		if key, text, _ := strings.Cut(word, "="); sizeWords[foldWords(key)] {
			s.size = statedSize(text)
		}
	case cellDate, cellMode, cellOther:
	}
	return rest
}

// stripWhole takes a number or date that is all that rows have on one side, where all
// of them have a name on the other.
func (l *layout) stripWhole(group []*shape) {
	for _, d := range sides {
		other := afterValues
		if d == afterValues {
			other = beforeValues
		}
		if slices.ContainsFunc(group, func(s *shape) bool {
			text := *d.of(s)
			return *other.of(s) == "" || kindOf(text) == cellOther && sizeOf(text) == nil || l.known.is(text)
		}) {
			continue
		}
		for _, s := range group {
			text := d.of(s)
			if n := sizeOf(*text); n != nil {
				if s.numbers++; s.numbers == 1 {
					s.size = n
				} else {
					s.size = nil
				}
			}
			*text = ""
		}
	}
}

func isUnit(word string) bool {
	switch strings.ToLower(word) {
	case "b", "byte", "bytes", "octets":
		return true
	}
	return false
}

// endWord returns the first or the last word of a text and what is left.
func endWord(text string, end bool) (word, rest string) {
	const stops = " \t,;|"
	if end {
		at := strings.LastIndexAny(text, stops)
		return text[at+1:], strings.TrimRight(text[:max(at, 0)], stops)
	}
	at := strings.IndexAny(text, stops)
	if at < 0 {
		return text, ""
	}
	return text[:at], strings.TrimLeft(text[at:], stops)
}
