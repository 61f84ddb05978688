package manifest

import (
	"net/url"
	"path"
	"strings"

	"golang.org/x/text/unicode/norm"
)

// Names are the names of the files that a list lies beside: a dictionary in which a name is
// found instead of guessed. It may be used by several readers at once.
type Names struct {
	// byEnd holds each name, in the composed form, by its last word.
	byEnd map[string][]string
	whole map[string]bool
}

// NewNames returns the dictionary of some names, as they are in their folder. Each counts
// with its directories and without.
func NewNames(names []string) *Names {
	if len(names) == 0 {
		return nil
	}
	k := &Names{byEnd: map[string][]string{}, whole: map[string]bool{}}
	add := func(form string) {
		if form == "" || k.whole[form] {
			return
		}
		k.whole[form] = true
		end := form
		if i := strings.LastIndexByte(form, ' '); i >= 0 {
			end = form[i+1:]
		}
		k.byEnd[end] = append(k.byEnd[end], form)
	}
	for _, name := range names {
		form := norm.NFC.String(name)
		add(form)
		add(path.Base(form))
	}
	return k
}

// is reports whether a text is a known name, in whatever spelling.
func (k *Names) is(text string) bool {
	if k == nil || text == "" {
		return false
	}
	form := norm.NFC.String(strings.TrimPrefix(text, "./"))
	if k.whole[form] {
		return true
	}
	if strings.IndexByte(form, '%') >= 0 {
		if decoded, err := url.PathUnescape(form); err == nil {
			return k.whole[norm.NFC.String(decoded)]
		}
	}
	return false
}

// maxKnownWord bounds a word in which names are looked for.
const maxKnownWord = 1024

// in returns the longest known name that stands in a text as words of its own, if there
// is exactly one, or "".
func (k *Names) in(text string) string {
	if k == nil {
		return ""
	}
	s := nameSpot{k: k, text: norm.NFC.String(text)}
	if strings.IndexByte(s.text, '%') >= 0 {
		if decoded, err := url.PathUnescape(s.text); err == nil {
			s.text = decoded
		}
	}
	for at := 0; at < len(s.text); {
		end := at
		for end < len(s.text) && s.text[end] != ' ' && s.text[end] != '\t' {
			end++
		}
		if end-at <= maxKnownWord && !s.word(at, end) {
			return "" // two names: which of them is meant is not known
		}
		at = end + 1
	}
	return s.found
}

// A nameSpot is the longest known name that was found so far in a text, and where.
type nameSpot struct {
	k     *Names
	text  string
	found string
	at    int
}

// edge reports whether a name can end before a place.
func (s *nameSpot) edge(i int) bool {
	return i <= 0 || i >= len(s.text) || strings.IndexByte(" \t\"'`()[]{}<>,;:|=*/\\", s.text[i]) >= 0
}

// word looks for names that end in a word, and reports whether there is still one at most.
func (s *nameSpot) word(at, end int) bool {
	for stop := end; stop > at; stop-- {
		if stop != end && !s.edge(stop) && (s.text[stop] != '.' || !s.edge(stop+1)) {
			continue // “x.tar.asc” is another file than “x.tar”; “x.tar.” ends a sentence
		}
		word := s.text[at:stop]
		if i := strings.LastIndexAny(word, "\"'`()[]{}<>,;:|=*/\\"); i >= 0 {
			if forms := s.k.byEnd[word[i+1:]]; forms != nil {
				word = word[i+1:]
			}
		}
		for _, form := range s.k.byEnd[word] {
			if !s.form(form, stop) {
				return false
			}
		}
	}
	return true
}

// form takes a name that may end at a place.
func (s *nameSpot) form(form string, stop int) bool {
	from := stop - len(form)
	if from < 0 || s.text[from:stop] != form || from > 0 && !s.edge(from-1) {
		return true
	}
	if s.found != "" && form != s.found && from >= s.at+len(s.found) {
		return false
	}
	if len(form) > len(s.found) {
		s.found, s.at = form, from
	}
	return true
}
