package openpgp

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"endeixis/core/plain"
)

// An Inspection tells what an OpenPGP file is made of, for people who want to see
// for themselves. All of its text is safe to show.
type Inspection struct {
	// Kind is "public key", "signature", "message", "signed text" or "packets".
	Kind string `json:"kind"`
	// Notes are what is odd about the file as a whole.
	Notes   []string `json:"notes"`
	Packets []Piece  `json:"packets"`
	// Text is what a signed text holds, or is empty.
	Text string `json:"text,omitempty"`
}

// A Piece is one packet.
type Piece struct {
	// Offset is where it starts in the binary form, in bytes, and Length how
	// long it is with its header. Depth counts the packets it lies in.
	Offset int    `json:"offset"`
	Length int    `json:"length"`
	Depth  int    `json:"depth"`
	Kind   string `json:"kind"`
	Facts  []Fact `json:"facts"`
	// Odd are what is wrong or unusual about it.
	Odd []string `json:"odd,omitempty"`
}

// A Fact is one thing that a packet states or that was established about it.
type Fact struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// maxInspected bounds the packets of an inspection.
const maxInspected = 5000

// Inspect tells what is in a key, a signature, a message or a signed text,
// armored or binary. Damage does not end it: what was understood before is told,
// with where and why it ends. It returns an [*EmptyError] for what is no
// OpenPGP at all.
func Inspect(data []byte, rules Rules) (*Inspection, error) {
	a := &Inspection{Kind: "packets", Notes: []string{}, Packets: []Piece{}}
	in := &inspector{account: a, rules: rules}
	var binaries [][]byte
	switch {
	case IsCleartext(data):
		a.Kind = "signed text"
		c, err := ReadCleartext(data)
		if err != nil {
			a.Notes = append(a.Notes, plain.Text(err.Error()))
			return a, nil
		}
		var lines []string
		for _, line := range strings.Split(string(c.Text[:min(len(c.Text), 64<<10)]), "\n") {
			lines = append(lines, plain.Text(line))
		}
		a.Text = strings.Join(lines, "\n")
		if c.Outside != "" {
			a.Notes = append(a.Notes, fmt.Sprintf("There is text %s; nobody signed it.", c.Outside))
		}
		for _, s := range c.Signatures {
			binaries = append(binaries, appendPacket(nil, tagSignature, s.Raw))
		}
	case isArmored(data):
		blocks, err := readArmor(data)
		if err != nil {
			a.Notes = append(a.Notes, plain.Text(err.Error()))
		}
		for _, b := range blocks {
			a.Notes = append(a.Notes, "Armored block: "+plain.Text(b.kind)+".")
			binaries = append(binaries, b.data)
		}
	default:
		if what := describe(data); what != "" || data[0]&0x80 == 0 {
			return nil, &EmptyError{Want: "packet", Found: what}
		}
		binaries = [][]byte{data}
	}
	for _, b := range binaries {
		in.packets(b, 0)
	}
	in.conclude(binaries)
	return a, nil
}

// appendPacket frames a body in the OpenPGP format with a length of four bytes.
func appendPacket(out []byte, tag int, body []byte) []byte {
	out = binary.BigEndian.AppendUint32(append(out, 0xc0|byte(tag), 0xff), uint32(len(body)))
	return append(out, body...)
}

type inspector struct {
	account *Inspection
	rules   Rules
	tags    map[int]int
}

// packets tells of each packet of one level.
func (in *inspector) packets(data []byte, depth int) {
	if in.tags == nil {
		in.tags = map[int]int{}
	}
	r := packetReader{data: data}
	for {
		p, err := r.next()
		if err != nil {
			in.account.Notes = append(in.account.Notes, "It cannot be read further: "+plain.Text(err.Error())+".")
			return
		}
		if p == nil {
			return
		}
		if len(in.account.Packets) >= maxInspected {
			in.account.Notes = append(
				in.account.Notes, fmt.Sprintf("There are more than %d packets; the rest is not shown.", maxInspected),
			)
			return
		}
		in.tags[p.tag]++
		piece := Piece{Offset: p.offset, Length: p.end - p.offset, Depth: depth, Kind: tagName(p.tag), Facts: []Fact{}}
		inner := in.describe(p, &piece)
		in.account.Packets = append(in.account.Packets, piece)
		if inner != nil && depth < maxNesting {
			in.packets(inner, depth+1)
		}
	}
}

func (p *Piece) fact(name, format string, args ...any) {
	p.Facts = append(p.Facts, Fact{name, plain.Text(fmt.Sprintf(format, args...))})
}

func (p *Piece) odd(format string, args ...any) {
	p.Odd = append(p.Odd, plain.Text(fmt.Sprintf(format, args...)))
}

// describe tells what one packet holds, and returns packets inside it.
func (in *inspector) describe(p *packet, piece *Piece) (inner []byte) {
	switch p.tag {
	case tagPublicKey, tagPublicSubkey:
		in.key(p, piece)
	case tagSecretKey, tagSecretSubkey:
		piece.odd("A secret key: whoever has this file may be able to sign in its owner's name. It is not looked into.")
	case tagSignature:
		s, err := parseSignature(p.body, p.end-len(p.body))
		if err != nil {
			piece.odd("%v", err)
			return nil
		}
		in.signature(s, piece)
	case tagUserID:
		piece.fact("user ID", "%s", string(p.body))
	case tagUserAttribute:
		in.attribute(p, piece)
	case tagLiteral:
		m := &Message{}
		if err := m.literal(p); err != nil {
			piece.odd("%v", err)
			return nil
		}
		piece.fact("content", "%d bytes", len(m.Content))
		if m.FileName != "" {
			piece.fact("file name", "%s (a remark; it is not signed)", m.FileName)
		}
	case tagCompressed:
		out, err := expand(p)
		if err != nil {
			piece.odd("%v", err)
			return nil
		}
		piece.fact("expands to", "%d bytes", len(out))
		return out
	case tagOnePass:
		piece.fact("announces", "a signature that follows the content")
	case tagPKESK:
		piece.odd("Encrypted data is not read here.")
	case tagMarker, tagTrust, tagPadding:
	default:
		if p.tag < 40 {
			piece.odd("This type of packet is not known, and it is marked as one that must be.")
		} else {
			piece.odd("This type of packet is not known; it may be passed over.")
		}
	}
	return nil
}

// attribute tells of a user attribute (RFC 9580, section 5.12): subpackets, of
// which only pictures are defined. Pictures are not decoded.
func (in *inspector) attribute(p *packet, piece *Piece) {
	subs, err := readSubpackets(p.body, p.end-len(p.body))
	if err != nil {
		piece.odd("%v", err)
		return
	}
	for _, sub := range subs {
		id, b := sub.id, sub.body
		if sub.critical {
			id |= 0x80 // the high bit is part of an attribute's type
		}
		header := 0
		if len(b) >= 2 {
			header = int(binary.LittleEndian.Uint16(b))
		}
		switch {
		case id != 1:
			piece.fact("attribute type "+strconv.Itoa(id), "%d bytes", len(b))
		case header < 4 || header > len(b):
			piece.odd("A picture whose header does not fit.")
		case b[3] == 1:
			piece.fact("picture", "JPEG, %d bytes; not shown", len(b)-header)
		default:
			piece.fact("picture", "of the format %d, %d bytes; not shown", b[3], len(b)-header)
		}
	}
	piece.odd("Attributes prove nothing; certifications of them are kept and not used.")
}

func (in *inspector) key(p *packet, piece *Piece) {
	k, err := readPublicKey(p)
	if err != nil {
		piece.odd("%v", err)
		return
	}
	piece.fact("version", "%d", k.Version)
	piece.fact("algorithm", "%s", k.Describe())
	piece.fact("created", "%s", k.Created.Format(time.RFC3339))
	piece.fact("fingerprint", "%s", plain.Grouped(string(k.Fingerprint)))
	piece.fact("key ID", "%s", k.KeyID)
	if k.validity != 0 {
		piece.fact("valid for", "%d days", int(k.validity.Hours()/24))
	}
	if k.wrapping != "" {
		piece.fact("key wrapping", "%s", k.wrapping)
	}
	if why := k.Unusable(); why != "" {
		piece.odd("No signature by it is verified: %s.", why)
	}
	if k.Created.After(in.rules.Now.Add(in.rules.Skew)) {
		piece.odd("It claims to have been made in the future.")
	}
}

func (in *inspector) signature(s *Signature, piece *Piece) {
	piece.fact("version", "%d", s.Version)
	if s.Version < 3 || s.Version == 5 || s.Version > 6 {
		piece.odd("%v.", s.unsupported)
		return
	}
	piece.fact("type", "%s (0x%02x)", s.Type, uint8(s.Type))
	piece.fact("algorithms", "%s with %s", s.KeyAlgorithm, s.Hash)
	if s.Created.IsZero() {
		piece.odd("It does not say when it was made, so that it counts for nothing.")
	} else {
		piece.fact("made", "%s", s.Created.Format(time.RFC3339))
	}
	piece.fact("issuer", "%s", plain.Grouped(s.issuer()))
	if len(s.salt) > 0 {
		piece.fact("salt", "%d bytes", len(s.salt))
	}
	if s.unsupported != nil {
		piece.odd("It cannot be verified here: %v.", s.unsupported)
	}
	if bits := s.Hash.CollisionBits(); bits > 0 && bits < 112 {
		piece.odd("%s is weak.", s.Hash)
	}
	if s.criticalUnknown != "" {
		piece.odd(
			"It carries %s marked critical, which is not understood, so that it counts for nothing.", s.criticalUnknown,
		)
	}
	for _, area := range []struct {
		name string
		subs []subpacket
	}{{"", s.hashed}, {" (not signed)", s.unhashed}} {
		for _, sub := range area.subs {
			name, value := sub.describe()
			if sub.critical {
				name += ", critical"
			}
			piece.fact(name+area.name, "%s", value)
		}
	}
}

// conclude tells what the file is, and what of it holds by itself.
func (in *inspector) conclude(binaries [][]byte) {
	a := in.account
	switch {
	case a.Kind == "signed text":
		return
	case in.tags[tagPublicKey] > 0:
		a.Kind = "public key"
	case in.tags[tagLiteral]+in.tags[tagCompressed] > 0:
		a.Kind = "message"
	case in.tags[tagSignature] > 0:
		a.Kind = "signature"
	}
	if a.Kind != "public key" {
		return
	}
	certs, skipped, err := ReadCertificates(bytes.Join(binaries, nil))
	if err != nil {
		a.Notes = append(a.Notes, "As a key it cannot be used: "+plain.Text(err.Error())+".")
		return
	}
	for _, e := range skipped {
		a.Notes = append(a.Notes, "Left out: "+plain.Text(e.Error())+".")
	}
	for _, c := range certs {
		a.Notes = append(
			a.Notes, "Key "+plain.Grouped(string(c.Primary.Fingerprint))+": "+plain.Text(c.standing(in.rules)),
		)
	}
}

// number puts a count into the second of two sentences, of which the first is for one.
func number(n int, singular, many string) string {
	if n == 1 {
		return singular
	}
	return fmt.Sprintf(many, n)
}

// standing sums up what of a certificate holds by its own cryptography.
func (c *Certificate) standing(rules Rules) string {
	var out []string
	self := len(c.selfSignatures(rules))
	if self == 0 {
		out = append(out, "no self-signature holds and is strong enough, so that nothing ties names and uses to it")
	} else {
		out = append(out, number(self, "one of its own signatures holds", "%d of its own signatures hold"))
	}
	if uses := c.Uses(c.Primary, rules); len(uses) > 0 {
		out = append(out, "it may "+strings.Join(uses, " and "))
	}
	if r := c.Revocation(); r != nil {
		out = append(out, fmt.Sprintf("its owner revoked it on %s (%s)", r.Time.Format(time.DateOnly), r.Reason))
	}
	if e, ok := c.Expires(rules); ok && e != nil {
		word := "expires"
		if !rules.Now.Before(*e) {
			word = "expired"
		}
		out = append(out, fmt.Sprintf("it %s on %s", word, e.Format(time.DateOnly)))
	}
	for _, r := range c.Revokers(rules) {
		out = append(
			out,
			fmt.Sprintf(
				"it names %s as a key that may revoke it, which is not followed here",
				plain.Grouped(string(r.Fingerprint)),
			),
		)
	}
	if others := c.Certifications(); others > 0 {
		out = append(
			out,
			number(
				others, "one certification is by another key, and was not checked",
				"%d certifications are by other keys, and were not checked",
			),
		)
	}
	bound := slices.DeleteFunc(
		slices.Clone(c.Subkeys), func(s *Subkey) bool { return len(rules.usable(s.bindings, s.Key)) == 0 },
	)
	switch n := len(c.Subkeys); {
	case n == 1 && len(bound) == 1:
		out = append(out, "its subkey is bound to it")
	case n == 1:
		out = append(out, "its subkey is not bound to it")
	case n > 1:
		out = append(out, fmt.Sprintf("%d of its %d subkeys are bound to it", len(bound), n))
	}
	return strings.Join(out, "; ") + "."
}
