package manifest

import (
	"regexp"
	"slices"
	"strings"

	"endeixis/core/digest"
)

// nameShape finds the name in a row, and adds what the row says. whole tells of a side
// whether in this text all of it is a name.
//
//nolint:cyclop // a list of cases, one for each place of the name
func (l *layout) nameShape(s *shape, whole func(side) bool) {
	r := s.r
	if name := optionName(r.text); name != "" {
		r.values = slices.DeleteFunc(
			r.values,
			func(v value) bool { return v.from > 0 && r.text[v.from-1] == '=' && v.algorithm == digest.Unknown },
		)
		l.emit(r, name, s.size, formatOf(s))
		return
	}
	if s.prose {
		l.sentence(s)
		return
	}
	if n := sizeOf(s.after); s.alone && n != nil && s.before == "" && s.gap < 2 && !l.known.is(s.after) {
		r.size, s.after = n, "" // “DIGEST 4096”
	}
	var names []string
	for _, d := range sides {
		if text := *d.of(s); text != "" {
			names = append(names, l.nameIn(text, d, s, whole(d)))
		}
	}
	switch {
	case len(names) == 0: // the value stands alone
	case !slices.ContainsFunc(names, func(n string) bool { return n != "" }):
		s.tellWords()
	case len(names) == 1:
		r.within = saysOfPart(s.before+s.after, names[0])
		l.emit(r, names[0], s.size, l.formatOfName(s, names[0]))
	case !l.oneOfTwo(s):
		if slices.ContainsFunc(r.values, func(v value) bool { return v.digest != nil }) {
			l.sentence(s)
		} else {
			l.tellDamage(r, false)
		}
	}
}

// optionForPath is an option of a line that names a file.
var optionForPath = regexp.MustCompile(`(?:^|\s)(?:path|file|filename)=(?:"([^"]+)"|(\S+))`)

// optionName returns the name in an option of a line, “path="usr/bin/gauge"”, or "".
func optionName(text string) string {
	if !strings.Contains(text, "path=") && !strings.Contains(text, "file=") && !strings.Contains(text, "filename=") {
		return ""
	}
	if m := optionForPath.FindStringSubmatch(text); m != nil {
		return m[1] + m[2]
	}
	return ""
}

// maxLabelWords is how many words before a colon are a label and no sentence.
const maxLabelWords = 4

// tellWords notes that words stand around the values of a row, and no name.
func (s *shape) tellWords() {
	words := len(strings.Fields(s.before)) + len(strings.Fields(s.after))
	s.r.wordy = words > 1 && (!s.explicit || words > maxLabelWords)
	s.r.unsaid = !hasHashWord(s.r.text) &&
		!slices.ContainsFunc(
			s.r.values, func(v value) bool { return v.algorithm != digest.Unknown || len(v.digest) > 20 },
		)
}

// formatOfName returns the format of a row with one name: free text, where it is one of
// several words.
func (l *layout) formatOfName(s *shape, name string) Format {
	inner, _ := cutKey(s.before + s.after)
	if inner != name && !isAddress(inner) && !strings.HasSuffix(inner, " "+name) || startsProse(inner) {
		return FreeText
	}
	return formatOf(s)
}

// oneOfTwo adds the values of a row with text on both sides under what of it is a file's
// name by its form, if that is so of one.
func (l *layout) oneOfTwo(s *shape) bool {
	before, after := l.fileLike(s.before), l.fileLike(s.after)
	switch {
	case before != "" && after == "":
		l.emit(s.r, before, s.size, NameFirst)
	case after != "" && before == "":
		l.emit(s.r, after, s.size, formatOf(s))
	default:
		return false
	}
	return true
}

// fileLike returns the name that a text consists of, at its start or end, or "".
func (l *layout) fileLike(text string) string {
	text, _ = cutKey(text)
	if l.known.is(text) || looksLikeFile(text) && !strings.ContainsAny(text, " \t") {
		return text
	}
	if files := l.known.fileWords(text); len(files) == 1 {
		return files[0]
	}
	return ""
}

// nameIn returns the name in what stands on one side of a value, or "".
func (l *layout) nameIn(text string, d side, s *shape, whole bool) string {
	inner, keyed := cutKey(text)
	whole = whole || keyed
	if name, ok := l.plainName(inner, d); ok {
		return name
	}
	files := l.known.fileWords(inner)
	switch n := len(files); {
	case n == 0:
		if startsProse(inner) || !whole && (d == beforeValues || s.gap < 2) {
			return ""
		}
	case n > 1 && !strings.HasSuffix(inner, files[n-1]):
		return ""
	case n == 1 && files[0] != inner && onlyWord(inner, files[0], d, s, whole):
		return files[0]
	}
	return inner
}

// plainName returns the name that a text is without doubt: an address, a known name, one
// behind a word in capitals, “DIST x.tar”.
func (l *layout) plainName(inner string, d side) (string, bool) {
	switch {
	case isAddress(inner) && !strings.Contains(inner, " "):
		return nameOfAddress(inner), true
	case l.known.is(inner):
		return inner, true
	}
	if name := l.known.in(inner); name != "" {
		return name, true
	}
	first, rest, two := strings.Cut(inner, " ")
	if two && d == beforeValues && isKind(first) && looksLikeFile(rest) && !strings.Contains(rest, " ") {
		return rest, true
	}
	return "", false
}

// isKind reports whether a word is one in capitals.
func isKind(word string) bool {
	return strings.ToUpper(word) == word && !hasDigit(word) && len(word) > 1
}

// onlyWord reports whether of a text no more is the name than the word with the form of
// one.
func onlyWord(inner, file string, d side, s *shape, whole bool) bool {
	words := strings.TrimSpace(inner)
	switch {
	case startsProse(words):
		return true
	case d == beforeValues && !strings.HasSuffix(words, file) && !strings.HasSuffix(file, words) &&
		saysMore(words, file):
		return true
	case whole:
		return false
	case d == beforeValues:
		return !s.explicit
	}
	return s.gap < 2
}

// saysOfPart reports whether words stand behind the name of a file, or in brackets, that say
// of which part of it a value is.
func saysOfPart(text, name string) bool {
	_, behind, found := strings.Cut(text, name)
	if !found || strings.TrimSpace(behind) == "" {
		return false
	}
	words := splitKey(withoutLabels(behind, labelsIn(behind)))
	return slices.ContainsFunc(words, func(w string) bool {
		return !hashWords[w] && !lead[w] && !articles[w] && !ofWords[w] && !sizeWords[w] && !isUnit(w) && !hasDigit(w)
	})
}

// saysMore reports whether words follow the name, as in “gauge.img is …”.
func saysMore(text, name string) bool {
	at := strings.LastIndex(text, name)
	return at >= 0 && strings.ContainsAny(strings.TrimSpace(text[at+len(name):]), " ") ||
		at >= 0 && strings.HasPrefix(text[at+len(name):], " ")
}

func formatOf(s *shape) Format {
	switch {
	case slices.ContainsFunc(s.r.values, func(v value) bool { return v.encoded }):
		return Encoded
	case len(s.r.section.algorithms) > 0 && s.size != nil:
		return Sections
	case s.before != "" && s.after == "":
		return NameFirst
	}
	return DigestFirst
}
