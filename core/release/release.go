// Package release tells which files are the same thing in different releases, by their names: the
// stem of a name is what stays when the next release comes, and its release is what changes.
//
// A name is all that it has, so that what it says is a guess. It is good for pointing something
// out, and for nothing that decides.
package release

import (
	"path"
	"strings"
	"unicode"
)

// A Name is the last part of a path, taken apart.
type Name struct {
	// Stem is the name in small letters, with "#" where the release stood. It is the name
	// itself where no number stands in it.
	Stem string
	// Release is what stood there, such as "4.2", "4.3-rc1" or "2026-11-30"; empty where there
	// is no number. Where a name has several, they are joined by a blank.
	Release string
}

// Telling reports whether a stem tells its files from those of others: whether it has a letter beside
// its ending.
func (n Name) Telling() bool {
	name, _, _ := strings.Cut(n.Stem, ".")
	return strings.ContainsFunc(name, unicode.IsLetter)
}

// mark stands in a stem for a release. A name that has the mark itself says the same with it.
const mark = "#"

// Of takes the last part of a path apart.
//
// A release begins with a digit, or with "v" and a digit, where a word begins, and goes on over
// numbers that are joined by one of .-_~+ and over words for what comes before or after a release,
// such as rc1 or beta. Numbers within a word, as in x86 or sha256, belong to the word.
func Of(file string) Name {
	words := split(strings.ToLower(path.Base(file)))
	var stem strings.Builder
	var releases []string
	for i := 0; i < len(words); {
		n := length(words[i:])
		if n == 0 {
			stem.WriteString(words[i])
			i++
			continue
		}
		releases = append(releases, strings.TrimPrefix(strings.Join(words[i:i+n], ""), "v"))
		stem.WriteString(mark)
		i += n
	}
	return Name{Stem: stem.String(), Release: strings.Join(releases, " ")}
}

// length returns over how many of some words, beginning with the first, a release goes.
func length(words []string) int {
	if !begins(words[0]) {
		return 0
	}
	n := 1
	for n+1 < len(words) && joins(words[n]) && (begins(words[n+1]) || aside(words[n+1])) {
		n += 2
	}
	return n
}

// begins reports whether a word is a number, as it may stand in a release: 4, v4, 1a, 0rc1.
func begins(word string) bool {
	rest := strings.TrimPrefix(word, "v")
	end := strings.IndexFunc(rest, func(r rune) bool { return r < '0' || r > '9' })
	switch {
	case end == 0 || rest == "":
		return false
	case end < 0:
		return true
	}
	return aside(rest[end:])
}

// aside reports whether a word says what comes before or after a release, with its number: rc1,
// beta, p2, or one letter.
func aside(word string) bool {
	letters := strings.TrimRightFunc(word, unicode.IsDigit)
	switch letters {
	case "alpha", "beta", "rc", "pre", "preview", "dev", "snapshot", "patch", "hotfix", "rev", "build", "final":
		return true
	}
	return len(letters) == 1 && letters[0] >= 'a' && letters[0] <= 'z' && letters != "x"
}

// joins reports whether a separator may stand within a release.
func joins(separator string) bool {
	switch separator {
	case ".", "-", "_", "~", "+":
		return true
	}
	return false
}

// split takes a name apart into words of letters and digits, and single separators.
func split(name string) []string {
	var out []string
	begin := 0
	for i, r := range name {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			continue
		}
		if i > begin {
			out = append(out, name[begin:i])
		}
		begin = i + len(string(r))
		out = append(out, name[i:begin])
	}
	if begin < len(name) {
		out = append(out, name[begin:])
	}
	return out
}
