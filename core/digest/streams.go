package digest

import (
	"crypto/md5"
	"crypto/sha256"
	"hash"
	"sync"
	"time"

	md5simd "github.com/minio/md5-simd"
)

// A Gain says which algorithms this machine computes faster for many files side by
// side, on one core, than for one after the other. Processors differ in that, so it
// is measured: see [MeasureGain]. The zero value says that nothing is gained.
type Gain struct {
	// From how many files on; 0 is never.
	md5, sha256 int
}

const (
	// md5Streams is how many files are read side by side for MD5: as many keep the
	// registers full.
	md5Streams = 32
	// gainBytes is how much of each stream the gain is measured with, by MD5.
	gainBytes = 256 << 10
	// gainLeast is how much faster many must be to be preferred: reading many
	// files at once has a price too.
	gainLeast = 1.25
)

// MeasureGain tries out on some MiB what is faster here, which takes about a tenth of a
// second. now is the clock.
func MeasureGain(now func() time.Time) Gain {
	var g Gain
	content := make([]byte, gainBytes)
	// The best of several is what the machine can do when nothing disturbs it.
	best := func(f func()) float64 {
		least := time.Hour
		for range 3 {
			start := now()
			f()
			least = min(least, now().Sub(start))
		}
		return float64(least)
	}

	separate := best(func() {
		for range md5Streams {
			md5.Sum(content)
		}
	})
	together := best(func() {
		s := NewStreams(MD5, AssumeGain(MD5))
		defer s.Close()
		var all sync.WaitGroup
		for range md5Streams {
			all.Go(func() {
				stream := s.Join()
				defer stream.Leave()
				set := stream.Set(Only(MD5))
				defer set.Close()
				set.hashes[0].Write(content)
				set.Sums()
			})
		}
		all.Wait()
	})
	g.md5 = from(md5Streams, separate, together)

	if compress := sixteenAtOnce(); compress != nil && agrees(compress) {
		content := content[:laneStep]
		separate := best(func() {
			for range laneCount {
				sha256.Sum256(content)
			}
		})
		together := best(func() {
			var state laneState
			var inputs [laneCount][]byte
			for i := range inputs {
				inputs[i] = content
			}
			compress(&state, &inputs, len(content))
		})
		g.sha256 = from(laneCount, separate, together)
	}
	return g
}

// from returns from how many streams on it pays to hash them together, where n of them
// take these times: together they take as long however few there are.
func from(n int, separate, together float64) int {
	if separate <= 0 {
		return 0 // a clock too coarse to tell
	}
	least := int(gainLeast*float64(n)*together/separate) + 1
	if least > n/2 {
		return 0
	}
	return least
}

// AssumeGain says of algorithms that they gain by it, whatever the machine is like. It
// changes how fast files are measured and nothing else.
func AssumeGain(algorithms ...Algorithm) (g Gain) {
	for _, a := range algorithms {
		switch a { //nolint:exhaustive // the others never gain
		case MD5:
			g.md5 = 3
		case SHA256:
			g.sha256 = 3
		}
	}
	return g
}

// From returns from how many files on it is faster to compute an algorithm of them side
// by side, on one core, and 0 for never.
func (g Gain) From(a Algorithm) int {
	switch a {
	case MD5:
		return g.md5
	case SHA256:
		return g.sha256
	default:
		return 0
	}
}

// StreamCount is how many files are worth reading side by side.
func (g Gain) StreamCount(a Algorithm) int {
	switch {
	case g.From(a) == 0:
		return 1
	case a == MD5:
		return md5Streams
	default:
		return laneCount
	}
}

// Streams computes one digest of many files at once on one core, by giving each
// file a lane of the processor's wide registers; with SHA-256 it computes MD5 so too,
// where that gains. The results are those of the algorithm; bytes go at the pace of the
// slowest file.
type Streams struct {
	md5    md5simd.Server
	sha256 *lanes
}

// NewStreams returns a Streams for an algorithm that gains by it. Close it after use.
func NewStreams(a Algorithm, g Gain) *Streams {
	s := &Streams{}
	if (a == MD5 || a == SHA256) && g.md5 > 0 {
		s.md5 = md5simd.NewServer()
	}
	if a == SHA256 && g.sha256 > 0 {
		s.sha256 = &lanes{compress: sixteenAtOnce(), from: g.sha256}
		if s.sha256.compress == nil {
			s.sha256.compress = oneByOne // a gain that was not measured here
		}
	}
	return s
}

// Close lets go of what the streams use. All sets have to be closed before.
func (s *Streams) Close() {
	if s.md5 != nil {
		s.md5.Close()
	}
}

// Join adds a stream, for one file after another. It has to leave at the end: the
// others wait for the bytes of each.
func (s *Streams) Join() *Stream {
	out := &Stream{of: s}
	if s.sha256 != nil {
		out.lane = s.sha256.join()
	}
	return out
}

// A Stream takes part in [Streams] with one file after another.
type Stream struct {
	of   *Streams
	lane *lane
}

// Set is [NewSet] with what the streams compute computed by them. The set has to be
// closed by [Set.Close] before the next is asked for.
func (s *Stream) Set(algorithms []Algorithm) *Set {
	return newSet(algorithms, func(a Algorithm) hash.Hash {
		switch {
		case a == SHA256 && s.lane != nil:
			s.lane.Reset()
			return s.lane
		case a == MD5 && s.of.md5 != nil:
			return s.of.md5.NewHash()
		}
		return a.New()
	})
}

// Leave ends a stream's part.
func (s *Stream) Leave() {
	if s.lane != nil {
		s.lane.leave()
	}
}

// Close lets go of what the hashes of a set use. Sums have to be taken before.
func (s *Set) Close() {
	for _, h := range s.hashes {
		if c, ok := h.(interface{ Close() }); ok {
			c.Close()
		}
	}
}
