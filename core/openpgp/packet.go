package openpgp

import (
	"encoding/binary"
	"fmt"
)

// Packet type IDs (RFC 9580, section 5).
const (
	tagPKESK         = 1
	tagSignature     = 2
	tagOnePass       = 4
	tagSecretKey     = 5
	tagPublicKey     = 6
	tagSecretSubkey  = 7
	tagCompressed    = 8
	tagMarker        = 10
	tagLiteral       = 11
	tagTrust         = 12
	tagUserID        = 13
	tagPublicSubkey  = 14
	tagUserAttribute = 17
	tagPadding       = 21
)

var tagNames = map[int]string{
	tagPKESK: "encrypted session key", tagSignature: "signature", tagOnePass: "one-pass signature",
	tagSecretKey: "secret key", tagPublicKey: "public key", tagSecretSubkey: "secret subkey",
	tagCompressed: "compressed data", tagMarker: "marker", tagLiteral: "literal data", tagTrust: "trust",
	tagUserID: "user ID", tagPublicSubkey: "public subkey", tagUserAttribute: "user attribute", tagPadding: "padding",
}

func tagName(tag int) string {
	if name, ok := tagNames[tag]; ok {
		return name
	}
	return fmt.Sprintf("type %d", tag)
}

// leastUncritical is the first type of packets that may be passed over when they are not
// known (RFC 9580, section 4.3).
const leastUncritical = 40

// maxPackets bounds the packets read from one input: a ring of keys of 128 MiB has no
// more.
const maxPackets = 3_000_000

// A packet is a header and its body, with the offset of the header.
type packet struct {
	tag    int
	offset int
	// header is the length of the header, so that data[offset:end] is the
	// packet as it stands.
	body []byte
	end  int
}

// packetReader walks the packets of a byte slice without copying.
type packetReader struct {
	data   []byte
	offset int
	count  int
}

// next returns the next packet, or nil at the end.
func (r *packetReader) next() (*packet, error) {
	if r.offset == len(r.data) {
		return nil, nil
	}
	if r.count++; r.count > maxPackets {
		return nil, &FormatError{Offset: r.offset, Reason: fmt.Sprintf("more than %d packets in one input", maxPackets)}
	}
	start := r.offset
	rest := r.data[start:]
	first := rest[0]
	if first&0x80 == 0 {
		return nil, &FormatError{Offset: start, Reason: fmt.Sprintf("byte 0x%02x does not start a packet", first)}
	}
	var tag, headerLen int
	var bodyLen uint64
	if first&0x40 != 0 { // OpenPGP format, section 4.2.1
		tag = int(first & 0x3f)
		if len(rest) < 2 {
			return nil, truncated(start, tag)
		}
		switch b := rest[1]; {
		case b < 192:
			headerLen, bodyLen = 2, uint64(b)
		case b < 224:
			if len(rest) < 3 {
				return nil, truncated(start, tag)
			}
			headerLen, bodyLen = 3, uint64(b-192)<<8+uint64(rest[2])+192
		case b == 255:
			if len(rest) < 6 {
				return nil, truncated(start, tag)
			}
			headerLen, bodyLen = 6, uint64(binary.BigEndian.Uint32(rest[2:]))
		case isData(tag):
			return r.partial(start, tag)
		default:
			return nil, &FormatError{
				Offset: start, Packet: tagName(tag), Reason: "partial lengths are for data packets only",
			}
		}
	} else { // legacy format, section 4.2.2
		tag = int(first >> 2 & 0x0f)
		width := 1 << (first & 3)
		if width == 8 && isData(tag) {
			// Indeterminate length: to the end of the input.
			r.offset = len(r.data)
			return &packet{tag: tag, offset: start, body: rest[1:], end: r.offset}, nil
		}
		if width == 8 {
			return nil, &FormatError{Offset: start, Packet: tagName(tag), Reason: "the length is left open"}
		}
		headerLen = 1 + width
		if len(rest) < headerLen {
			return nil, truncated(start, tag)
		}
		for _, b := range rest[1:headerLen] {
			bodyLen = bodyLen<<8 | uint64(b)
		}
	}
	if tag == 0 {
		return nil, &FormatError{Offset: start, Reason: "packet type 0 is reserved"}
	}
	if bodyLen > uint64(len(rest)-headerLen) {
		return nil, &FormatError{
			Offset: start, Packet: tagName(tag),
			Reason: fmt.Sprintf("it claims %d bytes and only %d are left", bodyLen, len(rest)-headerLen),
		}
	}
	r.offset = start + headerLen + int(bodyLen)
	return &packet{tag: tag, offset: start, body: rest[headerLen : headerLen+int(bodyLen)], end: r.offset}, nil
}

// isData reports whether a packet holds data, whose length need not be known
// when it is written.
func isData(tag int) bool { return tag == tagCompressed || tag == tagLiteral }

// partial reads a body that comes in parts (RFC 9580, section 4.2.1.4).
func (r *packetReader) partial(start, tag int) (*packet, error) {
	var body []byte
	at := start + 1
	for {
		rest := r.data[at:]
		if len(rest) == 0 {
			return nil, truncated(start, tag)
		}
		var header, length int
		last := true
		switch b := rest[0]; {
		case b < 192:
			header, length = 1, int(b)
		case b < 224:
			if len(rest) < 2 {
				return nil, truncated(start, tag)
			}
			header, length = 2, int(b-192)<<8+int(rest[1])+192
		case b == 255:
			if len(rest) < 5 {
				return nil, truncated(start, tag)
			}
			header, length = 5, int(min(binary.BigEndian.Uint32(rest[1:]), 1<<31-1))
		default:
			header, length, last = 1, 1<<(b&0x1f), false
			if len(body) == 0 && length < 512 {
				return nil, &FormatError{
					Offset: start, Packet: tagName(tag), Reason: "its first part is shorter than 512 bytes",
				}
			}
		}
		if length > len(rest)-header {
			return nil, &FormatError{
				Offset: at, Packet: tagName(tag),
				Reason: fmt.Sprintf("a part of it claims %d bytes and only %d are left", length, len(rest)-header),
			}
		}
		body = append(body, rest[header:header+length]...)
		at += header + length
		if last {
			r.offset = at
			return &packet{tag: tag, offset: start, body: body, end: at}, nil
		}
	}
}

func truncated(offset, tag int) error {
	return &FormatError{Offset: offset, Packet: tagName(tag), Reason: "the input ends inside the packet's header"}
}

// A cursor reads the fields of a packet's body. After the first failure every
// further read returns zero values, and err tells what happened.
type cursor struct {
	data   []byte
	at     int
	base   int // offset of data in the input
	packet string
	err    error
}

func (c *cursor) fail(reason string) {
	if c.err == nil {
		c.err = &FormatError{Offset: c.base + c.at, Packet: c.packet, Reason: reason}
	}
}

func (c *cursor) bytes(n int, what string) []byte {
	if c.err != nil {
		return nil
	}
	if n < 0 || n > len(c.data)-c.at {
		c.fail("it ends inside the " + what)
		return nil
	}
	out := c.data[c.at : c.at+n]
	c.at += n
	return out
}

func (c *cursor) byte(what string) byte {
	b := c.bytes(1, what)
	if b == nil {
		return 0
	}
	return b[0]
}

func (c *cursor) uint16(what string) int {
	b := c.bytes(2, what)
	if b == nil {
		return 0
	}
	return int(binary.BigEndian.Uint16(b))
}

func (c *cursor) uint32(what string) uint32 {
	b := c.bytes(4, what)
	if b == nil {
		return 0
	}
	return binary.BigEndian.Uint32(b)
}

func (c *cursor) rest() []byte {
	return c.bytes(len(c.data)-c.at, "body")
}

// mpi reads a multiprecision integer (RFC 9580, section 3.2) and returns its
// bytes without leading zeros. A length that does not match the first byte is
// an error: such an encoding is not canonical.
func (c *cursor) mpi(what string) []byte {
	bits := c.uint16(what)
	b := c.bytes((bits+7)/8, what)
	if c.err != nil {
		return nil
	}
	if len(b) > 0 {
		top := bits - 8*(len(b)-1)
		if b[0]>>top != 0 || b[0]>>(top-1) == 0 {
			c.fail("the " + what + " is not in canonical form")
			return nil
		}
	}
	return b
}

func (c *cursor) finish() error {
	if c.err == nil && c.at != len(c.data) {
		c.fail(fmt.Sprintf("%d bytes are left over at its end", len(c.data)-c.at))
	}
	return c.err
}
