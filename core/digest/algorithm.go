// Package digest names the algorithms that publishers use for checksums, says
// how much each is worth as evidence, and computes any set of them over a
// stream in a single pass.
//
// Strength is a property of the algorithm alone. Whether a strength suffices
// is a question of policy and is answered in package judge.
package digest

import (
	"crypto/md5"
	"crypto/sha256"
	"crypto/sha3"
	"crypto/sha512"
	"encoding/json"
	"fmt"
	"hash"
	"hash/crc32"
	"strings"

	"github.com/pjbgf/sha1cd"
	"golang.org/x/crypto/blake2b"
	"golang.org/x/crypto/blake2s"
	//lint:ignore SA1019 old manifests use it, and nothing new is made with it
	"golang.org/x/crypto/ripemd160"
	"lukechampine.com/blake3"
)

// An Algorithm identifies one way of computing a digest. The zero value is
// [Unknown].
type Algorithm uint8

// The algorithms of the registry. Their order is the order in which they are
// shown and tried: weaker first within a family.
const (
	Unknown    Algorithm = iota
	CRC32                // CRC-32/ISO-HDLC, the one of zip, gzip, PNG and Ethernet
	CRC32C               // CRC-32/ISCSI (RFC 9260, appendix A), also called Castagnoli
	CRC32BZIP2           // CRC-32/BZIP2
	CRC32CKSUM           // CRC-32/CKSUM, the one of the POSIX utility, over the length too
	CRC32Bare            // CRC-32/CKSUM as it is catalogued, over the bytes alone
	MD5                  // RFC 1321
	SHA1                 // FIPS 180-4, with collision detection
	RIPEMD160            // ISO/IEC 10118-3
	SHA224               // FIPS 180-4
	SHA512224            // FIPS 180-4, SHA-512/224
	SHA3224              // FIPS 202
	SHA256               // FIPS 180-4
	SHA512256            // FIPS 180-4, SHA-512/256
	SHA3256              // FIPS 202
	BLAKE2s              // RFC 7693, 256 bits
	BLAKE2b256           // RFC 7693, BLAKE2b with 256 bits
	BLAKE3               // 256 bits
	SHA384               // FIPS 180-4
	SHA3384              // FIPS 202
	BLAKE2b384           // RFC 7693, BLAKE2b with 384 bits
	SHA512               // FIPS 180-4
	SHA3512              // FIPS 202
	BLAKE2b              // RFC 7693, 512 bits
	algorithmCount
)

// A Class says what a matching digest proves.
type Class uint8

// The strength classes.
const (
	// Checksum algorithms show accidental damage only; anyone can make other
	// content with the same value.
	Checksum Class = iota
	// Broken algorithms were built against tampering, and collisions are
	// known or within reach.
	Broken
	// Sound algorithms have no known attack better than the generic one.
	Sound
)

// String returns the class as one lower-case word.
func (c Class) String() string {
	switch c {
	case Checksum:
		return "checksum"
	case Broken:
		return "broken"
	default:
		return "sound"
	}
}

// info describes one algorithm.
type info struct {
	name   string
	size   int // bytes
	class  Class
	bits   int // collision resistance against the best public attack, log2
	labels []string
	make   func() hash.Hash
}

var registry = [algorithmCount]info{
	CRC32: {
		"CRC-32", 4, Checksum, 0,
		[]string{"crc", "crc32", "crc32isohdlc", "crc32ieee"},
		func() hash.Hash { return crc32.NewIEEE() },
	},
	CRC32C: {
		"CRC-32C", 4, Checksum, 0,
		[]string{"crc32c", "crc32iscsi", "crc32castagnoli"},
		func() hash.Hash { return crc32.New(crc32.MakeTable(crc32.Castagnoli)) },
	},
	CRC32BZIP2: {"CRC-32/BZIP2", 4, Checksum, 0, []string{"crc32bzip2"}, newCRC32BZIP2},
	CRC32CKSUM: {"CRC-32/CKSUM", 4, Checksum, 0, []string{"crc32cksum", "cksum", "crc32posix"}, newCRC32CKSUM},
	CRC32Bare: {
		"CRC-32/CKSUM without the length", 4, Checksum, 0,
		[]string{"crc32cksumwithoutthelength"},
		func() hash.Hash { return &forwardCRC{} },
	},
	MD5:       {"MD5", 16, Broken, 18, []string{"md5"}, md5.New},
	SHA1:      {"SHA-1", 20, Broken, 61, []string{"sha1", "sha"}, sha1cd.New},
	RIPEMD160: {"RIPEMD-160", 20, Sound, 80, []string{"ripemd160", "rmd160"}, ripemd160.New},
	SHA224:    {"SHA-224", 28, Sound, 112, []string{"sha224", "sha2224"}, sha256.New224},
	SHA512224: {"SHA-512/224", 28, Sound, 112, []string{"sha512224"}, sha512.New512_224},
	SHA3224:   {"SHA3-224", 28, Sound, 112, []string{"sha3224"}, func() hash.Hash { return sha3.New224() }},
	SHA256:    {"SHA-256", 32, Sound, 128, []string{"sha256", "sha2256"}, sha256.New},
	SHA512256: {"SHA-512/256", 32, Sound, 128, []string{"sha512256"}, sha512.New512_256},
	SHA3256:   {"SHA3-256", 32, Sound, 128, []string{"sha3256"}, func() hash.Hash { return sha3.New256() }},
	BLAKE2s: {
		"BLAKE2s", 32, Sound, 128,
		[]string{"blake2s", "blake2s256", "b2s256"},
		func() hash.Hash { return keyless(blake2s.New256) },
	},
	BLAKE2b256: {
		"BLAKE2b-256", 32, Sound, 128,
		[]string{"blake2b256", "b2b256"},
		func() hash.Hash { return keyless(blake2b.New256) },
	},
	BLAKE3: {
		"BLAKE3", 32, Sound, 128,
		[]string{"blake3", "blake3256", "b3"},
		func() hash.Hash { return blake3.New(32, nil) },
	},
	SHA384:  {"SHA-384", 48, Sound, 192, []string{"sha384", "sha2384"}, sha512.New384},
	SHA3384: {"SHA3-384", 48, Sound, 192, []string{"sha3384"}, func() hash.Hash { return sha3.New384() }},
	BLAKE2b384: {
		"BLAKE2b-384", 48, Sound, 192,
		[]string{"blake2b384", "b2b384"},
		func() hash.Hash { return keyless(blake2b.New384) },
	},
	SHA512:  {"SHA-512", 64, Sound, 256, []string{"sha512", "sha2512"}, sha512.New},
	SHA3512: {"SHA3-512", 64, Sound, 256, []string{"sha3512"}, func() hash.Hash { return sha3.New512() }},
	BLAKE2b: {
		"BLAKE2b", 64, Sound, 256,
		[]string{"blake2b", "blake2b512", "b2", "blake2"},
		func() hash.Hash { return keyless(blake2b.New512) },
	},
}

// keyless makes a BLAKE2 hash without a key, which cannot fail.
func keyless(make func(key []byte) (hash.Hash, error)) hash.Hash {
	h, err := make(nil)
	if err != nil {
		panic(err)
	}
	return h
}

// All returns every algorithm of the registry, weaker first.
func All() []Algorithm {
	out := make([]Algorithm, 0, algorithmCount-1)
	for a := Unknown + 1; a < algorithmCount; a++ {
		out = append(out, a)
	}
	return out
}

// known reports whether a is in the registry.
func (a Algorithm) known() bool { return a > Unknown && a < algorithmCount }

// String returns the standard's spelling of the name, such as "SHA-256".
func (a Algorithm) String() string {
	if !a.known() {
		return "unknown"
	}
	return registry[a].name
}

// Size returns the length of the digest in bytes, and 0 for [Unknown].
func (a Algorithm) Size() int {
	if !a.known() {
		return 0
	}
	return registry[a].size
}

// Class returns what a match is worth. [Unknown] is a [Checksum].
func (a Algorithm) Class() Class {
	if !a.known() {
		return Checksum
	}
	return registry[a].class
}

// CollisionBits returns the collision resistance in bits (log2 of the work of
// the best public attack). Zero means there is none at all.
func (a Algorithm) CollisionBits() int {
	if !a.known() {
		return 0
	}
	return registry[a].bits
}

// PreimageBits returns the resistance against second preimages in bits (log2 of the work
// of the best public attack that needs no memory beyond reach): how hard it is to make
// other content with the digest of content that is given. It counts where the digest is
// of our own bytes, which nobody has prepared. Zero means there is none at all.
//
// MD5 has 123 (Sasaki and Aoki, 2009); against the other hashes nothing better than the
// generic attack is known. Generic attacks on long messages gain at most as many bits as
// the content has blocks in powers of two, with tables of that size.
func (a Algorithm) PreimageBits() int {
	switch {
	case a.Class() == Checksum:
		return 0
	case a == MD5:
		return 123
	default:
		return 8 * a.Size()
	}
}

// New returns a fresh hash. It panics for an algorithm outside the registry,
// which is a mistake of the program and not of its input.
func (a Algorithm) New() hash.Hash {
	if !a.known() {
		panic("digest: New of an unknown algorithm")
	}
	return registry[a].make()
}

// MarshalText writes the name, and nothing for [Unknown].
func (a Algorithm) MarshalText() ([]byte, error) {
	if !a.known() {
		return nil, nil
	}
	return []byte(a.String()), nil
}

// UnmarshalText reads a label in any spelling that [Parse] accepts.
func (a *Algorithm) UnmarshalText(text []byte) error {
	if len(text) == 0 {
		*a = Unknown
		return nil
	}
	parsed, err := Parse(string(text))
	if err != nil {
		return err
	}
	*a = parsed
	return nil
}

// MarshalJSON writes the name as a string, and null for [Unknown].
func (a Algorithm) MarshalJSON() ([]byte, error) {
	if !a.known() {
		return []byte("null"), nil
	}
	return json.Marshal(a.String())
}

// UnmarshalJSON reads what MarshalJSON writes.
func (a *Algorithm) UnmarshalJSON(b []byte) error {
	var s *string
	if err := json.Unmarshal(b, &s); err != nil {
		return err
	}
	if s == nil {
		*a = Unknown
		return nil
	}
	return a.UnmarshalText([]byte(*s))
}

// An UnknownAlgorithmError reports a label that names nothing in the registry.
type UnknownAlgorithmError struct {
	// Label is the label as it was written.
	Label string
}

// Error lists the names that would have been understood.
func (e *UnknownAlgorithmError) Error() string {
	names := make([]string, 0, algorithmCount)
	for _, a := range All() {
		names = append(names, a.String())
	}
	return fmt.Sprintf("no digest algorithm is called %q; known are %s", e.Label, strings.Join(names, ", "))
}

// Parse finds an algorithm by label. Case, hyphens, underscores, slashes and
// spaces do not matter: "sha_512-256" is SHA-512/256. It returns an
// [*UnknownAlgorithmError] when nothing fits.
func Parse(label string) (Algorithm, error) {
	if len(label) <= maxLabel {
		var folded [maxLabel]byte
		if a, ok := byLabel[string(fold(folded[:0], label))]; ok {
			return a, nil
		}
	}
	return Unknown, &UnknownAlgorithmError{Label: label}
}

// maxLabel bounds the labels that are looked up.
const maxLabel = 32

// byLabel are the algorithms by their labels, in the form of fold.
var byLabel = func() map[string]Algorithm {
	out := map[string]Algorithm{}
	for _, a := range All() {
		for _, label := range registry[a].labels {
			if _, taken := out[label]; !taken {
				out[label] = a
			}
		}
	}
	return out
}()

// fold appends a label to out in small letters, without the signs between its parts.
func fold(out []byte, label string) []byte {
	for i := range len(label) {
		c := label[i]
		switch {
		case c == '-', c == '_', c == '/', c == ' ':
			continue
		case 'A' <= c && c <= 'Z':
			c += 'a' - 'A'
		}
		out = append(out, c)
	}
	return out
}

// likeliest lists the algorithms by digest length, in the order in which a
// value without a label is most often one of them.
var likeliest = map[int][]Algorithm{
	4:  {CRC32, CRC32C, CRC32BZIP2, CRC32CKSUM, CRC32Bare},
	16: {MD5},
	20: {SHA1, RIPEMD160},
	28: {SHA224, SHA512224, SHA3224},
	32: {SHA256, SHA512256, SHA3256, BLAKE2s, BLAKE2b256, BLAKE3},
	48: {SHA384, SHA3384, BLAKE2b384},
	64: {SHA512, SHA3512, BLAKE2b},
}

// OfSize returns the algorithms whose digests are n bytes long, the likeliest
// first, and nil when there is none. The caller must not change the slice.
func OfSize(n int) []Algorithm { return likeliest[n] }

// singles holds one slice for each algorithm, so that a million entries of one
// algorithm share it.
var singles = func() (out [algorithmCount][]Algorithm) {
	for a := range algorithmCount {
		out[a] = []Algorithm{a}
	}
	return out
}()

// Only returns a slice with just a. The caller must not change it.
func Only(a Algorithm) []Algorithm {
	if !a.known() {
		return nil
	}
	return singles[a]
}

// Strongest returns the algorithm with the most collision resistance, or
// [Unknown] for an empty list.
func Strongest(algorithms []Algorithm) Algorithm {
	best := Unknown
	for _, a := range algorithms {
		if best == Unknown || a.CollisionBits() > best.CollisionBits() {
			best = a
		}
	}
	return best
}
