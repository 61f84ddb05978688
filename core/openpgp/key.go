package openpgp

import (
	"bytes"
	//lint:ignore SA1019 old keys are of this kind, and their signatures are to be verified
	"crypto/dsa"
	"crypto/ed25519"
	"crypto/md5"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"math/big"
	"slices"
	"sync"
	"time"

	"github.com/cloudflare/circl/sign/ed448"
)

// A Fingerprint identifies a key: 16 bytes for version 3, 20 for version 4, 32
// for version 6 (RFC 9580, section 5.5.4). It reads and writes as lower-case
// hexadecimal.
type Fingerprint string

// NewFingerprint makes a Fingerprint of the binary form.
func NewFingerprint(b []byte) Fingerprint { return Fingerprint(hex.EncodeToString(b)) }

// Bytes returns the binary form.
func (f Fingerprint) Bytes() []byte {
	b, _ := hex.DecodeString(string(f))
	return b
}

// keyID returns the key ID that goes with the fingerprint of a key of version 4 or 6, or 0.
func (f Fingerprint) keyID() KeyID {
	switch b := f.Bytes(); len(b) {
	case sha1.Size:
		return KeyID(binary.BigEndian.Uint64(b[12:]))
	case sha256.Size:
		return KeyID(binary.BigEndian.Uint64(b))
	}
	return 0
}

// A KeyID is the short, ambiguous name of a key: the low 64 bits of a version 4
// fingerprint, the high 64 bits of a version 6 one, the low 64 bits of the
// modulus of a version 3 key. It may find a key; it never identifies one.
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

// curve25519Legacy is the OID 1.3.6.1.4.1.3029.1.5.1 without tag and length
// (RFC 9580, section 9.2).
var curve25519Legacy = []byte{0x2b, 0x06, 0x01, 0x04, 0x01, 0x97, 0x55, 0x01, 0x05, 0x01}

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
	ed448    ed448.PublicKey
	dsa      *dsa.PublicKey
	dsaSound func() bool // whether its parameters are, worked out once
	ec       *ecPublic
	modulus  []byte // of an RSA key, as written
	exponent []byte
	// validity is that of a version 3 key; zero means for ever.
	validity time.Duration
	// wrapping tells how an ECDH key wraps session keys, for people.
	wrapping string
	curve    string // of an ECDH key, for people
	unusable string // why no signature by this key can be verified, or ""
}

// Unusable says why no signature by this key can be verified, or returns the
// empty string.
func (k *PublicKey) Unusable() string { return k.unusable }

// Curve returns the name of the curve of a key that signs, of [Curves], or the
// empty string.
func (k *PublicKey) Curve() string {
	switch {
	case k.ec != nil:
		return k.ec.curve.name
	case k.ed25519 != nil:
		return "Ed25519"
	case k.ed448 != nil:
		return "Ed448"
	}
	return ""
}

// Describe returns algorithm and size, such as "RSA 4096".
func (k *PublicKey) Describe() string {
	switch k.Algorithm {
	case RSA, RSASignOnly, RSAEncryptOnly:
		return fmt.Sprintf("%s %d", k.Algorithm, k.Bits)
	case DSA, Elgamal:
		return fmt.Sprintf("%s %d", k.Algorithm, k.Bits)
	case ECDH:
		return "ECDH " + k.curve
	case ECDSA:
		if k.ec != nil {
			return "ECDSA " + k.ec.curve.name
		}
	default: // the name says it all
	}
	return k.Algorithm.String()
}

// readPublicKey reads a key of version 3, 4 or 6 (RFC 9580, section 5.5.2).
func readPublicKey(p *packet) (*PublicKey, error) {
	c := &cursor{data: p.body, base: p.end - len(p.body), packet: tagName(p.tag)}
	k := &PublicKey{body: bytes.Clone(p.body), Subkey: p.tag == tagPublicSubkey}
	k.Version = int(c.byte("version"))
	if c.err != nil {
		return nil, c.err
	}
	switch k.Version {
	case 3, 4:
		if len(p.body) > 0xffff {
			c.fail(fmt.Sprintf("a version %d key cannot be this long", k.Version))
			return nil, c.err
		}
	case 6:
	default:
		return nil, &UnsupportedError{What: fmt.Sprintf("key version %d", k.Version)}
	}
	k.Created = time.Unix(int64(c.uint32("creation time")), 0).UTC()
	if k.Version == 3 {
		k.validity = time.Duration(c.uint16("days of validity")) * 24 * time.Hour
	}
	k.Algorithm = KeyAlgorithm(c.byte("algorithm"))
	if k.Version == 6 {
		if n := c.uint32("length of the key material"); c.err == nil && int64(n) != int64(len(c.data)-c.at) {
			c.fail(fmt.Sprintf("the key material is stated to be %d bytes long, and %d are there", n, len(c.data)-c.at))
		}
	}
	k.material(c)
	if err := c.finish(); err != nil {
		return nil, err
	}
	k.identify()
	return k, nil
}

// material reads the algorithm's own fields.
func (k *PublicKey) material(c *cursor) {
	switch k.Algorithm {
	case RSA, RSASignOnly, RSAEncryptOnly:
		n, e := c.mpi("modulus"), c.mpi("exponent")
		k.modulus, k.exponent = n, e
		k.setRSA(n, e)
	case DSA:
		k.setDSA(c.mpi("prime p"), c.mpi("prime q"), c.mpi("generator"), c.mpi("value y"))
	case ECDSA:
		oid := c.bytes(int(c.byte("curve")), "curve")
		k.setECDSA(oid, c.mpi("point"))
	case EdDSALegacy:
		oid := c.bytes(int(c.byte("curve")), "curve")
		point := c.mpi("point")
		k.setEdDSALegacy(oid, point)
	case Ed25519:
		k.setEd25519(c.bytes(ed25519.PublicKeySize, "key"))
	case Ed448:
		k.Bits = 448
		k.ed448 = bytes.Clone(c.bytes(ed448.PublicKeySize, "key"))
		if len(k.ed448) == ed448.PublicKeySize {
			k.unusable = edwards448Trouble(k.ed448)
		}
	case ECDH, Elgamal:
		k.encryption(c)
	default:
		// The fingerprint and the bindings can be shown; signatures by this
		// key cannot be checked.
		c.rest()
		k.unusable = k.Algorithm.String() + " keys are shown, and not used for verification"
	}
	if k.Version == 6 && k.Algorithm == EdDSALegacy {
		k.unusable = "the legacy encoding of Ed25519 is not allowed in keys of version 6"
	}
	if k.Version == 3 {
		// Their fingerprint does not cover all of the key, and their key ID
		// can be chosen freely (RFC 9580, section 5.5.4.1).
		k.unusable = "keys of version 3 are shown, and never used: their fingerprint can be forged"
	}
}

// identify computes fingerprint and key ID.
func (k *PublicKey) identify() {
	switch k.Version {
	case 3:
		h := md5.New()
		h.Write(k.modulus)
		h.Write(k.exponent)
		k.Fingerprint = NewFingerprint(h.Sum(nil))
		if len(k.modulus) >= 8 {
			k.KeyID = KeyID(binary.BigEndian.Uint64(k.modulus[len(k.modulus)-8:]))
		}
	case 4:
		h := sha1.New()
		k.hashInto(h)
		sum := h.Sum(nil)
		k.Fingerprint = NewFingerprint(sum)
		k.KeyID = KeyID(binary.BigEndian.Uint64(sum[12:]))
	default:
		h := sha256.New()
		k.hashInto(h)
		sum := h.Sum(nil)
		k.Fingerprint = NewFingerprint(sum)
		k.KeyID = KeyID(binary.BigEndian.Uint64(sum))
	}
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
	case !exponent.IsInt64() || exponent.Int64() < minRSAExponent || exponent.Int64() > maxRSAExponent ||
		exponent.Bit(0) == 0:
		k.unusable = "the RSA exponent is out of bounds"
	default:
		k.rsa = &rsa.PublicKey{N: modulus, E: int(exponent.Int64())}
	}
}

// dsaSizes are the sizes in bits of p and q that FIPS 186-4, section 4.2,
// allows, and those that old keys have.
var dsaSizes = map[int][]int{160: {1024, 2048, 3072}, 224: {2048}, 256: {2048, 3072}}

// setDSA takes a DSA key whose parameters are not obviously wrong. That the
// generator has the order q is checked when a signature is.
func (k *PublicKey) setDSA(p, q, g, y []byte) {
	key := &dsa.PublicKey{
		Parameters: dsa.Parameters{
			P: new(big.Int).SetBytes(p), Q: new(big.Int).SetBytes(q), G: new(big.Int).SetBytes(g),
		},
		Y: new(big.Int).SetBytes(y),
	}
	k.Bits = key.P.BitLen()
	unit := big.NewInt(1)
	switch {
	case !slices.Contains(dsaSizes[key.Q.BitLen()], k.Bits) &&
		!(key.Q.BitLen() == 160 && k.Bits >= 1024 && k.Bits <= 3072 && k.Bits%64 == 0):
		k.unusable = fmt.Sprintf("the DSA primes have %d and %d bits, which is not allowed", k.Bits, key.Q.BitLen())
	case key.P.Bit(0) == 0 || key.Q.Bit(0) == 0:
		k.unusable = "a DSA prime is even"
	case key.G.Cmp(unit) <= 0 || key.G.Cmp(key.P) >= 0 || key.Y.Cmp(unit) <= 0 || key.Y.Cmp(key.P) >= 0:
		k.unusable = "a DSA value is out of bounds"
	default:
		k.dsa = key
		k.dsaSound = sync.OnceValue(func() bool {
			return new(big.Int).Mod(new(big.Int).Sub(key.P, unit), key.Q).Sign() == 0 && key.Q.ProbablyPrime(10) &&
				new(big.Int).
					Exp(key.G, key.Q, key.P).
					Cmp(unit) == 0 && new(big.Int).Exp(key.Y, key.Q, key.P).Cmp(unit) == 0
		})
	}
}

// verifyDSA checks a signature by a key whose parameters are sound.
func verifyDSA(key *dsa.PublicKey, digest, r, s []byte) bool {
	if size := (key.Q.BitLen() + 7) / 8; len(digest) > size {
		digest = digest[:size] // the leftmost bits count: FIPS 186-4, section 4.6
	}
	return dsa.Verify(key, digest, new(big.Int).SetBytes(r), new(big.Int).SetBytes(s))
}

func (k *PublicKey) setECDSA(oid, point []byte) {
	c := curveOf(oid)
	if c == nil {
		k.unusable = "its curve is not one that is verified here"
		return
	}
	k.Bits = c.bits
	if k.ec = newECPublic(c, point); k.ec == nil {
		k.unusable = "its point is not on the curve " + c.name
	}
}

// encryption reads what is to be shown of a key that is never used here. Damage
// in it is no reason to refuse the certificate.
func (k *PublicKey) encryption(c *cursor) {
	k.unusable = k.Algorithm.String() + " keys are for encryption"
	in := *c
	if k.Algorithm == Elgamal {
		p := in.mpi("prime p")
		in.mpi("generator")
		in.mpi("value y")
		k.Bits = new(big.Int).SetBytes(p).BitLen()
	} else {
		k.setECDH(&in)
	}
	if in.finish() != nil {
		k.unusable += ", and its material is damaged"
	}
	c.rest()
}

// setECDH reads an encryption key on a curve (RFC 9580, section 5.5.5.6.1).
func (k *PublicKey) setECDH(c *cursor) {
	oid := c.bytes(int(c.byte("curve")), "curve")
	c.mpi("point")
	kdf := c.bytes(int(c.byte("key derivation")), "key derivation")
	k.curve = "on a curve that is not known"
	switch known := curveOf(oid); {
	case bytes.Equal(oid, curve25519Legacy):
		k.curve, k.Bits = "Curve25519", 255
	case known != nil:
		k.curve, k.Bits = known.name, known.bits
	}
	if len(kdf) >= 3 {
		k.wrapping = fmt.Sprintf("%s, %s", HashAlgorithm(kdf[1]), cipherName(kdf[2]))
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
		k.setEd25519(point[1:])
	}
}

// setEd25519 takes the key itself; what is too short was noted by the caller.
func (k *PublicKey) setEd25519(point []byte) {
	k.Bits = 255
	k.ed25519 = bytes.Clone(point)
	if len(point) == ed25519.PublicKeySize {
		k.unusable = edwards25519Trouble(point)
	}
}

// hashInto writes the key the way fingerprints and certifications hash it.
func (k *PublicKey) hashInto(w interface{ Write([]byte) (int, error) }) {
	for _, piece := range k.framed() {
		w.Write(piece) //nolint:errcheck // hashes do not fail
	}
}

// leastHash returns how many bytes the digest of a signature by the key has at least: for
// ECDSA as many as the order of the curve has bits, rounded down to what hashes have; 32 for
// Ed25519 in either encoding and 64 for Ed448 (RFC 9580, sections 5.2.3.2 to 5.2.3.5 and 9.2);
// for other keys any number.
func (k *PublicKey) leastHash() int {
	switch {
	case k.ec != nil:
		return min((k.ec.curve.bits+7)/8, 64)
	case k.ed25519 != nil:
		return 32
	case k.ed448 != nil:
		return 64
	}
	return 0
}

// tooShort reports whether the standard asks for a longer hash than that of a signature by
// the key.
func (k *PublicKey) tooShort(s *Signature) bool { return s.Hash.size() < k.leastHash() }

// verify checks the signature's values over a finished digest. It returns nil
// when the cryptography holds.
func (k *PublicKey) verify(s *Signature, digest []byte) error {
	if k.unusable != "" {
		return &UnsupportedError{What: k.unusable}
	}
	if (s.Version == 6) != (k.Version == 6) {
		return errOtherVersion
	}
	if s.KeyAlgorithm != k.Algorithm && !(k.rsa != nil && (s.KeyAlgorithm == RSA || s.KeyAlgorithm == RSASignOnly)) {
		return errOtherAlgorithm
	}
	held := false
	switch {
	case k.rsa != nil:
		info, _ := s.Hash.info()
		if len(s.values[0]) > k.rsa.Size() {
			return rsa.ErrVerification
		}
		value := make([]byte, k.rsa.Size())
		copy(value[len(value)-len(s.values[0]):], s.values[0])
		return rsa.VerifyPKCS1v15(k.rsa, info.crypto, digest, value)
	case k.dsa != nil:
		held = k.dsaSound() && verifyDSA(k.dsa, digest, s.values[0], s.values[1])
	case k.ec != nil:
		held = k.ec.verify(digest, s.values[0], s.values[1])
	case k.ed25519 != nil:
		value, ok := s.ed25519Value()
		held = ok && ed25519.Verify(k.ed25519, digest, value)
	case k.ed448 != nil:
		held = ed448.Verify(k.ed448, digest, s.values[0], "")
	}
	if !held {
		return errDoesNotHold
	}
	return nil
}

var (
	errDoesNotHold    = &FormatError{Reason: "the signature does not hold"}
	errOtherAlgorithm = &FormatError{Reason: "the signature is of another algorithm than the key"}
	errOtherVersion   = &FormatError{Reason: "the signature's version does not go with the key's"}
)
