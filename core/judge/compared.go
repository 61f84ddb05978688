package judge

// A Comparison tells whether the bytes of a file are those that something states. It says
// nothing of who vouches for that.
type Comparison string

// The answers, of which those that are unproven can be any.
const (
	// Matches: a digest that is stated is the file's.
	Matches Comparison = "matches"
	// Differs: what is stated was compared, and nothing of it is the file's.
	Differs Comparison = "differs"
	// NothingCompared: nothing here states a digest of the file.
	NothingCompared Comparison = "nothing-compared"
)

// Comparisons lists every answer.
func Comparisons() []Comparison { return []Comparison{Matches, Differs, NothingCompared} }

// Compared tells from what an artifact was judged on whether its bytes are those that
// something states.
func Compared(grounds []Ground) Comparison {
	out := NothingCompared
	for _, g := range grounds {
		switch {
		case g.Code == DigestMismatch && g.Effect == Refuses, g.Code == SizeMismatch:
			return Differs
		case g.Code == DigestMatch:
			out = Matches
		case (g.Code == DigestMismatch || g.Code == Questioned) && out != Matches:
			out = Differs
		}
	}
	return out
}

// MatchesAll reports whether something was compared and all that was is the file's.
func MatchesAll(grounds []Ground) bool {
	matched := false
	for _, g := range grounds {
		switch g.Code {
		case DigestMatch:
			matched = true
		case DigestMismatch, SizeMismatch, Questioned, ManifestsDisagree, Guessed:
			return false
		default:
		}
	}
	return matched
}
