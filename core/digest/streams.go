package digest

import (
	"hash"

	md5simd "github.com/minio/md5-simd"
)

// Streams computes the MD5 of many files at once on one core, by giving each
// file a lane of the processor's wide registers. It pays only where many files
// are read side by side; the results are those of [MD5].
type Streams struct {
	server md5simd.Server
}

// StreamCount is how many files are worth reading side by side.
const StreamCount = 32

// NewStreams returns a Streams. Close it after use.
func NewStreams() *Streams { return &Streams{server: md5simd.NewServer()} }

// Close lets go of what the streams use. All hashes have to be closed before.
func (s *Streams) Close() { s.server.Close() }

// New returns a hash for one file, which has to be closed.
func (s *Streams) New() hash.Hash { return s.server.NewHash() }

// NewSet is [NewSet] with MD5 computed by the streams. The set has to be closed
// by [Set.Close].
func (s *Streams) NewSet(algorithms []Algorithm) *Set {
	set := NewSet(algorithms)
	for i, a := range set.algorithms {
		if a == MD5 {
			set.hashes[i] = s.New()
		}
	}
	return set
}

// Close lets go of what the hashes of a set use. Sums have to be taken before.
func (s *Set) Close() {
	for _, h := range s.hashes {
		if c, ok := h.(interface{ Close() }); ok {
			c.Close()
		}
	}
}
