package manifest

import (
	"regexp"
	"slices"
	"strings"

	"endeixis/core/digest"
)

// A shape is a row with values and what stands around them.
type shape struct {
	r *row
	// before and after are what is left of the text in front of the first value and
	// behind the last, once labels and separators are taken off.
	before, after string
	// explicit is set where the sign between name and value leaves no doubt that what
	// is before it is one thing: a colon, an equals sign, a tab, two blanks.
	explicit bool
	// prose is set where words stand between values, or labels within sentences.
	prose bool
	size  *int64
	// gap is how many blanks are behind the value.
	gap int
	// numbers counts the columns of numbers that were stripped. Of several, none is
	// known to be the size.
	numbers int
	// alone is set for the only row of its shape.
	alone bool
}

// readShapes reads the rows that have both values and names. Rows of one shape are
// looked at together: what is typed alike in all of them, such as a size or a date, is a
// column and no part of a name.
func (l *layout) readShapes() {
	groups := map[[5]int][]*shape{}
	var order [][5]int
	for i := range l.rows {
		r := &l.rows[i]
		if r.kind != rowValue {
			continue
		}
		s := l.shapeOf(r)
		if s == nil {
			continue
		}
		key := [5]int{len(r.tokens), flag(s.before != ""), flag(s.after != ""), int(kindOf(s.before)), int(kindOf(s.after))}
		if groups[key] == nil {
			order = append(order, key)
		}
		groups[key] = append(groups[key], s)
	}
	for _, key := range order {
		l.readGroup(groups[key])
	}
}

func flag(b bool) int {
	if b {
		return 1
	}
	return 0
}

// shapeOf takes a row apart. It returns nil when nothing is left to do with the row.
func (l *layout) shapeOf(r *row) *shape {
	s := &shape{r: r}
	k := len(r.tokens)
	segments := make([]string, k+1)
	at := 0
	for i, t := range r.tokens {
		segments[i] = r.text[at:t.from]
		at = t.to
	}
	segments[k] = r.text[at:]
	s.gap = len(segments[k]) - len(strings.TrimLeft(segments[k], " "))
	if end := strings.TrimRight(segments[0], " "); end != "" {
		last := end[len(end)-1]
		blanks := len(segments[0]) - len(end)
		s.explicit = last == ':' || last == '=' || last == '\t' || last == '|' || (last == ',' || last == ';') && blanks == 0 || blanks >= 2
	}
	live := r.tokens[:0:0]
	for i := range r.tokens {
		t := &r.tokens[i]
		if why := l.otherThan(r, segments[i], t); why != "" {
			l.p.aside.note(r.no, why)
			t.value, t.wrong = nil, ""
			continue
		}
		live = append(live, *t)
	}
	if len(live) == 0 {
		r.kind = rowDone
		return nil
	}
	mids := false
	for i := range r.tokens {
		t := &r.tokens[i]
		rest, label, inside := cutLabel(segments[i])
		if t.algorithm == digest.Unknown && label != digest.Unknown && (t.value != nil || t.wrong != "") {
			t.algorithm = label
		}
		segments[i] = rest
		s.prose = s.prose || inside
		if i > 0 && rest != "" && kindOf(rest) == cellOther {
			mids = true
		}
	}
	l.carryLabels(r, segments)
	segments[k] = l.cutTail(r, segments[k])
	if r.prefix != "" {
		// The value is of what the other fields with the same words name.
		segments[0], segments[k] = "", ""
	}
	s.before, s.after = segments[0], segments[k]
	for _, side := range []*string{&s.before, &s.after} {
		if rest, n := cutSize(*side); n != nil && !l.p.known.is(*side) {
			*side, s.size = trimSeparators(rest), n
			s.numbers++
		}
	}
	if mids {
		s.prose = true
	}
	if k > 1 && !mids {
		for i := 1; i < k; i++ {
			if n := sizeOf(segments[i]); n != nil {
				s.size = n
			}
		}
	}
	return s
}

// carryLabels gives a value without a label the one behind it, as in “… is the SHA-256
// of”, or that of the value before it in the same row.
func (l *layout) carryLabels(r *row, segments []string) {
	for i := range r.tokens {
		t := &r.tokens[i]
		if t.value == nil || t.algorithm != digest.Unknown {
			continue
		}
		if behind := labelsIn(segments[i+1]); len(behind) > 0 && i == 0 && behind[0].algorithm.Size() == len(t.value) && startsProse(segments[1]) {
			t.algorithm = behind[0].algorithm
		} else if i > 0 && r.tokens[i-1].algorithm.Size() == len(t.value) {
			t.algorithm = r.tokens[i-1].algorithm
		}
	}
}

// cutTail cuts from what is behind the last value a label in brackets, a mark and the
// end of a sentence.
func (l *layout) cutTail(r *row, text string) string {
	rest := strings.TrimLeft(text, " \t")
	last := &r.tokens[len(r.tokens)-1]
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
	if strings.Trim(rest, ".!?)(]}>'\"-–—,;:*\\") == "" {
		return ""
	}
	return rest
}

// cutLabel cuts from the text in front of a value the label of its algorithm, and words
// such as “checksum”. inside is set when the label stands within a sentence.
func cutLabel(text string) (rest string, label digest.Algorithm, inside bool) {
	rest = strings.TrimRight(text, separators+"([{<\"'`*")
	for {
		words := strings.TrimRight(rest, separators+"([{<\"'`*)]}")
		at := strings.LastIndexAny(words, " \t:=,;|([{<\"'`*")
		word := words[at+1:]
		if word == "" {
			break
		}
		if !hashWords[foldWords(word)] && !digestField(word) && !(label != digest.Unknown && isArticle(word)) {
			labels := labelsIn(words)
			if n := len(labels); n > 0 && labels[n-1].to == len(words) && label == digest.Unknown {
				label = labels[n-1].algorithm
				rest = strings.TrimRight(words[:labels[n-1].from], separators+"([{<\"'`*-")
				continue
			}
			break
		}
		if at < 0 && looksLikeFile(word) {
			break
		}
		rest = strings.TrimRight(words[:at+1], separators+"([{<\"'`*")
	}
	if label == digest.Unknown {
		labels := labelsIn(rest)
		if n := len(labels); n > 0 {
			label = labels[n-1].algorithm
			if n == 1 && labels[0].from <= 1 {
				rest = strings.TrimLeft(rest[labels[0].to:], separators+")]}")
				rest = strings.TrimLeft(rest, "*")
				if strings.HasPrefix(rest, "(") && !strings.Contains(rest, ")") {
					rest = rest[1:]
				}
			} else {
				inside = true
			}
		}
	}
	return trimQuote(trimSeparators(rest)), label, inside
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
	return len(parts) > 1 && strings.Contains(word, "-") && !looksLikeFile(word) && hashWords[parts[len(parts)-1]] && !otherWords[parts[0]]
}

func isArticle(word string) bool {
	switch strings.ToLower(word) {
	case "the", "a", "its", "der", "die", "das", "le", "la", "el", "il", "o", "de", "het", "and", "und", "et", "y", "e", "en":
		return true
	}
	return false
}

// otherThan says what a value is, if the words before it say that it is no digest of a
// file.
func (l *layout) otherThan(r *row, before string, t *token) string {
	text := r.text
	if words := strings.Fields(before); len(words) > 0 && looksLikeFile(trimSeparators(words[len(words)-1])) {
		return ""
	}
	if all := endingWithin.FindAllStringSubmatchIndex(before, -1); all != nil {
		for _, at := range slices.Backward(all) {
			if endings[strings.ToLower(before[at[2]:at[3]])] {
				before = before[at[3]:] // the words of a name say nothing
				break
			}
		}
	}
	before = strings.TrimRight(before, separators+"([{<\"'`*")
	if at := strings.LastIndexAny(before, ",;()"); at >= 0 && len(labelsIn(before[at:])) > 0 {
		before = before[at+1:] // the clause that the value is in
	}
	words := strings.Fields(before)
	if len(words) > 0 {
		// “Description-md5”: of what is named in the same word.
		last := trimSeparators(words[len(words)-1])
		label, extra := labelOfKey(last)
		if joined := strings.Join(extra, ""); label != digest.Unknown && otherWords[joined] {
			return "it is of something else than a file: “" + joined + "” stands before it"
		}
		if label != digest.Unknown && len(extra) > 0 && len(extra) < 4 && !looksLikeFile(last) && !partOfFile[extra[len(extra)-1]] {
			r.prefix = strings.Join(extra, " ")
			if t.algorithm == digest.Unknown {
				t.algorithm = label
			}
			return ""
		}
	}
	if n := len(words); n > 1 && otherWords[foldWords(words[n-2]+words[n-1])] {
		return "it is of something else than a file: “" + words[n-2] + " " + words[n-1] + "” stands before it"
	}
	if strings.HasSuffix(text[:t.from], `W/"`) {
		return "it marks a version of an answer" // RFC 9110, section 8.8.3
	}
	if t.encoded && sshForm.MatchString(text) {
		return "it is the fingerprint of a key"
	}
	n := 0
	for i := len(words) - 1; i >= 0 && n < 4; i-- {
		n++
		if looksLikeFile(trimSeparators(words[i])) {
			return ""
		}
		for _, w := range append(splitKey(words[i]), foldWords(words[i])) {
			if otherWords[w] {
				return "it is of something else than a file: “" + w + "” stands before it"
			}
		}
	}
	if isAddressPart(text, t) {
		return "it is a part of an address"
	}
	return ""
}

// partOfFile are words that say of a digest that it is of the file itself.
var partOfFile = wordSet(`file package archive artifact artefact download zip tar tarball image iso exe binary installer pkg src source setup content repr`)

// sshForm is a line about a key, with its kind in brackets or in front.
var sshForm = regexp.MustCompile(`\((?:RSA|DSA|ECDSA|ED25519)\)|\bssh-|^\d{3,5} SHA256:`)

// endingWithin finds what may be the ending of a file's name.
var endingWithin = regexp.MustCompile(`\.([A-Za-z][A-Za-z0-9]{0,9})(?:[^A-Za-z0-9]|$)`)

// isAddressPart reports whether a value stands inside an address or behind an at sign.
func isAddressPart(text string, t *token) bool {
	from := t.from
	for from > 0 && text[from-1] > ' ' && strings.IndexByte("\"'<>()[]", text[from-1]) < 0 {
		from--
	}
	word := text[from:t.from]
	return strings.Contains(word, "@") || !t.encoded && strings.Contains(word, "://") || strings.HasPrefix(word, "urn:") || strings.HasPrefix(word, "magnet:")
}

// isLog reports whether rows are those of a log: values of the length of a commit's name
// that nothing calls digests, each with a sentence behind it.
func (l *layout) isLog(group []*shape) bool {
	if l.p.hint != digest.Unknown || l.p.listName {
		return false
	}
	sentences := 0
	for _, s := range group {
		t := s.r.tokens[0]
		if len(s.r.tokens) != 1 || hasHashWord(s.r.text) || len(t.value) != 20 || t.algorithm != digest.Unknown || len(s.r.section.algorithms) > 0 || s.before != "" || s.gap > 1 {
			return false
		}
		if strings.Count(s.after, " ") > 0 && !looksLikeFile(s.after) {
			sentences++
		}
	}
	return sentences > 0
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
	if l.columnsOf(group) {
		return
	}
	sides := []func(*shape) *string{func(s *shape) *string { return &s.before }, func(s *shape) *string { return &s.after }}
	var list []*shape
	for _, s := range group {
		if !s.prose {
			list = append(list, s)
		}
	}
	for i, side := range sides {
		l.strip(list, side, false, i == 1)
		l.strip(list, side, true, i == 1)
	}
	l.stripWhole(list)
	// How many of the rows have on a side what can only be a name decides whether all
	// of that side is one.
	clean := [2]int{}
	total := [2]int{}
	files := 0
	for _, s := range list {
		for i, side := range sides {
			if text := *side(s); text != "" {
				total[i]++
				if looksLikeFile(text) || strings.ContainsAny(text, `/\`) {
					files++
				}
				if l.cleanName(text) {
					clean[i]++
				}
			}
		}
	}
	for _, s := range group {
		s.alone = len(group) == 1
		named := l.p.listName || files > 0 || s.r.section.firm
		l.nameShape(s, func(i int) bool { return named && total[i] > 0 && 2*clean[i] >= total[i] })
	}
}

// cleanName reports whether a text can only be the name of one file.
func (l *layout) cleanName(text string) bool {
	text, _ = cutKey(text)
	if l.p.known.is(text) {
		return true
	}
	if isAddress(text) {
		return !strings.Contains(text, " ")
	}
	if !strings.ContainsAny(text, " \t") {
		return !strings.HasSuffix(text, ":") && !lead[foldWords(text)]
	}
	return looksLikeFile(text) && !startsProse(text) && len(l.p.fileWords(text)) <= 1 && len(strings.Fields(text)) <= 3
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
func (l *layout) strip(group []*shape, side func(*shape) *string, end, after bool) {
	for {
		if len(group) == 0 {
			return
		}
		words := make([]string, len(group))
		for i, s := range group {
			text := *side(s)
			word, rest := endWord(text, end)
			kind := kindOf(word)
			if rest == "" || kind == cellOther || l.p.known.is(text) {
				return
			}
			if after && !end && s.gap >= 2 && kind == cellNumber && !strings.HasPrefix(text[len(word):], "  ") && !strings.ContainsAny(text[len(word):len(word)+1], ",;|\t") {
				return // “DIGEST  2031 tides.csv”
			}
			if len(group) == 1 && kind == cellNumber && !looksLikeFile(trimSeparators(rest)) && strings.ContainsAny(trimSeparators(rest), " \t") {
				return
			}
			words[i] = word
		}
		for i, s := range group {
			text := *side(s)
			_, rest := endWord(text, end)
			switch kindOf(words[i]) {
			case cellNumber:
				s.numbers++
				if unit, more := endWord(rest, end); !end && more != "" && isUnit(unit) {
					rest = more
				}
				if s.size = sizeOf(words[i]); s.numbers > 1 {
					s.size = nil
				}
			case cellOption:
				key, value, _ := strings.Cut(words[i], "=")
				if sizeWords[foldWords(key)] {
					s.size = sizeOf(value)
				}
			case cellDate, cellMode, cellOther:
			}
			*side(s) = trimSeparators(rest)
			if *side(s) == "" {
				*side(s) = rest
			}
		}
	}
}

// stripWhole takes a number or date that is all that rows have on one side, where all
// of them have a name on the other.
func (l *layout) stripWhole(group []*shape) {
	for i, side := range []func(*shape) *string{func(s *shape) *string { return &s.before }, func(s *shape) *string { return &s.after }} {
		if slices.ContainsFunc(group, func(s *shape) bool {
			other := s.after
			if i == 1 {
				other = s.before
			}
			text := *side(s)
			return other == "" || kindOf(text) == cellOther && sizeOf(text) == nil || l.p.known.is(text)
		}) {
			continue
		}
		for _, s := range group {
			if n := sizeOf(*side(s)); n != nil {
				if s.numbers++; s.numbers == 1 {
					s.size = n
				} else {
					s.size = nil
				}
			}
			*side(s) = ""
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

// nameShape finds the name in a row, and adds what the row says. whole tells of a side
// whether in this text all of it is a name.
func (l *layout) nameShape(s *shape, whole func(side int) bool) {
	r := s.r
	valid := slices.ContainsFunc(r.tokens, func(t token) bool { return t.value != nil })
	if s.prose {
		l.sentence(s)
		return
	}
	if n := sizeOf(s.after); s.alone && n != nil && s.before == "" && s.gap < 2 && !l.p.known.is(s.after) {
		r.size, s.after = n, "" // “DIGEST 4096”
	}
	var names []string
	for i, text := range []string{s.before, s.after} {
		if text == "" {
			continue
		}
		names = append(names, l.nameIn(text, i, s, whole(i)))
	}
	switch {
	case len(names) == 0:
		return // the value stands alone
	case !slices.ContainsFunc(names, func(n string) bool { return n != "" }):
		words := len(strings.Fields(s.before)) + len(strings.Fields(s.after))
		r.wordy = words > 1 && (!s.explicit || words > 4)
		r.unsaid = !hasHashWord(r.text) && !slices.ContainsFunc(r.tokens, func(t token) bool { return t.algorithm != digest.Unknown || len(t.value) > 20 })
	case len(names) == 1 && names[0] != "":
		f := l.formatOf(s)
		if inner, _ := cutKey(s.before + s.after); inner != names[0] && !isAddress(inner) && !strings.HasSuffix(inner, " "+names[0]) || startsProse(inner) {
			f = FreeText
		}
		l.emit(r, names[0], s.size, f)
		return
	case len(names) == 2:
		// Something stands on both sides: the one that is a file's name by its form.
		before, after := l.fileLike(s.before), l.fileLike(s.after)
		switch {
		case before != "" && after == "":
			l.emit(r, before, s.size, NameFirst)
			return
		case after != "" && before == "":
			l.emit(r, after, s.size, l.formatOf(s))
			return
		}
	}
	if valid {
		l.sentence(s)
		return
	}
	l.tellDamage(r, false)
}

// fileLike returns the name that a text consists of, at its start or end, or "".
func (l *layout) fileLike(text string) string {
	text, _ = cutKey(text)
	if l.p.known.is(text) || looksLikeFile(text) && !strings.ContainsAny(text, " \t") {
		return text
	}
	if files := l.p.fileWords(text); len(files) == 1 {
		return files[0]
	}
	return ""
}

// nameIn returns the name in what stands on one side of a value, or "".
func (l *layout) nameIn(text string, side int, s *shape, whole bool) string {
	inner, keyed := cutKey(text)
	if keyed {
		whole = true
	}
	if isAddress(inner) && !strings.Contains(inner, " ") {
		return nameOfAddress(inner)
	}
	if l.p.known.is(inner) {
		return inner
	}
	if name := l.p.known.in(inner); name != "" {
		return name
	}
	files := l.p.fileWords(inner)
	if len(files) > 1 && !strings.HasSuffix(inner, files[len(files)-1]) {
		return ""
	}
	// A word in brackets before the name is the kind of entry: “DIST x.tar”.
	if first, rest, two := strings.Cut(inner, " "); two && side == 0 && strings.ToUpper(first) == first && !hasDigit(first) && len(first) > 1 && looksLikeFile(rest) && !strings.Contains(rest, " ") {
		return rest
	}
	if len(files) == 1 && files[0] != inner {
		words := strings.TrimSpace(inner)
		switch {
		case startsProse(words), !strings.HasSuffix(words, files[0]) && !strings.HasSuffix(files[0], words) && side == 0 && saysMore(words, files[0]):
			return files[0]
		}
		if !whole && !(s.explicit && side == 0) && side == 0 {
			return files[0]
		}
		if !whole && side == 1 && s.gap < 2 {
			return files[0]
		}
	}
	if startsProse(inner) && len(files) == 0 {
		return ""
	}
	if len(files) == 0 {
		switch {
		case whole, keyed, side == 1 && s.gap >= 2:
		case side == 0 && s.explicit && len(strings.Fields(inner)) <= 4 && l.strict == 0 && !strings.HasSuffix(inner, "."):
			// “Image: …” is a label, unless the list is of such rows.
			return ""
		default:
			return ""
		}
	}
	return inner
}

// saysMore reports whether words follow the name, as in “gauge.img is …”.
func saysMore(text, name string) bool {
	at := strings.LastIndex(text, name)
	return at >= 0 && strings.ContainsAny(strings.TrimSpace(text[at+len(name):]), " ") || at >= 0 && strings.HasPrefix(text[at+len(name):], " ")
}

func (l *layout) formatOf(s *shape) Format {
	switch {
	case slices.ContainsFunc(s.r.tokens, func(t token) bool { return t.encoded }):
		return Encoded
	case len(s.r.section.algorithms) > 0 && s.size != nil:
		return Sections
	case s.before != "" && s.after == "":
		return NameFirst
	}
	return DigestFirst
}

// emit adds the values of a row under a name.
func (l *layout) emit(r *row, name string, size *int64, f Format) {
	p := l.p
	p.line = r.no
	if size == nil {
		size = r.size
	}
	if cutName(name) {
		name, f = "", Bare
	}
	for _, t := range r.tokens {
		l.emitToken(r, t, name, size, f)
	}
	r.kind = rowDone
}

func (l *layout) emitToken(r *row, t token, name string, size *int64, f Format) {
	p := l.p
	p.line = r.no
	switch {
	case t.value == nil && t.wrong == "":
		return // it is of something else
	case t.value == nil:
		p.problem(BadDigest, notADigest+t.wrong)
		return
	}
	candidates, wrong := l.candidates(r, t.value, t.algorithm)
	if wrong != "" {
		p.problem(BadDigest, wrong)
		return
	}
	e := entryOf(name, t.value, candidates, f)
	e.Size = size
	e.at(r.no, r.column)
	p.add(e)
	p.covered(r, t)
}

// tellDamage tells the values of a row that are damaged. Where nothing says that they
// should be digests, they are left aside.
func (l *layout) tellDamage(r *row, alone bool) {
	p := l.p
	p.line = r.no
	for _, t := range r.tokens {
		if t.value != nil || t.wrong == "" {
			continue
		}
		if p.hint != digest.Unknown || t.algorithm != digest.Unknown || len(r.section.algorithms) > 0 || l.strict > 0 || p.out.Entries.Len() > 0 && !alone {
			p.problem(BadDigest, notADigest+t.wrong)
		} else {
			p.aside.note(r.no, t.wrong)
		}
	}
}
