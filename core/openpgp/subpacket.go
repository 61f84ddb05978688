package openpgp

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"strings"
	"time"

	"endeixis/core/plain"
)

// Subpacket type IDs (RFC 9580, section 5.2.3.7).
const (
	subCreationTime        = 2
	subExpiration          = 3
	subExportable          = 4
	subTrust               = 5
	subRegularExpression   = 6
	subRevocable           = 7
	subKeyExpiration       = 9
	subPreferredSymmetric  = 11
	subRevocationKey       = 12
	subIssuer              = 16
	subNotation            = 20
	subPreferredHash       = 21
	subPreferredCompress   = 22
	subKeyServerPrefs      = 23
	subPreferredKeyServer  = 24
	subPrimaryUserID       = 25
	subPolicyURI           = 26
	subKeyFlags            = 27
	subSignersUserID       = 28
	subRevocationReason    = 29
	subFeatures            = 30
	subSignatureTarget     = 31
	subEmbeddedSignature   = 32
	subIssuerFingerprint   = 33
	subPreferredAEAD       = 34
	subIntendedRecipient   = 35
	subPreferredAEADSuites = 39
)

// understood lists the subpackets whose meaning is honoured, or that are
// preferences without bearing on a signature's validity. A critical one
// outside this list invalidates the signature (RFC 9580, section 5.2.3.7).
var understood = map[int]bool{
	subCreationTime: true, subExpiration: true, subExportable: true, subRevocable: true,
	subKeyExpiration: true, subPreferredSymmetric: true, subRevocationKey: true, subIssuer: true,
	subPreferredHash: true, subPreferredCompress: true, subKeyServerPrefs: true, subPreferredKeyServer: true,
	subPrimaryUserID: true, subPolicyURI: true, subKeyFlags: true, subSignersUserID: true,
	subRevocationReason: true, subFeatures: true, subEmbeddedSignature: true, subIssuerFingerprint: true,
	subPreferredAEAD: true, subPreferredAEADSuites: true, subTrust: true,
}

// Key flags (RFC 9580, section 5.2.3.29).
const (
	flagCertify byte = 0x01
	flagSign    byte = 0x02
)

type subpacket struct {
	id       int
	critical bool
	body     []byte
}

// readSubpackets splits a subpacket area. Lengths are checked against the area
// before anything is read by them.
//
// What was read before damage is returned with the error.
func readSubpackets(area []byte, base int) ([]subpacket, error) {
	var out []subpacket
	at := 0
	bad := func(reason string) error {
		return &FormatError{Offset: base + at, Packet: "signature", Reason: "subpacket: " + reason}
	}
	for at < len(area) {
		rest := area[at:]
		var header int
		var length uint64
		switch b := rest[0]; {
		case b < 192:
			header, length = 1, uint64(b)
		case b < 255:
			if len(rest) < 2 {
				return out, bad("it ends inside the length")
			}
			header, length = 2, uint64(b-192)<<8+uint64(rest[1])+192
		default:
			if len(rest) < 5 {
				return out, bad("it ends inside the length")
			}
			header, length = 5, uint64(binary.BigEndian.Uint32(rest[1:]))
		}
		if length == 0 {
			return out, bad("its length is zero")
		}
		if length > uint64(len(rest)-header) {
			return out, bad(fmt.Sprintf("it claims %d bytes and only %d are left", length, len(rest)-header))
		}
		body := rest[header : header+int(length)]
		out = append(out, subpacket{id: int(body[0] & 0x7f), critical: body[0]&0x80 != 0, body: body[1:]})
		at += header + int(length)
	}
	return out, nil
}

// readHashed takes the meaning of the hashed subpackets into s. The last of
// several of one type counts (RFC 9580, section 5.2.3.9).
func (s *Signature) readHashed(subs []subpacket, base int) error {
	var first error
	malformed := func(what string) {
		if first == nil {
			first = &FormatError{Offset: base, Packet: "signature", Reason: what + " subpacket of the wrong length"}
		}
	}
	for _, sub := range subs {
		switch sub.id {
		case subCreationTime:
			if len(sub.body) != 4 {
				malformed("creation time")
				continue
			}
			s.Created = time.Unix(int64(binary.BigEndian.Uint32(sub.body)), 0).UTC()
		case subExpiration:
			if len(sub.body) != 4 {
				malformed("expiration time")
				continue
			}
			s.Lifetime = time.Duration(binary.BigEndian.Uint32(sub.body)) * time.Second
		case subKeyExpiration:
			if len(sub.body) != 4 {
				malformed("key expiration time")
				continue
			}
			s.keyLifetime = time.Duration(binary.BigEndian.Uint32(sub.body)) * time.Second
		case subKeyFlags:
			s.hasKeyFlags = true
			s.keyFlags = 0
			if len(sub.body) > 0 {
				s.keyFlags = sub.body[0]
			}
		case subRevocationReason:
			if len(sub.body) < 1 {
				malformed("reason for revocation")
				continue
			}
			// Of several reasons the hardest counts: one that would leave earlier
			// signatures standing must not hide one that does not.
			if reason := RevocationReason(sub.body[0]); !s.hasReason || reason.hardness() > s.reason.hardness() {
				s.reason, s.reasonText = reason, string(sub.body[1:])
			}
			s.hasReason = true
		case subEmbeddedSignature:
			s.embedded = append(s.embedded, sub.body)
		case subPrimaryUserID:
			s.primaryUserID = len(sub.body) == 1 && sub.body[0] != 0
		}
		if sub.critical && !understood[sub.id] && s.criticalUnknown == "" {
			s.criticalUnknown = fmt.Sprintf("subpacket type %d", sub.id)
			if sub.id == subNotation {
				s.criticalUnknown = "a notation"
			}
		}
	}
	return first
}

// An area is one of the two areas of subpackets in a signature.
type area int

const (
	hashedArea area = iota
	unhashedArea
)

// readIssuer takes issuer hints from an area. They may find a key and
// vouch for nothing.
func (s *Signature) readIssuer(subs []subpacket, from area) {
	for _, sub := range subs {
		switch sub.id {
		case subIssuer:
			if len(sub.body) != 8 {
				continue
			}
			id := KeyID(binary.BigEndian.Uint64(sub.body))
			s.hints = append(s.hints, hint{id: id, hashed: from == hashedArea})
			if s.IssuerKeyID == 0 {
				s.IssuerKeyID = id
			}
		case subIssuerFingerprint:
			if len(sub.body) != 21 && len(sub.body) != 33 || (len(sub.body) == 21) != (sub.body[0] == 4) ||
				(len(sub.body) == 33) != (sub.body[0] == 6) {
				continue
			}
			s.hints = append(s.hints, hint{fingerprint: NewFingerprint(sub.body[1:]), hashed: from == hashedArea})
			if s.IssuerFingerprint == "" {
				s.IssuerFingerprint = NewFingerprint(sub.body[1:])
			}
		case subEmbeddedSignature:
			// A back signature proves itself; implementations differ in the
			// area they put it into.
			if from == unhashedArea {
				s.embedded = append(s.embedded, sub.body)
			}
		}
	}
}

// subNames are what the types are called (RFC 9580, section 5.2.3.7).
var subNames = map[int]string{
	subCreationTime:        "signature creation time",
	subExpiration:          "signature expiration time",
	subExportable:          "exportable",
	subTrust:               "trust",
	subRegularExpression:   "regular expression",
	subRevocable:           "revocable",
	subKeyExpiration:       "key expiration time",
	subPreferredSymmetric:  "preferred symmetric ciphers",
	subRevocationKey:       "revocation key",
	subIssuer:              "issuer key ID",
	subNotation:            "notation",
	subPreferredHash:       "preferred hash algorithms",
	subPreferredCompress:   "preferred compression",
	subKeyServerPrefs:      "key server preferences",
	subPreferredKeyServer:  "preferred key server",
	subPrimaryUserID:       "primary user ID",
	subPolicyURI:           "policy URI",
	subKeyFlags:            "key flags",
	subSignersUserID:       "signer's user ID",
	subRevocationReason:    "reason for revocation",
	subFeatures:            "features",
	subSignatureTarget:     "signature target",
	subEmbeddedSignature:   "embedded signature",
	subIssuerFingerprint:   "issuer fingerprint",
	subPreferredAEAD:       "preferred AEAD (draft)",
	subIntendedRecipient:   "intended recipient",
	subPreferredAEADSuites: "preferred AEAD ciphersuites",
	10:                     "placeholder for backward compatibility",
	37:                     "attested certifications (reserved)",
	38:                     "key block (reserved)",
}

// describe returns the name and the value of a subpacket, for people; the value
// is from outside and to be made harmless. What does not have the length that
// its type asks is shown in hexadecimal.
func (s subpacket) describe() (name, value string) {
	name = subNames[s.id]
	if name == "" {
		name = fmt.Sprintf("subpacket type %d", s.id)
		if s.id >= 100 && s.id <= 110 {
			name += " (private use)"
		}
	}
	if value, ok := s.value(); ok {
		return name, value
	}
	value = strings.ToUpper(hex.EncodeToString(s.body[:min(len(s.body), 64)]))
	if len(s.body) > 64 {
		value += fmt.Sprintf(" and %d bytes more", len(s.body)-64)
	}
	return name, value
}

// value reads the body as its type asks (RFC 9580, sections 5.2.3.11 to
// 5.2.3.36).
func (s subpacket) value() (value string, ok bool) {
	b := s.body
	switch s.id {
	case subCreationTime:
		if len(b) == 4 {
			return time.Unix(int64(binary.BigEndian.Uint32(b)), 0).UTC().Format(time.RFC3339), true
		}
	case subExpiration, subKeyExpiration:
		if len(b) == 4 {
			seconds := binary.BigEndian.Uint32(b)
			if seconds == 0 {
				return "never", true
			}
			return fmt.Sprintf("after %d days (%d seconds)", seconds/86400, seconds), true
		}
	case subExportable, subRevocable, subPrimaryUserID:
		if len(b) == 1 {
			return map[bool]string{true: "yes", false: "no"}[b[0] != 0], true
		}
	case subTrust:
		if len(b) == 2 {
			return fmt.Sprintf("level %d, amount %d of 255", b[0], b[1]), true
		}
	case subRegularExpression:
		return string(bytes.TrimSuffix(b, []byte{0})), true
	case subPreferredSymmetric:
		return named(b, cipherName), true
	case subPreferredHash:
		return named(b, hashName), true
	case subPreferredCompress:
		return named(b, compressionName), true
	case subPreferredAEAD:
		return named(b, aeadName), true
	case subPreferredAEADSuites:
		if len(b)%2 == 0 {
			var out []string
			for i := 0; i+1 < min(len(b), 2*maxNamed); i += 2 {
				out = append(out, cipherName(b[i])+" with "+aeadName(b[i+1]))
			}
			return strings.Join(out, ", "), true
		}
	case subRevocationKey:
		if r, ok := s.revoker(); ok {
			value := fmt.Sprintf("%s (%s) may revoke this key", plain.Grouped(string(r.Fingerprint)), r.Algorithm)
			if r.Sensitive {
				value += "; marked as not to be passed on"
			}
			return value, true
		}
	case subIssuer:
		if len(b) == 8 {
			return KeyID(binary.BigEndian.Uint64(b)).String(), true
		}
	case subNotation:
		return notation(b)
	case subKeyServerPrefs:
		return flagList(b, map[int]string{0x80: "no changes by others"}), true
	case subSignersUserID, subPolicyURI, subPreferredKeyServer:
		return string(b), true
	case subKeyFlags:
		return flagList(b, keyFlagNames), true
	case subRevocationReason:
		if len(b) > 0 {
			return fmt.Sprintf("%s: %s", RevocationReason(b[0]), b[1:]), true
		}
	case subFeatures:
		return flagList(b, featureNames), true
	case subSignatureTarget:
		if len(b) > 2 {
			return fmt.Sprintf(
				"the %s signature with the %s digest %x", KeyAlgorithm(b[0]), HashAlgorithm(b[1]), b[2:min(len(b), 66)],
			), true
		}
	case subEmbeddedSignature:
		if inner, err := parseSignature(b, 0); err == nil {
			return fmt.Sprintf("a %s signature made %s", inner.Type, inner.Created.Format(time.RFC3339)), true
		}
	case subIssuerFingerprint, subIntendedRecipient:
		if len(b) > 1 {
			return fmt.Sprintf("%s (version %d)", plain.Grouped(hex.EncodeToString(b[1:])), b[0]), true
		}
	}
	return "", false
}

// Names of what preferences list (RFC 9580, sections 9.3, 9.4 and 9.6).
var (
	cipherNames = map[byte]string{
		0:  "none",
		1:  "IDEA",
		2:  "TripleDES",
		3:  "CAST5",
		4:  "Blowfish",
		7:  "AES-128",
		8:  "AES-192",
		9:  "AES-256",
		10: "Twofish",
		11: "Camellia-128",
		12: "Camellia-192",
		13: "Camellia-256",
	}
	compressionNames = map[byte]string{0: "none", 1: "ZIP", 2: "ZLIB", 3: "BZip2"}
	aeadNames        = map[byte]string{1: "EAX", 2: "OCB", 3: "GCM"}
)

// Bits of flag fields: the number of the octet in the high byte, the bit in the
// low one (RFC 9580, sections 5.2.3.29 and 5.2.3.32).
var (
	keyFlagNames = map[int]string{
		int(flagCertify): "certify", int(flagSign): "sign", 0x04: "encrypt communications", 0x08: "encrypt storage",
		0x10: "split key", 0x20: "authenticate", 0x80: "shared key",
	}
	featureNames = map[int]string{
		0x01: "encryption with integrity protection, version 1",
		0x08: "encryption with integrity protection, version 2",
	}
)

// maxNamed bounds the entries of a preference list that are shown.
const maxNamed = 20

func nameOf(names map[byte]string, kind string, id byte) string {
	if name, ok := names[id]; ok {
		return name
	}
	return fmt.Sprintf("%s %d", kind, id)
}

// named lists what a preference lists.
func named(ids []byte, name func(byte) string) string {
	var out []string
	for _, id := range ids[:min(len(ids), maxNamed)] {
		out = append(out, name(id))
	}
	return strings.Join(out, ", ")
}

func cipherName(id byte) string      { return nameOf(cipherNames, "cipher", id) }
func compressionName(id byte) string { return nameOf(compressionNames, "compression", id) }
func aeadName(id byte) string        { return nameOf(aeadNames, "mode", id) }
func hashName(id byte) string        { return HashAlgorithm(id).String() }

// flagList names the bits that are set, from the lowest of the first octet on.
func flagList(field []byte, names map[int]string) string {
	var out []string
	for octet, b := range field[:min(len(field), maxNamed)] {
		for bit := 1; bit < 0x100; bit <<= 1 {
			if int(b)&bit == 0 {
				continue
			}
			name, ok := names[octet<<8|bit]
			if !ok {
				name = fmt.Sprintf("bit 0x%02x of octet %d", bit, octet+1)
			}
			out = append(out, name)
		}
	}
	if out == nil {
		return "none"
	}
	return strings.Join(out, ", ")
}

// notation reads a notation (RFC 9580, section 5.2.3.24). Its value is text only
// where the flag says so.
func notation(b []byte) (string, bool) {
	if len(b) < 8 {
		return "", false
	}
	n, m := int(binary.BigEndian.Uint16(b[4:])), int(binary.BigEndian.Uint16(b[6:]))
	if 8+n+m != len(b) {
		return "", false
	}
	name, value := b[8:8+n], b[8+n:]
	if b[0]&0x80 != 0 {
		return fmt.Sprintf("%s = %s", name, value), true
	}
	return fmt.Sprintf("%s = %d bytes: %x", name, len(value), value[:min(len(value), 64)]), true
}

// A Revoker is a key that may revoke another (RFC 9580, section 5.2.3.23). The
// standard has given them up; they are shown, and revoke nothing here.
type Revoker struct {
	Fingerprint Fingerprint
	Algorithm   KeyAlgorithm
	// Sensitive: the owner did not want it passed on.
	Sensitive bool
}

func (s subpacket) revoker() (Revoker, bool) {
	b := s.body
	if s.id != subRevocationKey || len(b) != 22 && len(b) != 34 || b[0]&0x80 == 0 {
		return Revoker{}, false
	}
	return Revoker{Fingerprint: NewFingerprint(b[2:]), Algorithm: KeyAlgorithm(b[1]), Sensitive: b[0]&0x40 != 0}, true
}
