package openpgp

import (
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
				return nil, bad("it ends inside the length")
			}
			header, length = 2, uint64(b-192)<<8+uint64(rest[1])+192
		default:
			if len(rest) < 5 {
				return nil, bad("it ends inside the length")
			}
			header, length = 5, uint64(binary.BigEndian.Uint32(rest[1:]))
		}
		if length == 0 {
			return nil, bad("its length is zero")
		}
		if length > uint64(len(rest)-header) {
			return nil, bad(fmt.Sprintf("it claims %d bytes and only %d are left", length, len(rest)-header))
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
	malformed := func(what string) error {
		return &FormatError{Offset: base, Packet: "signature", Reason: what + " subpacket of the wrong length"}
	}
	for _, sub := range subs {
		switch sub.id {
		case subCreationTime:
			if len(sub.body) != 4 {
				return malformed("creation time")
			}
			s.Created = time.Unix(int64(binary.BigEndian.Uint32(sub.body)), 0).UTC()
		case subExpiration:
			if len(sub.body) != 4 {
				return malformed("expiration time")
			}
			s.Lifetime = time.Duration(binary.BigEndian.Uint32(sub.body)) * time.Second
		case subKeyExpiration:
			if len(sub.body) != 4 {
				return malformed("key expiration time")
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
				return malformed("reason for revocation")
			}
			s.hasReason = true
			s.reason = RevocationReason(sub.body[0])
			s.reasonText = string(sub.body[1:])
		case subEmbeddedSignature:
			s.embedded = sub.body
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
	return nil
}

// readIssuer takes issuer hints from either area. They may find a key and
// vouch for nothing.
func (s *Signature) readIssuer(subs []subpacket) {
	for _, sub := range subs {
		switch sub.id {
		case subIssuer:
			if len(sub.body) == 8 && s.IssuerKeyID == 0 {
				s.IssuerKeyID = KeyID(binary.BigEndian.Uint64(sub.body))
			}
		case subIssuerFingerprint:
			if (len(sub.body) == 21 && sub.body[0] == 4 || len(sub.body) == 33 && sub.body[0] == 6) && s.IssuerFingerprint == "" {
				s.IssuerFingerprint = NewFingerprint(sub.body[1:])
			}
		case subEmbeddedSignature:
			// A back signature proves itself; implementations differ in the
			// area they put it into.
			if s.embedded == nil {
				s.embedded = sub.body
			}
		}
	}
}

// subNames are what the types are called (RFC 9580, section 5.2.3.7).
var subNames = map[int]string{
	subCreationTime: "signature creation time", subExpiration: "signature expiration time", subExportable: "exportable", subTrust: "trust",
	subRegularExpression: "regular expression", subRevocable: "revocable", subKeyExpiration: "key expiration time",
	subPreferredSymmetric: "preferred symmetric ciphers", subRevocationKey: "revocation key", subIssuer: "issuer key ID", subNotation: "notation",
	subPreferredHash: "preferred hash algorithms", subPreferredCompress: "preferred compression", subKeyServerPrefs: "key server preferences",
	subPreferredKeyServer: "preferred key server", subPrimaryUserID: "primary user ID", subPolicyURI: "policy URI", subKeyFlags: "key flags",
	subSignersUserID: "signer's user ID", subRevocationReason: "reason for revocation", subFeatures: "features", subSignatureTarget: "signature target",
	subEmbeddedSignature: "embedded signature", subIssuerFingerprint: "issuer fingerprint", subPreferredAEAD: "preferred AEAD (draft)",
	subIntendedRecipient: "intended recipient", subPreferredAEADSuites: "preferred AEAD ciphersuites",
}

// describe returns the name and the value of a subpacket, for people; the value
// is from outside and to be made harmless.
func (s subpacket) describe() (name, value string) {
	name = subNames[s.id]
	if name == "" {
		name = fmt.Sprintf("subpacket type %d", s.id)
	}
	b := s.body
	switch {
	case s.id == subCreationTime && len(b) == 4:
		return name, time.Unix(int64(binary.BigEndian.Uint32(b)), 0).UTC().Format(time.RFC3339)
	case (s.id == subExpiration || s.id == subKeyExpiration) && len(b) == 4:
		seconds := binary.BigEndian.Uint32(b)
		if seconds == 0 {
			return name, "never"
		}
		return name, fmt.Sprintf("after %d days (%d seconds)", seconds/86400, seconds)
	case (s.id == subExportable || s.id == subRevocable || s.id == subPrimaryUserID) && len(b) == 1:
		return name, map[bool]string{true: "yes", false: "no"}[b[0] != 0]
	case s.id == subTrust && len(b) == 2:
		return name, fmt.Sprintf("level %d, amount %d", b[0], b[1])
	case s.id == subKeyFlags && len(b) > 0:
		return name, flagNames(b[0])
	case s.id == subRevocationReason && len(b) > 0:
		return name, fmt.Sprintf("%s: %s", RevocationReason(b[0]), b[1:])
	case s.id == subNotation && len(b) >= 8:
		n := int(binary.BigEndian.Uint16(b[4:]))
		if 8+n <= len(b) {
			return name, fmt.Sprintf("%s = %s", b[8:8+n], b[8+n:])
		}
	case s.id == subSignersUserID || s.id == subPolicyURI || s.id == subPreferredKeyServer || s.id == subRegularExpression:
		return name, string(b)
	case s.id == subPreferredHash:
		var names []string
		for _, h := range b[:min(len(b), 20)] {
			names = append(names, HashAlgorithm(h).String())
		}
		return name, strings.Join(names, ", ")
	case s.id == subIssuerFingerprint && len(b) > 1:
		return name, fmt.Sprintf("%s (version %d)", plain.Grouped(hex.EncodeToString(b[1:])), b[0])
	case s.id == subEmbeddedSignature:
		if inner, err := parseSignature(b, 0); err == nil {
			return name, fmt.Sprintf("a %s signature made %s", inner.Type, inner.Created.Format(time.RFC3339))
		}
	}
	return name, strings.ToUpper(hex.EncodeToString(b[:min(len(b), 64)]))
}

func flagNames(flags byte) string {
	var out []string
	for _, f := range []struct {
		bit  byte
		name string
	}{{flagCertify, "certify"}, {flagSign, "sign"}, {0x04, "encrypt communications"}, {0x08, "encrypt storage"}, {0x10, "split key"}, {0x20, "authenticate"}, {0x80, "shared key"}} {
		if flags&f.bit != 0 {
			out = append(out, f.name)
		}
	}
	if out == nil {
		return "none"
	}
	return strings.Join(out, ", ")
}
