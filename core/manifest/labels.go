package manifest

import "strings"

// A scan goes through a text from its beginning, without regard to case. It is at a place
// once all that was asked for so far stood there.
type scan struct {
	text string
	at   int
}

// word passes over one of the words, the first that stands there.
func (s *scan) word(words ...string) bool {
	for _, w := range words {
		if end := s.at + len(w); end <= len(s.text) && strings.EqualFold(s.text[s.at:end], w) {
			s.at = end
			return true
		}
	}
	return false
}

// sign passes over one of the signs.
func (s *scan) sign(signs string) bool {
	if s.at < len(s.text) && strings.IndexByte(signs, s.text[s.at]) >= 0 {
		s.at++
		return true
	}
	return false
}

// skipWord passes over one of the words, if one stands there.
func (s *scan) skipWord(words ...string) bool {
	s.word(words...)
	return true
}

// skipSign passes over one of the signs, if one stands there.
func (s *scan) skipSign(signs string) bool {
	s.sign(signs)
	return true
}

// try goes on with a part, or returns to where it began and reports false.
func (s *scan) try(part func(*scan) bool) bool {
	before := s.at
	if !part(s) {
		s.at = before
		return false
	}
	return true
}

// The words and signs of labels, as they are written in lists.
const (
	joinSigns = "-_ "  // between a family and its number: “SHA-256”
	partSigns = "-_/ " // between two numbers: “SHA-512/256”
)

var (
	shaLengths   = []string{"224", "256", "384", "512"}
	shaShortened = []string{"224", "256"} // of SHA-512
	blakeLengths = []string{"128", "160", "224", "256", "384", "512"}
	crcKinds     = []string{"iso-hdlc", "iso_hdlc", "bzip2", "cksum", "castagnoli", "c", "posix"}
)

// A labelForm is one way of writing the label of a family of algorithms.
type labelForm func(*scan) bool

// labelForms are those of each family, by its first letter. The first that fits counts.
var labelForms = map[byte][]labelForm{
	's': {
		func(s *scan) bool {
			return s.family("sha") && s.word("2", "3") && s.sign(partSigns) && s.word(shaLengths...)
		},
		func(s *scan) bool {
			return s.family("sha") && s.word("512") && s.sign(partSigns) && s.skipWord("t") && s.word(shaShortened...)
		},
		func(s *scan) bool { return s.family("sha") && s.word(shaLengths...) },
		func(s *scan) bool { return s.family("sha") && s.word("1") },
		func(s *scan) bool { return s.word("sha") },
	},
	'm': {func(s *scan) bool { return s.family("md") && s.word("5") }},
	'b': {
		func(s *scan) bool {
			if !s.family("blake") || !s.word("2b", "2s") || !s.skipWord("p") {
				return false
			}
			s.try(func(s *scan) bool { return s.sign("-_") && s.word(blakeLengths...) })
			return true
		},
		func(s *scan) bool { return s.family("blake") && s.word("3") },
		func(s *scan) bool { return s.word("blake2", "b2", "b3") },
	},
	'r': {
		func(s *scan) bool { return s.family("ripemd") && s.word("160") },
		func(s *scan) bool { return s.word("rmd") && s.skipSign("-_") && s.word("160") },
	},
	'c': {
		func(s *scan) bool {
			return s.family("crc") && s.word("32") && s.skipSign("-_/") && s.skipWord(crcKinds...)
		},
		func(s *scan) bool { return s.word("crc", "cksum") },
	},
}

// family passes over the name of a family and the sign behind it, if there is one.
func (s *scan) family(name string) bool {
	return s.word(name) && s.skipSign(joinSigns)
}

// labelEnds are words that may follow a label and are a part of it: “sha256sum”.
var labelEnds = []string{"checksums", "checksum", "sums", "sum", "digests", "digest", "hashes", "hash"}

// labelLength returns how long the label of an algorithm is that a text begins with, or 0.
func labelLength(text string) int {
	s := scan{text: text}
	for _, form := range labelForms[text[0]|0x20] {
		if s.try(form) {
			s.try(func(s *scan) bool {
				s.sign(joinSigns)
				return s.word(labelEnds...)
			})
			return s.at
		}
	}
	return 0
}

// labelTails are words at the end of a label that say nothing of its algorithm.
var labelTails = append([]string{"value", "hex"}, labelEnds...)

// withoutTail cuts such a word off the end of a label.
func withoutTail(label string) string {
	for _, tail := range labelTails {
		at := len(label) - len(tail)
		if at < 0 || !strings.EqualFold(label[at:], tail) {
			continue
		}
		if at > 0 && strings.IndexByte(joinSigns, label[at-1]) >= 0 {
			at--
		}
		return label[:at]
	}
	return label
}
