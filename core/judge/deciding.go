package judge

import (
	"fmt"
	"slices"

	"endeixis/core/survey"
)

// Deciding returns the sentence of the ground that decides about an item, for a
// line in a list: the first that refuses, withholds or supports, as the verdict
// is. What clears says more than a digest that matches; where all that clears is only noted, such as a
// signature by a key that has expired since, it is that. What was cleared and is unlike what was cleared
// before says that: it is the one thing of it that somebody has to look at. For what has no verdict it
// is the first that stands against it, if any does.
func Deciding(v Verdict, grounds []Ground) string {
	if v == Companion {
		return noted(grounds)
	}
	if v == Cleared {
		for _, g := range grounds {
			if slices.Contains(UnlikeBefore(), g.Code) {
				return g.Sentence
			}
		}
		return Clearing(grounds)
	}
	wanted := map[Verdict][]Effect{Refused: {Refuses}, Unproven: {Withholds}, "": {Refuses, Withholds}}[v]
	return first(grounds, wanted...)
}

// Clearing returns the sentence of what clears an item that is cleared.
func Clearing(grounds []Ground) string {
	if s := first(grounds, Supports); s != "" {
		return s
	}
	return noted(grounds)
}

// first returns the sentence of the first ground that has one of some effects, in their order, and
// is no digest that matches, or else of the first.
func first(grounds []Ground, effects ...Effect) string {
	best := ""
	for _, effect := range effects {
		for _, g := range grounds {
			if g.Effect != effect {
				continue
			}
			if g.Code != DigestMatch {
				return g.Sentence
			}
			if best == "" {
				best = g.Sentence
			}
		}
	}
	return best
}

// noted returns the sentence of the first signature that is noted, or of the first note.
func noted(grounds []Ground) string {
	best := ""
	for _, g := range grounds {
		switch {
		case g.Effect != Notes:
		case g.Signature != nil:
			return g.Sentence
		case best == "":
			best = g.Sentence
		}
	}
	return best
}

// Line returns what a line in a list says about an item: the sentence that
// decides or, where no ground does, what the file is.
func Line(item *survey.Item, o *Outcome) string {
	if item.Against != nil && o.Verdict == Cleared {
		// Of a medium it is said what is on it; who vouches for that, stands there.
		for _, g := range o.Grounds {
			if g.Code == DigestMatch {
				return g.Sentence
			}
		}
	}
	if s := Deciding(o.Verdict, o.Grounds); s != "" || item.Role == survey.Artifact {
		return s
	}
	return fmt.Sprintf("It is a %s: %s.", item.Role, item.Why)
}
