package judge

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"endeixis/core/plain"
	"endeixis/core/survey"
)

const (
	// maxCompanions bounds how many patterns a policy or a batch has, and maxPattern how many
	// characters one has.
	maxCompanions = 100
	maxPattern    = 200
)

// CheckCompanions reports the first of some patterns that cannot name companions. A pattern is in
// the syntax of [path.Match]; one without a slash is for the last part of a path, and one with a
// slash for the whole of it. One that all names could have is none: it would leave nothing to
// clear.
func CheckCompanions(patterns []string) error {
	if len(patterns) > maxCompanions {
		return fmt.Errorf("there are %d patterns, and %d are the most", len(patterns), maxCompanions)
	}
	for _, pattern := range patterns {
		if !utf8.ValidString(pattern) || utf8.RuneCountInString(pattern) > maxPattern {
			return fmt.Errorf("a pattern can have at most %d characters", maxPattern)
		}
		if _, err := path.Match(pattern, ""); err != nil {
			return fmt.Errorf("%s is no pattern: a bracket in it is not closed, or a backslash ends it", plain.Quoted(pattern))
		}
		if !namesSomething(pattern) {
			return fmt.Errorf("%s has no letter or digit that a name must have, so that it could be any file", plain.Quoted(pattern))
		}
	}
	return nil
}

// namesSomething reports whether a pattern asks for a letter or digit.
func namesSomething(pattern string) bool {
	class := false
	for _, r := range pattern {
		switch {
		case r == '[':
			class = true
		case r == ']':
			class = false
		case !class && (unicode.IsLetter(r) || unicode.IsDigit(r)):
			return true
		}
	}
	return false
}

// companionBy returns the pattern that names a file as a companion, and who has given it, or
// nothing. The policies of all publishers count that the file may be from.
func (b Basis) companionBy(file string) (pattern, who string) {
	if pattern = firstMatching(b.Companions, file); pattern != "" {
		return pattern, "whoever asked for this batch"
	}
	expected := b.expectedOf(file).Publishers
	if len(expected) == 0 {
		return firstMatching(b.Policy.Companions, file), "the policy"
	}
	for _, publisher := range expected {
		if pattern = firstMatching(b.policyOf(publisher).Companions, file); pattern != "" {
			return pattern, "the policy for what " + plain.Text(publisher) + " publishes"
		}
	}
	return "", ""
}

// firstMatching returns the first pattern that a path has, or "".
func firstMatching(patterns []string, file string) string {
	at := slices.IndexFunc(patterns, func(pattern string) bool {
		name := file
		if !strings.Contains(pattern, "/") {
			name = path.Base(file)
		}
		ok, err := path.Match(pattern, name)
		return ok && err == nil
	})
	if at < 0 {
		return ""
	}
	return patterns[at]
}

// asCompanion has a file that is not cleared, and that nothing refuses, come along without a
// verdict where a person has named it a companion. What is said of it stays among its grounds.
func (b Basis) asCompanion(item *survey.Item, out *Outcome) {
	if out.Verdict != Unproven || item.Against != nil || item.Inside != nil {
		return
	}
	pattern, who := b.companionBy(item.Path)
	if pattern == "" {
		return
	}
	out.Verdict = Companion
	rest := slices.DeleteFunc(out.Grounds, func(g Ground) bool { return g.Code == NotListed })
	out.Grounds = append([]Ground{{
		Code: ComesAlong, Effect: Notes,
		Sentence: fmt.Sprintf(
			"It comes along and needs no clearing: %s names %s as companions. Nothing is shown of where it is from.", who,
			plain.Quoted(pattern),
		),
	}}, rest...)
}
