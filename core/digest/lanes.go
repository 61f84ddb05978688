package digest

import (
	"bytes"
	"crypto/sha256"
	"encoding"
	"encoding/binary"
	"hash"
	"slices"
	"sync"
)

// laneCount is how many SHA-256 streams go through the processor at once.
const laneCount = 16

// laneStep bounds what is hashed in one go of each lane, so that nothing else in
// the program waits for longer than a fraction of a millisecond.
const laneStep = 64 << 10

// laneLeast is hashed in one go even where one lane has less: the others are not
// held up by the end of a file.
const laneLeast = 4 << 10

// laneState holds the eight words of each lane's state: word w of lane l at
// [w][l].
type laneState [8][laneCount]uint32

// A lanes hashes up to sixteen streams by SHA-256 at once (FIPS 180-4, section 6.2,
// is the same work for each). Streams join; whenever all that have joined wait with
// bytes, the last to come does the work for all of them. Where too few have joined
// for that to pay, each hashes its own.
type lanes struct {
	// compress hashes the first bytes of each input: as many as it has whole
	// blocks of, and n at most.
	compress func(state *laneState, inputs *[laneCount][]byte, n int)
	// from is with how many streams compress pays.
	from int

	mu      sync.Mutex
	joined  int
	waiting []*lane
}

// A lane is one stream of a lanes, and the [hash.Hash] of one file after another.
type lane struct {
	of    *lanes
	state [8]uint32
	// tail are bytes that fill no block yet, tailed how many, and length how
	// many were written in all.
	tail   [sha256.BlockSize]byte
	tailed int
	length uint64
	// rest are the whole blocks that wait to be hashed.
	rest  []byte
	ready chan struct{}
}

// join adds a stream. It has to leave, or those that stay would wait for it.
func (l *lanes) join() *lane {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.joined++
	out := &lane{of: l, ready: make(chan struct{}, 1)}
	out.Reset()
	return out
}

// leave ends the part that a stream takes.
func (s *lane) leave() {
	s.of.mu.Lock()
	defer s.of.mu.Unlock()
	s.of.joined--
	s.of.advance()
}

// advance hashes while nobody else is to be waited for.
func (l *lanes) advance() {
	for len(l.waiting) > 0 && (len(l.waiting) == l.joined || len(l.waiting) >= laneCount) {
		if l.joined < l.from {
			// Too few have stayed. Each goes on by itself.
			single := l.waiting
			l.waiting = nil
			for _, s := range single {
				s.ready <- struct{}{}
			}
			return
		}
		l.step()
	}
}

// step hashes a piece of up to sixteen streams that wait, and lets those go that
// have nothing left.
func (l *lanes) step() {
	now := l.waiting[:min(len(l.waiting), laneCount)]
	n := laneStep
	for _, s := range now {
		n = min(n, len(s.rest))
	}
	n = max(n, laneLeast)
	var state laneState
	var inputs [laneCount][]byte
	for i, s := range now {
		inputs[i] = s.rest
		for w, word := range s.state {
			state[w][i] = word
		}
	}
	l.compress(&state, &inputs, n)
	var done []*lane
	for i, s := range now {
		for w := range s.state {
			s.state[w] = state[w][i]
		}
		s.rest = s.rest[min(n, len(s.rest)):]
		if len(s.rest) == 0 {
			done = append(done, s)
		}
	}
	l.waiting = slices.DeleteFunc(l.waiting, func(s *lane) bool { return len(s.rest) == 0 })
	// From here on they belong to their writers again.
	for _, s := range done {
		s.ready <- struct{}{}
	}
}

// Write takes bytes; it never fails, and does not keep p.
func (s *lane) Write(p []byte) (int, error) {
	written := len(p)
	s.length += uint64(written)
	if s.tailed > 0 {
		n := copy(s.tail[s.tailed:], p)
		s.tailed, p = s.tailed+n, p[n:]
		if s.tailed < len(s.tail) {
			return written, nil
		}
		s.tailed = 0
		s.alone(s.tail[:])
	}
	whole := len(p) &^ (sha256.BlockSize - 1)
	s.tailed = copy(s.tail[:], p[whole:])
	if whole > 0 {
		s.together(p[:whole])
	}
	return written, nil
}

// together hashes whole blocks with those of the other streams.
func (s *lane) together(p []byte) {
	s.rest = p
	s.of.mu.Lock()
	if s.of.joined >= s.of.from {
		s.of.waiting = append(s.of.waiting, s)
		s.of.advance()
		s.of.mu.Unlock()
		<-s.ready
	} else {
		s.of.mu.Unlock()
	}
	if len(s.rest) > 0 {
		s.alone(s.rest)
	}
	s.rest = nil
}

// alone hashes whole blocks by the standard library.
func (s *lane) alone(p []byte) {
	h := s.standard(0) // only the state is taken from it
	h.Write(p)
	s.state = stateOf(h)
}

// Sum appends the 32 bytes of the digest.
func (s *lane) Sum(b []byte) []byte {
	h := s.standard(s.length - uint64(s.tailed))
	h.Write(s.tail[:s.tailed])
	return h.Sum(b)
}

// Reset starts anew.
func (s *lane) Reset() { s.state, s.tailed, s.length = stateOf(sha256.New()), 0, 0 }

// Size returns 32.
func (s *lane) Size() int { return sha256.Size }

// BlockSize returns 64.
func (s *lane) BlockSize() int { return sha256.BlockSize }

// statedAt is where the state stands in the form in which the standard library writes
// down a SHA-256: a word that says what it is, the state, the bytes that fill no block,
// the length.
const statedAt = 4

// standard returns the hash of the standard library that has come as far as the
// stream, with length bytes behind it, which are whole blocks.
func (s *lane) standard(length uint64) hash.Hash {
	h := sha256.New()
	b := marshalled(h)
	for w, word := range s.state {
		binary.BigEndian.PutUint32(b[statedAt+4*w:], word)
	}
	binary.BigEndian.PutUint64(b[len(b)-8:], length)
	if err := h.(encoding.BinaryUnmarshaler).UnmarshalBinary(b); err != nil {
		panic(err) // it has just written that itself
	}
	return h
}

// stateOf returns the state of a hash of the standard library.
func stateOf(h hash.Hash) (state [8]uint32) {
	b := marshalled(h)
	for w := range state {
		state[w] = binary.BigEndian.Uint32(b[statedAt+4*w:])
	}
	return state
}

func marshalled(h hash.Hash) []byte {
	b, err := h.(encoding.BinaryMarshaler).MarshalBinary()
	if err != nil {
		panic(err) // it never fails
	}
	return b
}

// oneByOne is the work of the lanes without wide registers.
func oneByOne(state *laneState, inputs *[laneCount][]byte, n int) {
	for i, input := range inputs {
		s := lane{}
		for w := range s.state {
			s.state[w] = state[w][i]
		}
		s.alone(input[:min(n, len(input))])
		for w := range s.state {
			state[w][i] = s.state[w]
		}
	}
}

// agrees reports whether lanes with that way of hashing give the digests of the
// standard library.
func agrees(compress func(*laneState, *[laneCount][]byte, int)) bool {
	l := &lanes{compress: compress}
	streams := make([]*lane, laneCount)
	contents := make([][]byte, laneCount)
	for i := range streams {
		streams[i] = l.join()
		contents[i] = bytes.Repeat([]byte{byte(i), byte(i >> 1), 0x5a}, 41*(i+1))
	}
	var all sync.WaitGroup
	for i, s := range streams {
		all.Go(func() {
			s.Write(contents[i]) //nolint:errcheck // it never fails
			s.leave()
		})
	}
	all.Wait()
	for i, s := range streams {
		want := sha256.Sum256(contents[i])
		if !bytes.Equal(s.Sum(nil), want[:]) {
			return false
		}
	}
	return true
}
