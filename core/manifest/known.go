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
	text = norm.NFC.String(text)
	if strings.IndexByte(text, '%') >= 0 {
		if decoded, err := url.PathUnescape(text); err == nil {
			text = decoded
		}
	}
	found, foundAt := "", 0
	edge := func(i int) bool {
		return i <= 0 || i >= len(text) || strings.IndexByte(" \t\"'`()[]{}<>,;:|=*/\\", text[i]) >= 0
	}
	for at := 0; at < len(text); {
		end := at
		for end < len(text) && text[end] != ' ' && text[end] != '\t' {
			end++
		}
		if end-at > maxKnownWord {
			at = end + 1
			continue
		}
		for stop := end; stop > at; stop-- {
			if stop != end && !edge(stop) && text[stop] != '.' {
				continue
			}
			word := text[at:stop]
			if i := strings.LastIndexAny(word, "\"'`()[]{}<>,;:|=*/\\"); i >= 0 {
				if forms := k.byEnd[word[i+1:]]; forms != nil {
					word = word[i+1:]
				}
			}
			for _, form := range k.byEnd[word] {
				from := stop - len(form)
				if from < 0 || text[from:stop] != form || from > 0 && !edge(from-1) {
					continue
				}
				if found != "" && form != found && from >= foundAt+len(found) {
					return "" // two names: which of them is meant is not known
				}
				if len(form) > len(found) {
					found, foundAt = form, from
				}
			}
		}
		at = end + 1
	}
	return found
}
