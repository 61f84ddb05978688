package openpgp

import (
	"bytes"
	"crypto"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/sha1"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"math/big"
	"time"
)

// A Fingerprint identifies a key: 20 bytes for version 4 (RFC 9580, section
// 5.5.4.2). It reads and writes as lower-case hexadecimal.
type Fingerprint string

// NewFingerprint makes a Fingerprint of the binary form.
func NewFingerprint(b []byte) Fingerprint { return Fingerprint(hex.EncodeToString(b)) }

// Bytes returns the binary form.
func (f Fingerprint) Bytes() []byte {
	b, _ := hex.DecodeString(string(f))
	return b
}

// A KeyID is the short, ambiguous name of a key: the low 64 bits of a version 4
// fingerprint. It may find a key; it never identifies one.
type KeyID uint64

// String returns 16 upper-case hexadecimal digits.
func (id KeyID) String() string { return fmt.Sprintf("%016X", uint64(id)) }

const (
	// maxRSABits bounds the modulus. Larger keys cost seconds to verify with
	// and protect nobody.
	maxRSABits = 16384
	// minRSAExponent and maxRSAExponent bound the public exponent.
	minRSAExponent = 3
	maxRSAExponent = 1<<31 - 1
)

// ed25519Legacy is the OID 1.3.6.1.4.1.11591.15.1 without tag and length
// (RFC 9580, section 9.2).
var ed25519Legacy = []byte{0x2b, 0x06, 0x01, 0x04, 0x01, 0xda, 0x47, 0x0f, 0x01}

// A PublicKey is a primary key or subkey.
type PublicKey struct {
	Version     int
	Algorithm   KeyAlgorithm
	Created     time.Time
	Fingerprint Fingerprint
	KeyID       KeyID
	// Bits is the size of the modulus, or of the curve's field.
	Bits int
	// Subkey tells a subkey from a primary key.
	Subkey bool

	body     []byte // the packet's body, as it is hashed
	rsa      *rsa.PublicKey
	ed25519  ed25519.PublicKey
	unusable string // why no signature by this key can be verified, or ""
}

// Unusable says why no signature by this key can be verified, or returns the
// empty string.
func (k *PublicKey) Unusable() string { return k.unusable }

// Describe returns algorithm and size, such as "RSA 4096".
func (k *PublicKey) Describe() string {
	switch k.Algorithm {
	case RSA, RSASignOnly, RSAEncryptOnly:
		return fmt.Sprintf("%s %d", k.Algorithm, k.Bits)
	}
	return k.Algorithm.String()
}

func readPublicKey(p *packet) (*PublicKey, error) {
	c := &cursor{data: p.body, base: p.end - len(p.body), packet: tagName(p.tag)}
	k := &PublicKey{body: bytes.Clone(p.body), Subkey: p.tag == tagPublicSubkey}
	k.Version = int(c.byte("version"))
	if c.err != nil {
		return nil, c.err
	}
	if k.Version != 4 {
		return nil, &UnsupportedError{What: fmt.Sprintf("key version %d", k.Version)}
	}
	if len(p.body) > 0xffff {
		c.fail("a version 4 key cannot be this long")
		return nil, c.err
	}
	k.Created = time.Unix(int64(c.uint32("creation time")), 0).UTC()
	k.Algorithm = KeyAlgorithm(c.byte("algorithm"))
	switch k.Algorithm {
	case RSA, RSASignOnly, RSAEncryptOnly:
		n, e := c.mpi("modulus"), c.mpi("exponent")
		k.setRSA(n, e)
	case EdDSALegacy:
		oid := c.bytes(int(c.byte("curve")), "curve")
		point := c.mpi("point")
		k.setEdDSALegacy(oid, point)
	case Ed25519:
		k.ed25519 = bytes.Clone(c.bytes(ed25519.PublicKeySize, "key"))
		k.Bits = 255
	default:
		// The fingerprint and the bindings can be shown; signatures by this
		// key cannot be checked.
		c.rest()
		k.unusable = k.Algorithm.String() + " keys are shown, and not used for verification"
	}
	if err := c.finish(); err != nil {
		return nil, err
	}
	h := sha1.New()
	k.hashInto(h)
	sum := h.Sum(nil)
	k.Fingerprint = NewFingerprint(sum)
	k.KeyID = KeyID(binary.BigEndian.Uint64(sum[12:]))
	return k, nil
}

func (k *PublicKey) setRSA(n, e []byte) {
	modulus, exponent := new(big.Int).SetBytes(n), new(big.Int).SetBytes(e)
	k.Bits = modulus.BitLen()
	switch {
	case k.Algorithm == RSAEncryptOnly:
		k.unusable = "the key is for encryption only"
	case k.Bits > maxRSABits:
		k.unusable = fmt.Sprintf("the RSA modulus has %d bits; more than %d is refused", k.Bits, maxRSABits)
	case k.Bits < 1024:
		k.unusable = fmt.Sprintf("the RSA modulus has only %d bits", k.Bits)
	case modulus.Bit(0) == 0:
		k.unusable = "the RSA modulus is even"
	case !exponent.IsInt64() || exponent.Int64() < minRSAExponent || exponent.Int64() > maxRSAExponent || exponent.Bit(0) == 0:
		k.unusable = "the RSA exponent is out of bounds"
	default:
		k.rsa = &rsa.PublicKey{N: modulus, E: int(exponent.Int64())}
	}
}

func (k *PublicKey) setEdDSALegacy(oid, point []byte) {
	k.Bits = 255
	switch {
	case !bytes.Equal(oid, ed25519Legacy):
		k.unusable = "the curve is not Ed25519"
	case len(point) != 33 || point[0] != 0x40:
		k.unusable = "the point is not in the native encoding"
	default:
		k.ed25519 = bytes.Clone(point[1:])
	}
}

// hashInto writes the key the way fingerprints and certifications hash it
// (RFC 9580, section 5.2.4): 0x99, two length bytes, the body.
func (k *PublicKey) hashInto(w interface{ Write([]byte) (int, error) }) {
	w.Write([]byte{0x99, byte(len(k.body) >> 8), byte(len(k.body))}) //nolint:errcheck // hashes do not fail
	w.Write(k.body)                                                  //nolint:errcheck
}

// verify checks the signature's values over a finished digest. It returns nil
// when the cryptography holds.
func (k *PublicKey) verify(s *Signature, digest []byte) error {
	if k.unusable != "" {
		return &UnsupportedError{What: k.unusable}
	}
	switch {
	case k.rsa != nil && (s.KeyAlgorithm == RSA || s.KeyAlgorithm == RSASignOnly):
		h, ok := map[HashAlgorithm]crypto.Hash{
			HashMD5: crypto.MD5, HashSHA1: crypto.SHA1, HashSHA224: crypto.SHA224,
			HashSHA256: crypto.SHA256, HashSHA384: crypto.SHA384, HashSHA512: crypto.SHA512,
		}[s.Hash]
		if !ok {
			return &UnsupportedError{What: s.Hash.String()}
		}
		if len(s.values[0]) > k.rsa.Size() {
			return rsa.ErrVerification
		}
		value := make([]byte, k.rsa.Size())
		copy(value[len(value)-len(s.values[0]):], s.values[0])
		return rsa.VerifyPKCS1v15(k.rsa, h, digest, value)
	case k.ed25519 != nil && s.KeyAlgorithm == k.Algorithm:
		value, ok := s.ed25519Value()
		if !ok || !ed25519.Verify(k.ed25519, digest, value) {
			return errEd25519
		}
		return nil
	}
	return errOtherAlgorithm
}

var (
	errEd25519        = &FormatError{Reason: "the Ed25519 signature does not hold"}
	errOtherAlgorithm = &FormatError{Reason: "the signature is of another algorithm than the key"}
)
