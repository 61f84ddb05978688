package openpgp

import (
	"crypto"
	"crypto/md5"
	"crypto/sha256"
	"crypto/sha3"
	"crypto/sha512"
	"fmt"
	"hash"

	"github.com/pjbgf/sha1cd"
	//lint:ignore SA1019 old keys carry signatures with it, which are to be read
	"golang.org/x/crypto/ripemd160"
)

// A HashAlgorithm is a hash algorithm ID (RFC 9580, section 9.5).
type HashAlgorithm uint8

// The hash algorithms that are computed.
const (
	HashMD5       HashAlgorithm = 1
	HashSHA1      HashAlgorithm = 2
	HashRIPEMD160 HashAlgorithm = 3
	HashSHA256    HashAlgorithm = 8
	HashSHA384    HashAlgorithm = 9
	HashSHA512    HashAlgorithm = 10
	HashSHA224    HashAlgorithm = 11
	HashSHA3_256  HashAlgorithm = 12
	HashSHA3_512  HashAlgorithm = 14
)

type hashInfo struct {
	name string
	// bits is the collision resistance, log2 of the best public attack.
	bits int
	make func() hash.Hash
	// crypto is the library's name, for RSA.
	crypto crypto.Hash
	// salt is the length of a version 6 signature's salt, in bytes, or 0
	// where version 6 may not use the hash (RFC 9580, section 9.5).
	salt int
}

func (h HashAlgorithm) info() (hashInfo, bool) {
	switch h {
	case HashMD5:
		return hashInfo{"MD5", 18, md5.New, crypto.MD5, 0}, true
	case HashSHA1:
		return hashInfo{"SHA-1", 61, sha1cd.New, crypto.SHA1, 0}, true
	case HashRIPEMD160:
		return hashInfo{"RIPEMD-160", 80, ripemd160.New, crypto.RIPEMD160, 0}, true
	case HashSHA224:
		return hashInfo{"SHA-224", 112, sha256.New224, crypto.SHA224, 16}, true
	case HashSHA256:
		return hashInfo{"SHA-256", 128, sha256.New, crypto.SHA256, 16}, true
	case HashSHA384:
		return hashInfo{"SHA-384", 192, sha512.New384, crypto.SHA384, 24}, true
	case HashSHA512:
		return hashInfo{"SHA-512", 256, sha512.New, crypto.SHA512, 32}, true
	case HashSHA3_256:
		return hashInfo{"SHA3-256", 128, func() hash.Hash { return sha3.New256() }, crypto.SHA3_256, 16}, true
	case HashSHA3_512:
		return hashInfo{"SHA3-512", 256, func() hash.Hash { return sha3.New512() }, crypto.SHA3_512, 32}, true
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

// size returns the length of the digest in bytes, or 0 for an algorithm that is not known.
func (h HashAlgorithm) size() int {
	if i, ok := h.info(); ok {
		return i.crypto.Size()
	}
	return 0
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
