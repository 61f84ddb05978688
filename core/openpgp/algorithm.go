package openpgp

import (
	"crypto/md5"
	"crypto/sha256"
	"crypto/sha512"
	"fmt"
	"hash"

	"github.com/pjbgf/sha1cd"
)

// A HashAlgorithm is a hash algorithm ID (RFC 9580, section 9.5).
type HashAlgorithm uint8

// The hash algorithms that are computed.
const (
	HashMD5    HashAlgorithm = 1
	HashSHA1   HashAlgorithm = 2
	HashSHA256 HashAlgorithm = 8
	HashSHA384 HashAlgorithm = 9
	HashSHA512 HashAlgorithm = 10
	HashSHA224 HashAlgorithm = 11
)

type hashInfo struct {
	name string
	// bits is the collision resistance, log2 of the best public attack.
	bits int
	make func() hash.Hash
	// prefix is the ASN.1 DigestInfo header for RSA (RFC 9580, section 5.2.2).
	prefix string
}

func (h HashAlgorithm) info() (hashInfo, bool) {
	switch h {
	case HashMD5:
		return hashInfo{"MD5", 18, md5.New, ""}, true
	case HashSHA1:
		return hashInfo{"SHA-1", 61, sha1cd.New, ""}, true
	case HashSHA224:
		return hashInfo{"SHA-224", 112, sha256.New224, ""}, true
	case HashSHA256:
		return hashInfo{"SHA-256", 128, sha256.New, ""}, true
	case HashSHA384:
		return hashInfo{"SHA-384", 192, sha512.New384, ""}, true
	case HashSHA512:
		return hashInfo{"SHA-512", 256, sha512.New, ""}, true
	}
	return hashInfo{}, false
}

// String returns the algorithm's name, or its number when it is not known.
func (h HashAlgorithm) String() string {
	if i, ok := h.info(); ok {
		return i.name
	}
	return fmt.Sprintf("hash algorithm %d", uint8(h))
}

// CollisionBits returns the collision resistance in bits.
func (h HashAlgorithm) CollisionBits() int {
	i, _ := h.info()
	return i.bits
}

// New returns a fresh hash, or an [*UnsupportedError].
func (h HashAlgorithm) New() (hash.Hash, error) {
	i, ok := h.info()
	if !ok {
		return nil, &UnsupportedError{What: h.String()}
	}
	return i.make(), nil
}

// A KeyAlgorithm is a public-key algorithm ID (RFC 9580, section 9.1).
type KeyAlgorithm uint8

// The public-key algorithms that are named.
const (
	RSA            KeyAlgorithm = 1
	RSAEncryptOnly KeyAlgorithm = 2
	RSASignOnly    KeyAlgorithm = 3
	Elgamal        KeyAlgorithm = 16
	DSA            KeyAlgorithm = 17
	ECDH           KeyAlgorithm = 18
	ECDSA          KeyAlgorithm = 19
	EdDSALegacy    KeyAlgorithm = 22
	X25519         KeyAlgorithm = 25
	X448           KeyAlgorithm = 26
	Ed25519        KeyAlgorithm = 27
	Ed448          KeyAlgorithm = 28
)

var keyAlgorithmNames = map[KeyAlgorithm]string{
	RSA: "RSA", RSAEncryptOnly: "RSA (encryption only)", RSASignOnly: "RSA (signing only)", Elgamal: "Elgamal",
	DSA: "DSA", ECDH: "ECDH", ECDSA: "ECDSA", EdDSALegacy: "Ed25519 (legacy encoding)",
	X25519: "X25519", X448: "X448", Ed25519: "Ed25519", Ed448: "Ed448",
}

// String returns the algorithm's name, or its number when it is not known.
func (a KeyAlgorithm) String() string {
	if name, ok := keyAlgorithmNames[a]; ok {
		return name
	}
	return fmt.Sprintf("public-key algorithm %d", uint8(a))
}

// Verifies reports whether this package can verify signatures of this
// algorithm.
func (a KeyAlgorithm) Verifies() bool {
	switch a {
	case RSA, RSASignOnly, EdDSALegacy, Ed25519:
		return true
	}
	return false
}
