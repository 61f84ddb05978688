package openpgp

import (
	"encoding/binary"
	"hash"
	"sync"
	"time"
)

// What signatures of a certificate are over is the same for many of them: it is hashed once
// for each algorithm.
type covered struct {
	pieces [][]byte

	mu     sync.Mutex
	states map[HashAlgorithm]hash.Cloner
}

// size returns how many bytes it is.
func (c *covered) size() int {
	n := 0
	for _, p := range c.pieces {
		n += len(p)
	}
	return n
}

// digest returns the digest of a signature over it, or nil where the effort does not suffice
// for what is to be hashed, which is paid before. A nil effort always does.
func (c *covered) digest(s *Signature, e *Effort) ([]byte, error) {
	h, err := s.NewHash()
	if err != nil {
		return nil, err
	}
	cloner, shares := h.(hash.Cloner)
	shares = shares && len(s.salt) == 0
	if shares {
		c.mu.Lock()
		state := c.states[s.Hash]
		c.mu.Unlock()
		if state != nil {
			if !e.spend(s.Hash.cost(len(s.hashedArea))) {
				return nil, nil
			}
			clone, err := state.Clone()
			if err != nil {
				return nil, err
			}
			return s.Finish(clone), nil
		}
	}
	if !e.spend(s.Hash.cost(c.size() + len(s.hashedArea))) {
		return nil, nil
	}
	for _, p := range c.pieces {
		h.Write(p)
	}
	if shares {
		if state, err := cloner.Clone(); err == nil {
			c.mu.Lock()
			if c.states == nil {
				c.states = map[HashAlgorithm]hash.Cloner{}
			}
			c.states[s.Hash] = state
			c.mu.Unlock()
		}
	}
	return s.Finish(h), nil
}

// cost is about what hashing so many bytes takes, and what comes with each hash.
func (h HashAlgorithm) cost(n int) time.Duration {
	const each = time.Microsecond
	perKiB := 2 * time.Microsecond
	switch h {
	case HashSHA1, HashRIPEMD160, HashMD5: // the first with collision detection
		perKiB = 6 * time.Microsecond
	case HashSHA3_256, HashSHA3_512:
		perKiB = 4 * time.Microsecond
	default:
	}
	return each + time.Duration(n)*perKiB/1024
}

// framed returns the key as fingerprints and certifications hash it (RFC 9580, section
// 5.2.4): 0x99 and two length bytes or, for version 6, 0x9b and four; then the body.
func (k *PublicKey) framed() [][]byte {
	if k.Version == 6 {
		return [][]byte{binary.BigEndian.AppendUint32([]byte{0x9b}, uint32(len(k.body))), k.body}
	}
	return [][]byte{{0x99, byte(len(k.body) >> 8), byte(len(k.body))}, k.body}
}

// framedAs returns a user ID or attribute as certifications hash it.
func framedAs(prefix byte, body []byte) [][]byte {
	return [][]byte{binary.BigEndian.AppendUint32([]byte{prefix}, uint32(len(body))), body}
}

// over returns what a certification of the user ID is over. One of version 3 hashes the bare
// user ID.
func (u *UserID) over(s *Signature) *covered {
	if s.Version == 3 {
		return u.bare
	}
	return u.framed
}
