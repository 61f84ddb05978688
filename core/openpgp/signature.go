package openpgp

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"slices"
	"time"

	"endeixis/core/lineend"
)

// A SignatureType says what a signature is about (RFC 9580, section 5.2.1).
type SignatureType uint8

// The signature types.
const (
	Binary                SignatureType = 0x00
	Text                  SignatureType = 0x01
	Standalone            SignatureType = 0x02
	GenericCertification  SignatureType = 0x10
	PersonaCertification  SignatureType = 0x11
	CasualCertification   SignatureType = 0x12
	PositiveCertification SignatureType = 0x13
	SubkeyBinding         SignatureType = 0x18
	PrimaryBinding        SignatureType = 0x19
	DirectKey             SignatureType = 0x1f
	KeyRevocation         SignatureType = 0x20
	SubkeyRevocation      SignatureType = 0x28
	CertRevocation        SignatureType = 0x30
	Timestamp             SignatureType = 0x40
	ThirdParty            SignatureType = 0x50
)

// String names the type.
func (t SignatureType) String() string {
	switch t {
	case Binary:
		return "binary document"
	case Text:
		return "text document"
	case Standalone:
		return "standalone"
	case GenericCertification, PersonaCertification, CasualCertification, PositiveCertification:
		return "certification"
	case SubkeyBinding:
		return "subkey binding"
	case PrimaryBinding:
		return "primary key binding"
	case DirectKey:
		return "direct key"
	case KeyRevocation:
		return "key revocation"
	case SubkeyRevocation:
		return "subkey revocation"
	case CertRevocation:
		return "certification revocation"
	case Timestamp:
		return "timestamp"
	case ThirdParty:
		return "third-party confirmation"
	}
	return fmt.Sprintf("type 0x%02x", uint8(t))
}

// A RevocationReason is why a key was revoked (RFC 9580, section 5.2.3.31).
type RevocationReason uint8

// The reasons for revocation.
const (
	NoReason    RevocationReason = 0
	Superseded  RevocationReason = 1
	Compromised RevocationReason = 2
	Retired     RevocationReason = 3
)

// String says the reason in a few words.
func (r RevocationReason) String() string {
	switch r {
	case NoReason:
		return "no reason given"
	case Superseded:
		return "superseded"
	case Compromised:
		return "compromised"
	case Retired:
		return "retired"
	}
	return fmt.Sprintf("reason %d", uint8(r))
}

// hardness orders reasons by what they take away.
func (r RevocationReason) hardness() int {
	switch r {
	case Superseded, Retired:
		return 0
	case Compromised:
		return 2
	case NoReason:
	}
	return 1
}

// A Signature is one signature packet (RFC 9580, section 5.2).
type Signature struct {
	Version      int
	Type         SignatureType
	KeyAlgorithm KeyAlgorithm
	Hash         HashAlgorithm
	// Created is the creation time, or the zero time when the hashed area
	// has none.
	Created time.Time
	// Lifetime is how long the signature is valid; zero means for ever.
	Lifetime time.Duration
	// IssuerFingerprint and IssuerKeyID are hints from either area; they
	// may find a key and vouch for nothing.
	IssuerFingerprint Fingerprint
	IssuerKeyID       KeyID
	// Raw is the packet's body.
	Raw []byte

	offset          int
	hashedArea      []byte // from the version up to the end of the hashed area
	salt            []byte // of a version 6 signature
	hashed          []subpacket
	unhashed        []subpacket
	values          [][]byte
	criticalUnknown string
	keyLifetime     time.Duration
	keyFlags        byte
	hasKeyFlags     bool
	primaryUserID   bool
	hasReason       bool
	reason          RevocationReason
	reasonText      string
	embedded        [][]byte
	// hints are all that it says of its issuer, those of the hashed area first.
	hints []hint
	// short is set once it was verified, where the standard asks for a longer hash with the
	// key that made it.
	short bool
	// backs are those embedded signatures of a subkey's binding that are back by
	// the subkey and hold, once they have been checked.
	backs       []*Signature
	unsupported error
	malformed   error
}

// Malformed says why the signature cannot be read, or is nil.
func (s *Signature) Malformed() error { return s.malformed }

// A hint says by which key a signature is. It finds a key, and vouches for nothing.
type hint struct {
	fingerprint Fingerprint
	id          KeyID
	// hashed is set for one that only the issuer can have written.
	hashed bool
}

// A Hint is a fingerprint, or a key ID where that is empty, by which a signature names its
// issuer.
type Hint struct {
	Fingerprint Fingerprint
	KeyID       KeyID
}

// Hints returns all by which the signature names its issuer: those that only the issuer can
// have written first, and of these fingerprints first.
func (s *Signature) Hints() []Hint {
	var out []Hint
	for _, hashed := range []bool{true, false} {
		for _, fingerprints := range []bool{true, false} {
			for _, h := range s.hints {
				hint := Hint{h.fingerprint, h.id}
				if h.hashed == hashed && (h.fingerprint != "") == fingerprints && !slices.Contains(out, hint) {
					out = append(out, hint)
				}
			}
		}
	}
	return out
}

// Unsupported returns an [*UnsupportedError] when the signature is well-formed
// but of a version or algorithm that is not computed, and nil otherwise.
func (s *Signature) Unsupported() error { return s.unsupported }

// parseSignature reads the body of a signature packet. A version or algorithm
// we do not compute is no error here: Unsupported tells.
func parseSignature(body []byte, base int) (*Signature, error) {
	c := &cursor{data: body, base: base, packet: tagName(tagSignature)}
	s := &Signature{Raw: bytes.Clone(body), offset: base}
	s.Version = int(c.byte("version"))
	if c.err != nil {
		return nil, c.err
	}
	var err error
	switch s.Version {
	case 3:
		s.readVersion3(c)
	case 4, 6:
		err = s.readAreas(c)
	default:
		s.unsupported = &UnsupportedError{What: fmt.Sprintf("signature version %d", s.Version)}
		return s, nil
	}
	if c.err != nil {
		return nil, c.err
	}
	if err != nil {
		return nil, err
	}
	info, known := s.Hash.info()
	if !known {
		s.unsupported = &UnsupportedError{What: s.Hash.String()}
	}
	if s.Version == 6 {
		s.salt = bytes.Clone(c.bytes(int(c.byte("length of the salt")), "salt"))
		if c.err != nil {
			return nil, c.err
		}
		if known && (info.salt == 0 || len(s.salt) != info.salt) {
			c.fail(fmt.Sprintf("a salt of %d bytes does not go with %s", len(s.salt), s.Hash))
			return nil, c.err
		}
	}
	switch s.KeyAlgorithm {
	case RSA, RSASignOnly:
		s.values = [][]byte{bytes.Clone(c.mpi("RSA value"))}
	case DSA, ECDSA:
		s.values = [][]byte{bytes.Clone(c.mpi("r value")), bytes.Clone(c.mpi("s value"))}
	case EdDSALegacy:
		s.values = [][]byte{bytes.Clone(c.mpi("R value")), bytes.Clone(c.mpi("S value"))}
	case Ed25519:
		s.values = [][]byte{bytes.Clone(c.bytes(64, "Ed25519 value"))}
	case Ed448:
		s.values = [][]byte{bytes.Clone(c.bytes(114, "Ed448 value"))}
	default:
		s.unsupported = &UnsupportedError{What: s.KeyAlgorithm.String()}
		return s, nil
	}
	return s, c.finish()
}

// readVersion3 reads the fields of a version 3 signature (RFC 9580, section
// 5.2.2), which has no subpackets.
func (s *Signature) readVersion3(c *cursor) {
	if n := c.byte("length of the hashed part"); c.err == nil && n != 5 {
		c.fail(fmt.Sprintf("the hashed part of a version 3 signature has 5 bytes, not %d", n))
	}
	at := c.at
	s.Type = SignatureType(c.byte("type"))
	s.Created = time.Unix(int64(c.uint32("creation time")), 0).UTC()
	if c.err == nil {
		s.hashedArea = bytes.Clone(c.data[at:c.at])
	}
	if id := c.bytes(8, "key ID"); id != nil {
		s.IssuerKeyID = KeyID(binary.BigEndian.Uint64(id))
		s.hints = []hint{{id: s.IssuerKeyID}} // of version 3 it is not hashed
	}
	s.KeyAlgorithm = KeyAlgorithm(c.byte("public-key algorithm"))
	s.Hash = HashAlgorithm(c.byte("hash algorithm"))
	c.bytes(2, "hash prefix") // a hint, not a check
}

// readAreas reads the fields of a version 4 or 6 signature up to the hash's
// prefix (RFC 9580, section 5.2.3).
func (s *Signature) readAreas(c *cursor) error {
	s.Type = SignatureType(c.byte("type"))
	s.KeyAlgorithm = KeyAlgorithm(c.byte("public-key algorithm"))
	s.Hash = HashAlgorithm(c.byte("hash algorithm"))
	length := c.uint16
	if s.Version == 6 {
		length = func(what string) int { return int(min(c.uint32(what), 1<<30)) }
	}
	hashed := c.bytes(length("length of the hashed area"), "hashed area")
	if c.err != nil {
		return nil
	}
	s.hashedArea = bytes.Clone(c.data[:c.at])
	hashedBase := c.base + c.at - len(hashed)
	unhashed := c.bytes(length("length of the unhashed area"), "unhashed area")
	unhashedBase := c.base + c.at - len(unhashed)
	c.bytes(2, "hash prefix") // a hint, not a check: RFC 9580, section 5.2.4
	if c.err != nil {
		return nil
	}
	hashedSubs, err := readSubpackets(hashed, hashedBase)
	if err != nil && !s.Type.isRevocation() {
		return err
	}
	unhashedSubs, err := readSubpackets(unhashed, unhashedBase)
	if err != nil && !s.Type.isRevocation() {
		return err
	}
	s.hashed, s.unhashed = hashedSubs, unhashedSubs
	// What takes something away does so by its cryptography; of parts of it that make no
	// sense, such as the reason, none counts.
	if err := s.readHashed(hashedSubs, hashedBase); err != nil && !s.Type.isRevocation() {
		return err
	}
	s.readIssuer(hashedSubs, hashedArea)
	s.readIssuer(unhashedSubs, unhashedArea)
	return nil
}

// ed25519Value returns R and S as 64 bytes in the native encoding.
func (s *Signature) ed25519Value() ([]byte, bool) {
	if s.KeyAlgorithm == Ed25519 {
		return s.values[0], true
	}
	out := make([]byte, 64)
	for i, v := range s.values {
		if len(v) > 32 {
			return nil, false
		}
		copy(out[32*i+32-len(v):], v)
	}
	return out, true
}

// NewHash returns the hash into which the document's bytes are written, to be
// ended by [Signature.Finish]. The salt of a version 6 signature is in it
// already; for a signature over a text document, line endings are turned into
// CR LF on the way. It fails with an [*UnsupportedError].
func (s *Signature) NewHash() (hash.Hash, error) {
	if s.unsupported != nil {
		return nil, s.unsupported
	}
	h, err := s.Hash.New()
	if err != nil {
		return nil, err
	}
	h.Write(s.salt)
	if s.Type == Text {
		return &textHash{h, lineend.NewText(h)}, nil
	}
	return h, nil
}

// Salt returns what is hashed before the document: of a version 6 signature, or
// nothing.
func (s *Signature) Salt() []byte { return bytes.Clone(s.salt) }

// Finish writes what is hashed after the document (RFC 9580, section 5.2.4)
// and returns the finished hash. h is from [Signature.NewHash].
func (s *Signature) Finish(h hash.Hash) []byte {
	if t, ok := h.(*textHash); ok {
		h = t.Hash
	}
	h.Write(s.Trailer())
	return h.Sum(nil)
}

// over returns what the signature is held against when content is all of it, and is
// used as the text that was signed. Its encoding does not matter then, other than for
// a file, which could be a program whose bytes LF and CR LF tell apart.
func (s *Signature) over(content []byte) (Document, error) {
	h, err := s.NewHash()
	if err != nil {
		return Document{}, err
	}
	h.Write(content)
	t, text := h.(*textHash)
	return Document{Digest: s.Finish(h), NotText: text && t.text.Controls()}, nil
}

// Trailer returns what is hashed after the document (RFC 9580, section 5.2.4).
func (s *Signature) Trailer() []byte {
	t := bytes.Clone(s.hashedArea)
	if s.Version == 3 {
		return t
	}
	t = append(t, byte(s.Version), 0xff)
	return binary.BigEndian.AppendUint32(t, uint32(len(s.hashedArea)))
}

// A textHash turns line endings into CR LF before they are hashed (RFC 9580,
// section 5.2.1.2), and notices content that is no text.
type textHash struct {
	hash.Hash
	text *lineend.Text
}

func (t *textHash) Write(p []byte) (int, error) { return t.text.Write(p) }

// NotText reports whether what was written to a hash from [Signature.NewHash],
// for a signature over a text document, is no text: then its line endings could
// have been changed without the signature showing it, and the file not work.
func NotText(h hash.Hash) bool {
	t, ok := h.(*textHash)
	return ok && t.text.Binary()
}

// expired reports whether the signature's own lifetime has run out at t.
func (s *Signature) expired(t time.Time) bool {
	return s.Lifetime != 0 && !t.Before(s.Created.Add(s.Lifetime))
}

// isRevocation reports whether the type takes something back.
func (t SignatureType) isRevocation() bool {
	return t == KeyRevocation || t == SubkeyRevocation || t == CertRevocation
}

// isCertification reports whether the type is one of the four certifications.
func (t SignatureType) isCertification() bool {
	return t >= GenericCertification && t <= PositiveCertification
}

// maxSignatures bounds the signatures of one detached-signature file.
const maxSignatures = 64

// ReadSignatures reads a detached-signature file, armored or binary, with one
// or more signatures.
//
// A signature that cannot be read is one of them, of which [Signature.Malformed] says why,
// as long as there is another that can.
//
// It returns an [*EmptyError] for input without a signature, and a
// [*FormatError] for input in which all are damaged, for a file that holds other packets (a
// signed message over content of its own is not a detached signature), and for
// more than 64 signatures.
func ReadSignatures(data []byte) ([]*Signature, error) {
	return signaturesIn(data, "PGP SIGNATURE")
}

// signaturesIn reads a file that holds signatures and nothing else, binary or in
// armored blocks of some kinds.
func signaturesIn(data []byte, kinds ...string) ([]*Signature, error) {
	in := &signatureReader{}
	if isArmored(data) {
		for _, b := range armorBlocks(data) {
			switch {
			case !slices.Contains(kinds, b.kind):
				return nil, &EmptyError{Want: "detached signature", Found: "it is a block headed " + b.kind}
			case b.damage != nil:
				in.malformed(nil, b.damage)
			default:
				err := in.read(b.data)
				if empty := (*EmptyError)(nil); errors.As(err, &empty) {
					in.malformed(nil, err) // a block without a packet
				} else if err != nil {
					return nil, err
				}
			}
		}
	} else if err := in.read(data); err != nil {
		return nil, err
	}
	switch {
	case len(in.sigs) == 0:
		return nil, &EmptyError{Want: "signature"}
	case in.sound == 0:
		return nil, in.first
	}
	return in.sigs, nil
}

// A signatureReader collects signatures. One that cannot be read is a result of its own
// beside the others.
type signatureReader struct {
	sigs []*Signature
	// sound counts those that can be read, and first is what is wrong with the first that
	// cannot.
	sound int
	first error
}

func (in *signatureReader) malformed(body []byte, err error) {
	if in.first == nil {
		in.first = err
	}
	in.sigs = append(in.sigs, &Signature{Raw: bytes.Clone(body), malformed: err})
}

// read reads the packets of one block. It fails where they are not signatures, or more than
// are read.
func (in *signatureReader) read(data []byte) error {
	if what := describe(data); what != "" || data[0]&0x80 == 0 {
		return &EmptyError{Want: "signature", Found: what}
	}
	r := packetReader{data: data}
	for {
		p, err := r.next()
		switch {
		case err != nil && len(in.sigs) > 0:
			in.malformed(nil, err)
			return nil // where the next packet begins cannot be told
		case err != nil:
			return err
		case p == nil:
			return nil
		case p.tag == tagMarker, p.tag == tagPadding, p.tag >= leastUncritical:
			continue
		case p.tag != tagSignature:
			return &FormatError{
				Offset: p.offset, Packet: tagName(p.tag),
				Reason: "a detached signature holds signature packets only; this file carries content of its own",
			}
		case len(in.sigs) == maxSignatures:
			return &FormatError{
				Offset: p.offset, Packet: tagName(p.tag),
				Reason: fmt.Sprintf("more than %d signatures in one file", maxSignatures),
			}
		}
		s, err := parseSignature(p.body, p.end-len(p.body))
		if err != nil {
			in.malformed(p.body, err)
			continue
		}
		in.sound++
		in.sigs = append(in.sigs, s)
	}
}

// ParseSignature reads the body of one signature packet, as kept in
// [Signature.Raw].
func ParseSignature(raw []byte) (*Signature, error) { return parseSignature(raw, 0) }

// IsUnsupported reports whether err is an [*UnsupportedError].
func IsUnsupported(err error) bool {
	var u *UnsupportedError
	return errors.As(err, &u)
}
