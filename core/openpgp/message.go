package openpgp

import (
	"bytes"
	"compress/bzip2"
	"compress/flate"
	"compress/zlib"
	"fmt"
	"io"
)

const (
	// maxNesting bounds messages in messages.
	maxNesting = 8
	// maxExpanded bounds what compressed data of a message expands to.
	maxExpanded = 64 << 20
)

// A Message is content with signatures in one file (RFC 9580, section 10.3).
type Message struct {
	// Content is what was signed.
	Content []byte
	// FileName is a remark of its maker, from outside; it is
	// not signed.
	FileName string
	// Signatures are those over the content.
	Signatures []*Signature
}

// IsMessage reports whether data, armored or binary, is a message rather than
// keys or detached signatures.
func IsMessage(data []byte) bool {
	if isArmored(data) {
		return bytes.HasPrefix(bytes.TrimLeft(data, " \t\r\n"), []byte("-----BEGIN PGP MESSAGE-----"))
	}
	if len(data) < 2 || data[0]&0x80 == 0 {
		return false
	}
	p, err := (&packetReader{data: data}).next()
	if err != nil || p == nil {
		return false
	}
	if p.tag == tagSignature { // an old form has the signature in front
		rest, err := (&packetReader{data: data, offset: p.end}).next()
		return err == nil && rest != nil && isData(rest.tag)
	}
	return p.tag == tagOnePass || isData(p.tag)
}

// ReadMessage reads a signed message, compressed or not. It returns an
// [*EmptyError] when there is no message, an [*UnsupportedError] for encrypted
// ones, and a [*FormatError] for what is damaged, nested too deep, expands to
// more than 64 MiB, or has its packets in an order that leaves open what was
// signed.
func ReadMessage(data []byte) (*Message, error) {
	if isArmored(data) {
		blocks, err := readArmor(data)
		if err != nil {
			return nil, err
		}
		if len(blocks) != 1 || blocks[0].kind != "PGP MESSAGE" {
			return nil, &EmptyError{Want: "message", Found: "it is not one block headed PGP MESSAGE"}
		}
		data = blocks[0].data
	}
	if len(data) == 0 {
		return nil, &EmptyError{Want: "message"}
	}
	m := &Message{}
	return m, m.read(data, 0)
}

// read takes one level: one-pass signatures, then the content or a message in
// it, then as many signatures.
func (m *Message) read(data []byte, depth int) error {
	if depth > maxNesting {
		return &FormatError{Packet: "message", Reason: fmt.Sprintf("messages are nested more than %d deep", maxNesting)}
	}
	l := messageLevel{message: m, depth: depth}
	r := packetReader{data: data}
	for {
		p, err := r.next()
		if err != nil {
			return err
		}
		if p == nil {
			break
		}
		if err := l.take(p); err != nil {
			return err
		}
	}
	switch {
	case !l.content:
		return &EmptyError{Want: "message", Found: "it has no content"}
	case l.announced != l.after:
		return &FormatError{
			Packet: "message",
			Reason: fmt.Sprintf("%d signatures are announced and %d follow the content", l.announced, l.after),
		}
	}
	return nil
}

// A messageLevel is what was read so far of one level of a message.
type messageLevel struct {
	message *Message
	depth   int
	// announced counts one-pass packets, before and after the signatures on both sides of the
	// content, and content is set once that was read.
	announced, before, after int
	content                  bool
}

// take takes a packet of the level.
func (l *messageLevel) take(p *packet) error {
	misplaced := &FormatError{
		Offset: p.offset, Packet: tagName(p.tag), Reason: "it stands where it leaves open what was signed",
	}
	switch p.tag {
	case tagMarker, tagPadding:
	case tagOnePass:
		if l.content || l.before > 0 {
			return misplaced
		}
		l.announced++
	case tagSignature:
		return l.signature(p)
	case tagLiteral:
		if l.content {
			return misplaced
		}
		l.content = true
		return l.message.literal(p)
	case tagCompressed:
		if l.content {
			return misplaced
		}
		l.content = true
		inner, err := expand(p)
		if err != nil {
			return err
		}
		if err := l.message.read(inner, l.depth+1); err != nil {
			return err
		}
		if (l.announced > 0 || l.before > 0) && len(l.message.Signatures) > l.before+l.after {
			return misplaced // signatures inside and around: over what?
		}
	case tagPKESK, 3, 9, 18, 20:
		return &UnsupportedError{What: "encrypted data"}
	default:
		return misplaced
	}
	return nil
}

// signature takes a signature of the level.
func (l *messageLevel) signature(p *packet) error {
	s, err := parseSignature(p.body, p.end-len(p.body))
	if err != nil {
		return err
	}
	if len(l.message.Signatures) == maxSignatures {
		return &FormatError{
			Offset: p.offset, Packet: tagName(p.tag),
			Reason: fmt.Sprintf("more than %d signatures in one message", maxSignatures),
		}
	}
	l.message.Signatures = append(l.message.Signatures, s)
	if l.content {
		l.after++
	} else {
		l.before++
	}
	return nil
}

// literal takes the content out of a literal data packet (RFC 9580, section
// 5.9).
func (m *Message) literal(p *packet) error {
	c := &cursor{data: p.body, base: p.end - len(p.body), packet: tagName(p.tag)}
	c.byte("format")
	m.FileName = string(c.bytes(int(c.byte("length of the file name")), "file name"))
	c.uint32("date")
	m.Content = c.rest()
	return c.err
}

// expand returns what a compressed data packet holds (RFC 9580, section 5.6).
func expand(p *packet) ([]byte, error) {
	bad := func(format string, args ...any) error {
		return &FormatError{Offset: p.offset, Packet: tagName(p.tag), Reason: fmt.Sprintf(format, args...)}
	}
	if len(p.body) == 0 {
		return nil, bad("it is empty")
	}
	in := bytes.NewReader(p.body[1:])
	var r io.Reader = in
	switch p.body[0] {
	case 0:
	case 1:
		r = flate.NewReader(in)
	case 2:
		z, err := zlib.NewReader(in)
		if err != nil {
			return nil, bad("the compression is damaged: %v", err)
		}
		r = z
	case 3:
		r = bzip2.NewReader(in)
	default:
		return nil, &UnsupportedError{What: fmt.Sprintf("compression algorithm %d", p.body[0])}
	}
	out, err := io.ReadAll(io.LimitReader(r, maxExpanded+1))
	if len(out) > maxExpanded {
		return nil, bad("it expands to more than %d MiB", maxExpanded>>20)
	}
	if err != nil {
		return nil, bad("the compression is damaged: %v", err)
	}
	return out, nil
}

// Document returns what a signature of the message is held against.
func (m *Message) Document(s *Signature) (Document, error) { return s.over(m.Content) }
