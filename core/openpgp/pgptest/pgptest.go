// Package pgptest makes OpenPGP certificates and signatures for tests and for
// demo data, from seeds: the same seed gives the same bytes, keys, fingerprints
// and signatures every time.
//
// It writes packets by its own code and shares none with package openpgp, so
// that a mistake of the reader is not repeated by the writer. It can also make
// what must be refused: [Sig] leaves every field of a signature open.
//
// Keys made from a seed protect nothing. Never use them outside tests.
package pgptest

import (
	"bytes"
	"compress/zlib"
	"crypto"
	"crypto/ed25519"
	"crypto/md5"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha3"
	"crypto/sha512"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"hash"
	"math/big"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/cloudflare/circl/sign/ed448"
	//lint:ignore SA1019 old keys carry signatures with it
	"golang.org/x/crypto/ripemd160"
)

// An Algorithm is a kind of key that can be made.
type Algorithm int

// The kinds of key.
const (
	RSA2048       Algorithm = iota
	RSA1024                 // too short for any sensible policy
	RSA4096                 // slow to make; its primes come from the seed
	Ed25519                 // RFC 9580, algorithm 27
	Ed25519Legacy           // RFC 9580, algorithm 22
	Elgamal                 // a public key for encryption that cannot sign
	ECDH                    // one on Curve25519, that cannot sign either
	P256                    // ECDSA, with its curve
	P384
	P521
	Secp256k1
	Brainpool256
	Brainpool384
	Brainpool512
	Ed448
	DSA1024 // with a prime of 160 bits
	DSA2048 // with a prime of 256 bits; slow to make
	// DSA2048Short has a prime of 160 bits, to which it cuts every digest.
	DSA2048Short
)

// Hash algorithm IDs for [Sig].
const (
	MD5    = 1
	SHA1   = 2
	SHA256 = 8
	SHA384 = 9
	SHA512 = 10
	SHA224 = 11

	RIPEMD160 = 3
	SHA3_256  = 12
	SHA3_512  = 14
)

// Signature types for [Sig].
const (
	Binary           = 0x00
	Text             = 0x01
	Certification    = 0x13
	SubkeyBinding    = 0x18
	PrimaryBinding   = 0x19
	DirectKey        = 0x1f
	KeyRevocation    = 0x20
	SubkeyRevocation = 0x28
	CertRevocation   = 0x30
	Timestamp        = 0x40
)

// Key flags for [Flags].
const (
	MayCertify = 0x01
	MaySign    = 0x02
	MayEncrypt = 0x0c
)

// A Key can sign.
type Key struct {
	Created   time.Time
	Algorithm Algorithm
	body      []byte
	id        byte // public-key algorithm ID
	version   byte
	rsa       *rsa.PrivateKey
	ed        ed25519.PrivateKey
	ed448     ed448.PrivateKey
	ec        *ecKey
	dsa       *dsaKey
	anybodys  bool
}

// SmallOrder makes an Ed25519 key of which the point is the neutral one: the signature
// that it makes holds over anything, for a verifier that does not look at the key.
func SmallOrder(created time.Time) *Key {
	k := NewKey("", Ed25519, created)
	neutral := k.body[len(k.body)-ed25519.PublicKeySize:]
	clear(neutral)
	neutral[0], k.anybodys = 1, true
	return k
}

// NewKey makes a version 4 key from a seed.
func NewKey(seed string, algorithm Algorithm, created time.Time) *Key {
	return newKey(seed, algorithm, created, 4)
}

// NewKey6 makes a version 6 key from a seed.
func NewKey6(seed string, algorithm Algorithm, created time.Time) *Key {
	return newKey(seed, algorithm, created, 6)
}

// NewKey3 makes a version 3 key, which is always RSA.
func NewKey3(seed string, created time.Time) *Key { return newKey(seed, RSA2048, created, 3) }

func newKey(seed string, algorithm Algorithm, created time.Time, version byte) *Key {
	k := &Key{Created: created, Algorithm: algorithm, version: version}
	var body []byte // the algorithm's number and its own fields
	switch algorithm {
	case RSA2048, RSA1024, RSA4096:
		k.id = 1
		k.rsa = rsaKey(seed, map[Algorithm]int{RSA1024: 1024, RSA2048: 2048, RSA4096: 4096}[algorithm])
		body = append(body, 1)
		body = append(body, mpi(k.rsa.N.Bytes())...)
		body = append(body, mpi(big.NewInt(int64(k.rsa.E)).Bytes())...)
	case Ed25519, Ed25519Legacy:
		s := sha256.Sum256([]byte("endeixis test key " + seed))
		k.ed = ed25519.NewKeyFromSeed(s[:])
		public := k.ed.Public().(ed25519.PublicKey)
		if algorithm == Ed25519 {
			k.id = 27
			body = append(append(body, 27), public...)
		} else {
			k.id = 22
			body = append(body, 22, 9, 0x2b, 0x06, 0x01, 0x04, 0x01, 0xda, 0x47, 0x0f, 0x01)
			body = append(body, mpi(append([]byte{0x40}, public...))...)
		}
	case P256, P384, P521, Secp256k1, Brainpool256, Brainpool384, Brainpool512:
		k.id = 19
		k.ec = newECKey(seed, algorithm)
		body = append(append(body, 19, byte(len(k.ec.oid))), k.ec.oid...)
		body = append(body, mpi(k.ec.point())...)
	case Ed448:
		k.id = 28
		s := sha512.Sum512([]byte("endeixis test key " + seed))
		k.ed448 = ed448.NewKeyFromSeed(s[:ed448.SeedSize])
		body = append(append(body, 28), k.ed448.Public().(ed448.PublicKey)...)
	case DSA1024, DSA2048, DSA2048Short:
		k.id = 17
		k.dsa = newDSAKey(seed, algorithm)
		body = append(body, 17)
		for _, n := range []*big.Int{k.dsa.p, k.dsa.q, k.dsa.g, k.dsa.y} {
			body = append(body, mpi(n.Bytes())...)
		}
	case ECDH:
		k.id = 18
		point := sha256.Sum256([]byte("endeixis test point " + seed))
		body = append(body, 18, 10, 0x2b, 0x06, 0x01, 0x04, 0x01, 0x97, 0x55, 0x01, 0x05, 0x01)
		body = append(body, mpi(append([]byte{0x40}, point[:]...))...)
		body = append(body, 3, 1, SHA256, 7)
	case Elgamal:
		k.id = 16
		body = append(body, 16)
		for range 3 {
			body = append(body, mpi([]byte{0x7b, 0x01})...)
		}
	}
	head := binary.BigEndian.AppendUint32([]byte{version}, uint32(created.Unix()))
	switch version {
	case 3:
		head = append(head, 0, 0) // valid for ever
		head = append(head, body[0])
	case 6:
		head = binary.BigEndian.AppendUint32(append(head, body[0]), uint32(len(body)-1))
	default:
		head = append(head, body[0])
	}
	k.body = slices.Concat(head, body[1:])
	return k
}

// A dsaKey signs by the schoolbook.
type dsaKey struct {
	p, q, g, x, y *big.Int
	seed          string
}

var dsaKeys sync.Map // seed and size → *dsaKey

func newDSAKey(seed string, algorithm Algorithm) *dsaKey {
	bits, order := 1024, 160
	if algorithm == DSA2048 {
		bits, order = 2048, 256
	}
	if algorithm == DSA2048Short {
		bits, order = 2048, 160
	}
	name := fmt.Sprintf("%s/%d", seed, bits)
	if algorithm == DSA2048Short {
		name += "/160"
	}
	if k, ok := dsaKeys.Load(name); ok {
		return k.(*dsaKey)
	}
	stream := rand.NewChaCha8(sha256.Sum256([]byte("endeixis test group " + name)))
	draw := func(bits int) *big.Int {
		buf := make([]byte, bits/8)
		stream.Read(buf) //nolint:errcheck // never fails
		buf[0] |= 0x80
		return new(big.Int).SetBytes(buf)
	}
	unit := big.NewInt(1)
	k := &dsaKey{seed: seed}
	for k.q = draw(order); !k.q.ProbablyPrime(20); k.q = draw(order) {
	}
	twice := new(big.Int).Lsh(k.q, 1)
	for {
		p := draw(bits)
		p.Sub(p, new(big.Int).Mod(p, twice)).Add(p, unit) // 1 above a multiple of 2q
		if p.BitLen() == bits && p.ProbablyPrime(20) {
			k.p = p
			break
		}
	}
	exponent := new(big.Int).Div(new(big.Int).Sub(k.p, unit), k.q)
	for h := int64(2); ; h++ {
		if k.g = new(big.Int).Exp(big.NewInt(h), exponent, k.p); k.g.Cmp(unit) > 0 {
			break
		}
	}
	k.x = below(k.q, "endeixis test exponent "+seed)
	k.y = new(big.Int).Exp(k.g, k.x, k.p)
	dsaKeys.Store(name, k)
	return k
}

func (k *dsaKey) sign(digest []byte) (r, s *big.Int) {
	e := new(big.Int).SetBytes(digest[:min(len(digest), k.q.BitLen()/8)])
	nonce := below(k.q, "endeixis test nonce "+k.seed+string(digest))
	r = new(big.Int).Exp(k.g, nonce, k.p)
	r.Mod(r, k.q)
	s = new(big.Int).Mul(k.x, r)
	s.Add(s, e).Mul(s, new(big.Int).ModInverse(nonce, k.q)).Mod(s, k.q)
	return r, s
}

var rsaKeys sync.Map // seed and size → *rsa.PrivateKey

// rsaKey finds two primes in a stream that the seed determines. The standard
// library's generator is not deterministic on purpose.
func rsaKey(seed string, bits int) *rsa.PrivateKey {
	name := fmt.Sprintf("%s/%d", seed, bits)
	if k, ok := rsaKeys.Load(name); ok {
		return k.(*rsa.PrivateKey)
	}
	stream := rand.NewChaCha8(sha256.Sum256([]byte("endeixis test primes " + name)))
	e := big.NewInt(65537)
	unit := big.NewInt(1)
	prime := func() *big.Int {
		buf := make([]byte, bits/16)
		for {
			stream.Read(buf) //nolint:errcheck // never fails
			buf[0] |= 0xc0
			buf[len(buf)-1] |= 1
			p := new(big.Int).SetBytes(buf)
			if p.ProbablyPrime(20) && new(big.Int).GCD(nil, nil, e, new(big.Int).Sub(p, unit)).Cmp(unit) == 0 {
				return p
			}
		}
	}
	p, q := prime(), prime()
	phi := new(big.Int).Mul(new(big.Int).Sub(p, unit), new(big.Int).Sub(q, unit))
	k := &rsa.PrivateKey{
		PublicKey: rsa.PublicKey{N: new(big.Int).Mul(p, q), E: 65537},
		D:         new(big.Int).ModInverse(e, phi),
		Primes:    []*big.Int{p, q},
	}
	k.Precompute()
	rsaKeys.Store(name, k)
	return k
}

func mpi(b []byte) []byte {
	b = bytes.TrimLeft(b, "\x00")
	bits := 0
	if len(b) > 0 {
		bits = 8*(len(b)-1) + big.NewInt(int64(b[0])).BitLen()
	}
	return append([]byte{byte(bits >> 8), byte(bits)}, b...)
}

// Fingerprint returns the fingerprint as lower-case hexadecimal.
func (k *Key) Fingerprint() string { return hex.EncodeToString(k.fingerprint()) }

func (k *Key) fingerprint() []byte {
	switch k.version {
	case 3:
		sum := md5.Sum(append(k.rsa.N.Bytes(), big.NewInt(int64(k.rsa.E)).Bytes()...))
		return sum[:]
	case 6:
		sum := sha256.Sum256(k.prefixed())
		return sum[:]
	}
	sum := sha1.Sum(k.prefixed())
	return sum[:]
}

// keyID returns the eight bytes by which old signatures name a key.
func (k *Key) keyID() []byte {
	switch k.version {
	case 3:
		n := k.rsa.N.Bytes()
		return n[len(n)-8:]
	case 6:
		return k.fingerprint()[:8]
	}
	return k.fingerprint()[12:]
}

func (k *Key) prefixed() []byte {
	if k.version == 6 {
		return append(binary.BigEndian.AppendUint32([]byte{0x9b}, uint32(len(k.body))), k.body...)
	}
	return append([]byte{0x99, byte(len(k.body) >> 8), byte(len(k.body))}, k.body...)
}

// A Sub is one subpacket of a signature.
type Sub struct {
	Type     byte
	Critical bool
	Body     []byte
}

// Flags returns a key-flags subpacket.
func Flags(flags byte) Sub { return Sub{Type: 27, Body: []byte{flags}} }

// KeyExpires returns a key-expiration subpacket; after counts from the key's
// creation.
func KeyExpires(after time.Duration) Sub { return Sub{Type: 9, Body: seconds(after)} }

// Expires returns a signature-expiration subpacket.
func Expires(after time.Duration) Sub { return Sub{Type: 3, Body: seconds(after)} }

// Reason returns a reason-for-revocation subpacket.
func Reason(code byte, text string) Sub {
	return Sub{Type: 29, Body: append([]byte{code}, text...)}
}

func seconds(d time.Duration) []byte {
	return binary.BigEndian.AppendUint32(nil, uint32(d/time.Second))
}

// Sig describes a signature to be made. The zero value is a binary document
// signature with SHA-256.
type Sig struct {
	Type     byte
	Hash     byte // 0 means SHA-256, or a longer one where the key asks for it
	Created  time.Time
	NoTime   bool   // leave the creation time out
	NoIssuer bool   // leave both issuer subpackets out
	Hashed   []Sub  // added to creation time and issuer fingerprint
	Unhashed []Sub  // added to the issuer key ID
	Version  byte   // 0 means that of the key; another number is written as it is
	Salt     []byte // of a version 6 signature; nil means one of the right length
}

// hash returns the hash algorithm that goes with the key: one that is long enough for it.
func (k *Key) hash() byte {
	switch k.Algorithm {
	case P384, Brainpool384:
		return SHA384
	case P521, Brainpool512, Ed448:
		return SHA512
	default:
		return SHA256
	}
}

// Sign returns a signature packet over data.
func (k *Key) Sign(data []byte, spec Sig) []byte {
	return Packet(2, k.signature(data, spec))
}

// signature returns the body of a signature packet of the key's version, or of
// version 3 when the spec says so.
func (k *Key) signature(data []byte, spec Sig) []byte {
	if spec.Hash == 0 {
		spec.Hash = k.hash()
	}
	if spec.Version == 0 {
		spec.Version = k.version
	}
	if spec.Type == Text {
		text := bytes.ReplaceAll(data, []byte("\r\n"), []byte("\n"))
		data = bytes.ReplaceAll(text, []byte("\n"), []byte("\r\n"))
	}
	h, c := newHash(spec.Hash)
	created := binary.BigEndian.AppendUint32(nil, uint32(spec.Created.Unix()))
	if spec.Version == 3 {
		h.Write(data)
		h.Write(append([]byte{spec.Type}, created...))
		digest := h.Sum(nil)
		body := append([]byte{3, 5, spec.Type}, created...)
		body = append(append(body, k.keyID()...), k.id, spec.Hash)
		return append(append(body, digest[:2]...), k.values(digest, c)...)
	}
	var hashed, unhashed []Sub
	if !spec.NoTime {
		hashed = append(hashed, Sub{Type: 2, Body: created})
	}
	if !spec.NoIssuer {
		hashed = append(hashed, Sub{Type: 33, Body: append([]byte{k.version}, k.fingerprint()...)})
		if k.version != 6 {
			unhashed = append(unhashed, Sub{Type: 16, Body: k.keyID()})
		}
	}
	size := func(n int) []byte {
		if k.version == 6 {
			return binary.BigEndian.AppendUint32(nil, uint32(n))
		}
		return []byte{byte(n >> 8), byte(n)}
	}
	hashedArea := area(append(hashed, spec.Hashed...))
	body := append([]byte{spec.Version, spec.Type, k.id, spec.Hash}, size(len(hashedArea))...)
	body = append(body, hashedArea...)

	var salt []byte
	if k.version == 6 {
		sum := sha512.Sum512(append(bytes.Clone(data), created...))
		salt = sum[:map[byte]int{SHA224: 16, SHA256: 16, SHA384: 24, SHA512: 32, SHA3_256: 16, SHA3_512: 32}[spec.Hash]]
		if spec.Salt != nil {
			salt = spec.Salt
		}
		h.Write(salt)
	}
	h.Write(data)
	h.Write(body)
	h.Write(binary.BigEndian.AppendUint32([]byte{spec.Version, 0xff}, uint32(len(body))))
	digest := h.Sum(nil)

	unhashedArea := area(append(unhashed, spec.Unhashed...))
	body = append(body, size(len(unhashedArea))...)
	body = append(body, unhashedArea...)
	body = append(body, digest[:2]...)
	if k.version == 6 {
		body = append(append(body, byte(len(salt))), salt...)
	}
	return append(body, k.values(digest, c)...)
}

// values signs a digest and returns the algorithm's own fields.
func (k *Key) values(digest []byte, c crypto.Hash) []byte {
	two := func(r, s *big.Int) []byte { return append(mpi(r.Bytes()), mpi(s.Bytes())...) }
	switch {
	case k.anybodys:
		return append([]byte{1}, make([]byte, ed25519.SignatureSize-1)...)
	case k.rsa != nil:
		value, err := rsa.SignPKCS1v15(nil, k.rsa, c, digest)
		if err != nil {
			panic(err)
		}
		return mpi(value)
	case k.ec != nil:
		return two(k.ec.sign(digest))
	case k.dsa != nil:
		return two(k.dsa.sign(digest))
	case k.id == 27:
		return ed25519.Sign(k.ed, digest)
	case k.id == 28:
		return ed448.Sign(k.ed448, digest, "")
	case k.id == 22:
		value := ed25519.Sign(k.ed, digest)
		return append(mpi(value[:32]), mpi(value[32:])...)
	}
	panic("pgptest: this kind of key cannot sign")
}

func newHash(id byte) (hash.Hash, crypto.Hash) {
	switch id {
	case MD5:
		return md5.New(), crypto.MD5
	case SHA1:
		return sha1.New(), crypto.SHA1
	case SHA256:
		return sha256.New(), crypto.SHA256
	case SHA384:
		return sha512.New384(), crypto.SHA384
	case SHA512:
		return sha512.New(), crypto.SHA512
	case SHA224:
		return sha256.New224(), crypto.SHA224
	case SHA3_256:
		return sha3.New256(), crypto.SHA3_256
	case SHA3_512:
		return sha3.New512(), crypto.SHA3_512
	case RIPEMD160:
		return ripemd160.New(), crypto.RIPEMD160
	}
	panic(fmt.Sprintf("pgptest: no hash algorithm %d", id))
}

func area(subs []Sub) []byte {
	var out []byte
	for _, s := range subs {
		n := len(s.Body) + 1
		switch {
		case n < 192:
			out = append(out, byte(n))
		case n < 8384:
			out = append(out, byte((n-192)>>8)+192, byte(n-192))
		default:
			out = binary.BigEndian.AppendUint32(append(out, 255), uint32(n))
		}
		id := s.Type
		if s.Critical {
			id |= 0x80
		}
		out = append(append(out, id), s.Body...)
	}
	return out
}

// Packet frames a body in the OpenPGP format with the shortest length.
func Packet(tag byte, body []byte) []byte {
	out := []byte{0xc0 | tag}
	switch n := len(body); {
	case n < 192:
		out = append(out, byte(n))
	case n < 8384:
		out = append(out, byte((n-192)>>8)+192, byte(n-192))
	default:
		out = binary.BigEndian.AppendUint32(append(out, 255), uint32(n))
	}
	return append(out, body...)
}

// LegacyPacket frames a body in the legacy format with a two-byte length.
func LegacyPacket(tag byte, body []byte) []byte {
	return append([]byte{0x80 | tag<<2 | 1, byte(len(body) >> 8), byte(len(body))}, body...)
}

// A Certificate collects packets around a primary key. Its methods return it,
// so that calls can be chained.
type Certificate struct {
	Primary *Key
	packets []byte
}

// NewCertificate starts a certificate.
func NewCertificate(primary *Key) *Certificate {
	return &Certificate{Primary: primary, packets: Packet(6, primary.body)}
}

// Simple returns a certificate with one user ID, whose primary key may certify
// and sign, self-signed when it was created.
func Simple(seed string, algorithm Algorithm, created time.Time, userID string) *Certificate {
	return NewCertificate(NewKey(seed, algorithm, created)).
		UserID(userID, Sig{Created: created, Hashed: []Sub{Flags(MayCertify | MaySign)}})
}

// UserID adds a user ID with a self-certification. Its type defaults to a
// positive certification.
func (c *Certificate) UserID(id string, spec Sig) *Certificate {
	if spec.Type == 0 {
		spec.Type = Certification
	}
	c.packets = append(c.packets, Packet(13, []byte(id))...)
	return c.Certify(c.Primary, id, spec)
}

// Certify adds a certification, or its revocation, of the user ID just added,
// by any key.
func (c *Certificate) Certify(by *Key, id string, spec Sig) *Certificate {
	c.packets = append(c.packets, OverUserID(c.Primary, by, id, spec)...)
	return c
}

// OverUserID returns a certification of a user ID of a key, or its revocation, by any key. One
// of version 3 hashes the bare user ID (RFC 9580, section 5.2.4).
func OverUserID(of, by *Key, id string, spec Sig) []byte {
	data := of.prefixed()
	if spec.Version != 3 {
		data = append(data, binary.BigEndian.AppendUint32([]byte{0xb4}, uint32(len(id)))...)
	}
	return by.Sign(append(data, id...), spec)
}

// OverSubkey returns a signature by the primary key over a subkey of it.
func OverSubkey(primary, sub *Key, spec Sig) []byte {
	return primary.Sign(append(primary.prefixed(), sub.prefixed()...), spec)
}

// OverKey returns a signature over a primary key alone, by any key.
func OverKey(of, by *Key, spec Sig) []byte { return by.Sign(of.prefixed(), spec) }

// Key adds a signature over the primary key alone, such as a direct-key
// signature or a revocation. Call it before UserID and Subkey.
func (c *Certificate) Key(by *Key, spec Sig) *Certificate {
	c.packets = append(c.packets, by.Sign(c.Primary.prefixed(), spec)...)
	return c
}

// Subkey adds a subkey with a binding. back, when not nil, is embedded as the
// primary-key binding signature that a signing subkey needs.
func (c *Certificate) Subkey(sub *Key, spec Sig, back *Sig) *Certificate {
	signatures := append(c.Primary.prefixed(), sub.prefixed()...)
	if spec.Type == 0 {
		spec.Type = SubkeyBinding
	}
	if back != nil {
		b := *back
		if b.Type == 0 {
			b.Type = PrimaryBinding
		}
		spec.Unhashed = append(spec.Unhashed, Sub{Type: 32, Body: sub.signature(signatures, b)})
	}
	c.packets = append(c.packets, Packet(14, sub.body)...)
	c.packets = append(c.packets, c.Primary.Sign(signatures, spec)...)
	return c
}

// BackSignature returns the body of a primary-key binding signature by sub, as
// a genuine subkey carries it.
func BackSignature(primary, sub *Key, spec Sig) []byte {
	spec.Type = PrimaryBinding
	return sub.signature(append(primary.prefixed(), sub.prefixed()...), spec)
}

// RevokeSubkey adds a revocation of the subkey just added.
func (c *Certificate) RevokeSubkey(sub *Key, spec Sig) *Certificate {
	spec.Type = SubkeyRevocation
	c.packets = append(c.packets, c.Primary.Sign(append(c.Primary.prefixed(), sub.prefixed()...), spec)...)
	return c
}

// Add adds packets as they are.
func (c *Certificate) Add(packets []byte) *Certificate {
	c.packets = append(c.packets, packets...)
	return c
}

// Bytes returns the certificate in binary form.
func (c *Certificate) Bytes() []byte { return bytes.Clone(c.packets) }

// Armored returns the certificate in armor.
func (c *Certificate) Armored() []byte { return Armor("PGP PUBLIC KEY BLOCK", c.packets) }

// Secret returns packets shaped like a secret key. The secret part is zeros:
// what matters to a reader is that it was offered.
func (c *Certificate) Secret() []byte {
	return Packet(5, append(bytes.Clone(c.Primary.body), 0, 0, 1, 1, 0, 2))
}

// Literal returns a literal data packet.
func Literal(name string, content []byte) []byte {
	body := append([]byte{'b', byte(len(name))}, name...)
	return Packet(11, append(append(body, 0, 0, 0, 0), content...))
}

// Compressed wraps packets in a compressed data packet (ZLIB).
func Compressed(packets []byte) []byte {
	var b bytes.Buffer
	b.WriteByte(2)
	w := zlib.NewWriter(&b)
	w.Write(packets) //nolint:errcheck // into memory
	w.Close()
	return Packet(8, b.Bytes())
}

// Message returns content with signatures in one file (RFC 9580, section 10.3).
func Message(content []byte, spec Sig, keys ...*Key) []byte {
	var head, tail []byte
	for i, k := range keys {
		hash := spec.Hash
		if hash == 0 {
			hash = k.hash()
		}
		onePass := append([]byte{3, spec.Type, hash, k.id}, k.keyID()...)
		last := byte(0)
		if i == len(keys)-1 {
			last = 1
		}
		head = append(head, Packet(4, append(onePass, last))...)
		tail = append(k.Sign(content, spec), tail...)
	}
	return append(append(head, Literal("", content)...), tail...)
}

// Partial frames a body of data in parts of 512 bytes.
func Partial(tag byte, body []byte) []byte {
	out := []byte{0xc0 | tag}
	for len(body) >= 512 {
		out = append(append(out, 224+9), body[:512]...)
		body = body[512:]
	}
	return append(append(out, 255, 0, 0, byte(len(body)>>8), byte(len(body))), body...)
}

// Cleartext puts a text into the cleartext signature framework (RFC 9580,
// section 7), signed by each of the keys. hash is 0 for SHA-256.
func Cleartext(text string, spec Sig, keys ...*Key) []byte {
	var escaped, signed []string
	for _, line := range strings.Split(text, "\n") {
		signed = append(signed, strings.TrimRight(line, " \t\r"))
		if strings.HasPrefix(line, "-") {
			line = "- " + line
		}
		escaped = append(escaped, line)
	}
	var sigs []byte
	spec.Type = Text
	for _, k := range keys {
		sigs = append(sigs, k.Sign([]byte(strings.Join(signed, "\n")), spec)...)
	}
	return []byte(
		"-----BEGIN PGP SIGNED MESSAGE-----\nHash: SHA256\n\n" + strings.Join(escaped, "\n") + "\n" + string(
			Armor("PGP SIGNATURE", sigs),
		),
	)
}

// Armor wraps data in ASCII armor (RFC 9580, section 6.2).
func Armor(kind string, data []byte) []byte {
	var b strings.Builder
	fmt.Fprintf(&b, "-----BEGIN %s-----\n\n", kind)
	text := base64.StdEncoding.EncodeToString(data)
	for len(text) > 64 {
		b.WriteString(text[:64] + "\n")
		text = text[64:]
	}
	fmt.Fprintf(&b, "%s\n-----END %s-----\n", text, kind)
	return []byte(b.String())
}
