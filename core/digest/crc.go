package digest

import (
	"encoding/binary"
	"hash"
)

// A forwardCRC is a CRC-32 over the polynomial 0x04C11DB7 that takes the bits
// of each byte from the top, unlike those of the standard library.
type forwardCRC struct {
	start uint32
	value uint32
	// length counts the bytes; CRC-32/CKSUM runs over it at the end.
	length     uint64
	withLength bool
}

// forwardTable has the remainder of each byte in the top position.
var forwardTable = func() (t [256]uint32) {
	for i := range t {
		r := uint32(i) << 24
		for range 8 {
			carry := r & 0x80000000
			r <<= 1
			if carry != 0 {
				r ^= 0x04C11DB7
			}
		}
		t[i] = r
	}
	return t
}()

func newCRC32BZIP2() hash.Hash { return &forwardCRC{start: 0xffffffff, value: 0xffffffff} }

func newCRC32CKSUM() hash.Hash { return &forwardCRC{withLength: true} }

func forward(value uint32, p []byte) uint32 {
	for _, b := range p {
		value = value<<8 ^ forwardTable[byte(value>>24)^b]
	}
	return value
}

// Write takes bytes; it never fails.
func (c *forwardCRC) Write(p []byte) (int, error) {
	c.value = forward(c.value, p)
	c.length += uint64(len(p))
	return len(p), nil
}

// Sum appends the four bytes of the value, most significant first.
func (c *forwardCRC) Sum(b []byte) []byte {
	value := c.value
	if c.withLength {
		// The length, least significant byte first, without leading zeros.
		for n := c.length; n > 0; n >>= 8 {
			value = forward(value, []byte{byte(n)})
		}
	}
	return binary.BigEndian.AppendUint32(b, ^value)
}

// Reset starts anew.
func (c *forwardCRC) Reset() { c.value, c.length = c.start, 0 }

// Size returns 4.
func (c *forwardCRC) Size() int { return 4 }

// BlockSize returns 1: bytes are taken as they come.
func (c *forwardCRC) BlockSize() int { return 1 }
