package manifest

import (
	"fmt"
	"strings"

	"endeixis/core/digest"
)

// clues are what is known of a text as a whole before its rows are typed.
type clues struct {
	// fileName is the text's own, and hint the algorithm that it states.
	fileName string
	hint     digest.Algorithm
	// listName is set where the text's own name says that it is a list of digests.
	listName bool
	// known are the names of the files that the text lies beside.
	known *Names
	// crcList is set where eight digits behind names may be checksums, and crcSaid where
	// the text's own name says that they are.
	crcList, crcSaid bool
	// decimals is set for a list of POSIX checksums.
	decimals bool
	// archive is set for the manifest of an archive.
	archive bool
	// readsAll is set where all rows are read, whatever stands in them: the text is a list by
	// its name.
	readsAll bool
	// latin is set for a text that is not in Unicode: it may be none at all.
	latin bool
}

// look learns from the first rows of a text what its values are.
func (c *clues) look(rows []row) {
	c.crcSaid = c.hint.Size() == 4 || crcEnding.MatchString(c.fileName)
	c.crcList = c.crcSaid || c.hint == digest.Unknown && listsCRC(rows)
	c.decimals = c.listsDecimal(rows)
}

// candidates narrows the algorithms of a value by its label, by the heading above and by
// the list's own name, in this order. wrong says why there are none: a value that is
// shorter than what is announced was cut, and is not the digest of another algorithm
// that happens to have its length.
func (c *clues) candidates(above section, v digest.Value, label digest.Algorithm) (_ []digest.Algorithm, wrong string) {
	if label != digest.Unknown {
		return ofLabel(label, len(v))
	}
	if len(above.algorithms) > 0 {
		if a := above.of(len(v)); a != digest.Unknown {
			return digest.Only(a), ""
		}
		if above.firm {
			return nil, notADigest + wrongLength(above.algorithms[0], len(v))
		}
	}
	switch {
	case c.hint == digest.Unknown:
	case c.hint.Size() == len(v):
		return digest.Only(c.hint), ""
	case c.hint.Size() > len(v):
		return nil, notADigest + wrongLength(c.hint, len(v))
	}
	if of := digest.OfSize(len(v)); of != nil {
		return of, ""
	}
	return nil, fmt.Sprintf(
		"a value of %d hexadecimal characters is not the digest of any known algorithm, so it may be cut short",
		2*len(v),
	)
}

// ofLabel returns the algorithm of a value of n bytes under a label.
func ofLabel(label digest.Algorithm, n int) (_ []digest.Algorithm, wrong string) {
	if label.Size() == n {
		return digest.Only(label), ""
	}
	if more := ofFamily(label, n); more != digest.Unknown {
		return digest.Only(more), ""
	}
	return nil, notADigest + wrongLength(label, n)
}

// ofFamily returns the algorithm of a value whose label names only the family: “SHA”
// over 64 digits, “BLAKE2b” over 32 bytes.
func ofFamily(label digest.Algorithm, n int) digest.Algorithm {
	switch {
	case label == digest.BLAKE2b && n == digest.BLAKE2b256.Size():
		return digest.BLAKE2b256
	case label == digest.BLAKE2b && n == digest.BLAKE2b384.Size():
		return digest.BLAKE2b384
	}
	return digest.Unknown
}

// markOf returns the algorithm that a label names, or [digest.Unknown].
func markOf(text string) digest.Algorithm {
	a, _ := algorithmOf(strings.TrimSpace(text))
	return a
}
