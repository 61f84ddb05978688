package digest

import (
	"encoding/hex"
	"hash"
	"io"

	"github.com/pjbgf/sha1cd"
)

// A Set computes several digests of one stream. Feed its Writers through
// [Pump], then ask for the results.
type Set struct {
	algorithms []Algorithm
	hashes     []hash.Hash
}

// NewSet returns a Set for the given algorithms; repeats and [Unknown] are
// left out.
func NewSet(algorithms []Algorithm) *Set { return newSet(algorithms, Algorithm.New) }

func newSet(algorithms []Algorithm, make func(Algorithm) hash.Hash) *Set {
	s := &Set{}
	var seen [algorithmCount]bool
	for _, a := range algorithms {
		if !a.known() || seen[a] {
			continue
		}
		seen[a] = true
		s.algorithms = append(s.algorithms, a)
		s.hashes = append(s.hashes, make(a))
	}
	return s
}

// Writers returns one writer for each algorithm, for [Pump].
func (s *Set) Writers() []io.Writer {
	out := make([]io.Writer, len(s.hashes))
	for i, h := range s.hashes {
		out[i] = h
	}
	return out
}

// Sums returns the digests of what was written so far.
func (s *Set) Sums() map[Algorithm]Value {
	out := make(map[Algorithm]Value, len(s.hashes))
	for i, a := range s.algorithms {
		out[a] = s.hashes[i].Sum(nil)
	}
	return out
}

// Cloner returns the running hash of an algorithm when its state can be copied,
// so that one pass can serve several continuations, and nil otherwise.
func (s *Set) Cloner(a Algorithm) hash.Cloner {
	for i, have := range s.algorithms {
		if have == a {
			c, _ := s.hashes[i].(hash.Cloner)
			return c
		}
	}
	return nil
}

// CollisionSuspected reports whether SHA-1 is among the algorithms and the
// input shows the marks of a known collision attack on it.
func (s *Set) CollisionSuspected() bool {
	for _, h := range s.hashes {
		if cd, ok := h.(sha1cd.CollisionResistantHash); ok {
			if _, collision := cd.CollisionResistantSum(nil); collision {
				return true
			}
		}
	}
	return false
}

// A Value is the digest itself. It reads and writes as lower-case hexadecimal
// in text and JSON.
type Value []byte

// String returns lower-case hexadecimal.
func (v Value) String() string { return hex.EncodeToString(v) }

// MarshalText returns lower-case hexadecimal.
func (v Value) MarshalText() ([]byte, error) { return []byte(v.String()), nil }

// UnmarshalText reads hexadecimal of either case.
func (v *Value) UnmarshalText(text []byte) error {
	b := make([]byte, hex.DecodedLen(len(text)))
	if _, err := hex.Decode(b, text); err != nil {
		return err
	}
	*v = b
	return nil
}
