package pgptest

import (
	"crypto/elliptic"
	"crypto/sha512"
	"math/big"
)

// A plane is what is needed of a curve to sign with it: OID, field, the
// coefficient a, base point and its order, in hexadecimal.
type plane struct {
	oid             []byte
	p, a, gx, gy, n string
}

var planes = map[Algorithm]plane{
	Secp256k1: {
		[]byte{0x2b, 0x81, 0x04, 0x00, 0x0a},
		"fffffffffffffffffffffffffffffffffffffffffffffffffffffffefffffc2f", "0",
		"79be667ef9dcbbac55a06295ce870b07029bfcdb2dce28d959f2815b16f81798",
		"483ada7726a3c4655da4fbfc0e1108a8fd17b448a68554199c47d08ffb10d4b8",
		"fffffffffffffffffffffffffffffffebaaedce6af48a03bbfd25e8cd0364141",
	},
	Brainpool256: {
		[]byte{0x2b, 0x24, 0x03, 0x03, 0x02, 0x08, 0x01, 0x01, 0x07},
		"a9fb57dba1eea9bc3e660a909d838d726e3bf623d52620282013481d1f6e5377",
		"7d5a0975fc2c3057eef67530417affe7fb8055c126dc5c6ce94a4b44f330b5d9",
		"8bd2aeb9cb7e57cb2c4b482ffc81b7afb9de27e1e3bd23c23a4453bd9ace3262",
		"547ef835c3dac4fd97f8461a14611dc9c27745132ded8e545c1d54c72f046997",
		"a9fb57dba1eea9bc3e660a909d838d718c397aa3b561a6f7901e0e82974856a7",
	},
	Brainpool384: {
		[]byte{0x2b, 0x24, 0x03, 0x03, 0x02, 0x08, 0x01, 0x01, 0x0b},
		"8cb91e82a3386d280f5d6f7e50e641df152f7109ed5456b412b1da197fb71123acd3a729901d1a71874700133107ec53",
		"7bc382c63d8c150c3c72080ace05afa0c2bea28e4fb22787139165efba91f90f8aa5814a503ad4eb04a8c7dd22ce2826",
		"1d1c64f068cf45ffa2a63a81b7c13f6b8847a3e77ef14fe3db7fcafe0cbd10e8e826e03436d646aaef87b2e247d4af1e",
		"8abe1d7520f9c2a45cb1eb8e95cfd55262b70b29feec5864e19c054ff99129280e4646217791811142820341263c5315",
		"8cb91e82a3386d280f5d6f7e50e641df152f7109ed5456b31f166e6cac0425a7cf3ab6af6b7fc3103b883202e9046565",
	},
	Brainpool512: {
		[]byte{0x2b, 0x24, 0x03, 0x03, 0x02, 0x08, 0x01, 0x01, 0x0d},
		"aadd9db8dbe9c48b3fd4e6ae33c9fc07cb308db3b3c9d20ed6639cca703308717d4d9b009bc66842aecda12ae6a380e62881ff2f2d82c68528aa6056583a48f3",
		"7830a3318b603b89e2327145ac234cc594cbdd8d3df91610a83441caea9863bc2ded5d5aa8253aa10a2ef1c98b9ac8b57f1117a72bf2c7b9e7c1ac4d77fc94ca",
		"81aee4bdd82ed9645a21322e9c4c6a9385ed9f70b5d916c1b43b62eef4d0098eff3b1f78e2d0d48d50d1687b93b97d5f7c6d5047406a5e688b352209bcb9f822",
		"7dde385d566332ecc0eabfa9cf7822fdf209f70024a57b1aa000c55b881f8111b2dcde494a5f485e5bca4bd88a2763aed1ca2b2fa8f0540678cd1e0f3ad80892",
		"aadd9db8dbe9c48b3fd4e6ae33c9fc07cb308db3b3c9d20ed6639cca70330870553e5c414ca92619418661197fac10471db1d381085ddaddb58796829ca90069",
	},
}

func init() {
	for algorithm, known := range map[Algorithm]struct {
		oid   []byte
		curve elliptic.Curve
	}{
		P256: {[]byte{0x2a, 0x86, 0x48, 0xce, 0x3d, 0x03, 0x01, 0x07}, elliptic.P256()},
		P384: {[]byte{0x2b, 0x81, 0x04, 0x00, 0x22}, elliptic.P384()},
		P521: {[]byte{0x2b, 0x81, 0x04, 0x00, 0x23}, elliptic.P521()},
	} {
		c := known.curve.Params()
		a := new(big.Int).Sub(c.P, big.NewInt(3))
		planes[algorithm] = plane{known.oid, c.P.Text(16), a.Text(16), c.Gx.Text(16), c.Gy.Text(16), c.N.Text(16)}
	}
}

// An ecKey signs by the schoolbook, slowly and the same every time.
type ecKey struct {
	p, a, n, gx, gy, d *big.Int
	oid                []byte
	seed               string
}

func number(hex string) *big.Int {
	n, ok := new(big.Int).SetString(hex, 16)
	if !ok {
		panic("pgptest: " + hex)
	}
	return n
}

// below returns a number from 1 to n-1 that the text determines.
func below(n *big.Int, text string) *big.Int {
	block, two := sha512.Sum512([]byte(text+"/1")), sha512.Sum512([]byte(text+"/2"))
	d := new(big.Int).SetBytes(append(block[:], two[:]...))
	return d.Mod(d, new(big.Int).Sub(n, big.NewInt(1))).Add(d, big.NewInt(1))
}

func newECKey(seed string, algorithm Algorithm) *ecKey {
	c := planes[algorithm]
	k := &ecKey{
		p: number(c.p), a: number(c.a), n: number(c.n), gx: number(c.gx), gy: number(c.gy), oid: c.oid, seed: seed,
	}
	k.d = below(k.n, "endeixis test scalar "+seed)
	return k
}

// point returns the public point, uncompressed.
func (k *ecKey) point() []byte {
	x, y := k.times(k.d)
	size := (k.p.BitLen() + 7) / 8
	out := make([]byte, 1+2*size)
	out[0] = 4
	x.FillBytes(out[1 : 1+size])
	y.FillBytes(out[1+size:])
	return out
}

func (k *ecKey) sign(digest []byte) (r, s *big.Int) {
	e := new(big.Int).SetBytes(digest)
	if over := 8*len(digest) - k.n.BitLen(); over > 0 {
		e.Rsh(e, uint(over))
	}
	nonce := below(k.n, "endeixis test nonce "+k.seed+string(digest))
	r, _ = k.times(nonce)
	r.Mod(r, k.n)
	s = new(big.Int).Mul(r, k.d)
	s.Add(s, e).Mul(s, new(big.Int).ModInverse(nonce, k.n)).Mod(s, k.n)
	return r, s
}

// times multiplies the base point, in affine coordinates.
func (k *ecKey) times(scalar *big.Int) (x, y *big.Int) {
	for i := scalar.BitLen() - 1; i >= 0; i-- {
		x, y = k.add(x, y, x, y)
		if scalar.Bit(i) == 1 {
			x, y = k.add(x, y, k.gx, k.gy)
		}
	}
	return x, y
}

// add adds two points; nil is infinity.
func (k *ecKey) add(x1, y1, x2, y2 *big.Int) (x, y *big.Int) {
	switch {
	case x1 == nil:
		return x2, y2
	case x2 == nil:
		return x1, y1
	}
	top, bottom := new(big.Int).Sub(y2, y1), new(big.Int).Sub(x2, x1)
	if x1.Cmp(x2) == 0 {
		if y1.Cmp(y2) != 0 || y1.Sign() == 0 {
			return nil, nil
		}
		top.Mul(x1, x1).Mul(top, big.NewInt(3)).Add(top, k.a)
		bottom.Lsh(y1, 1)
	}
	slope := top.Mul(top, new(big.Int).ModInverse(bottom.Mod(bottom, k.p), k.p))
	slope.Mod(slope, k.p)
	x = new(big.Int).Mul(slope, slope)
	x.Sub(x, x1).Sub(x, x2).Mod(x, k.p)
	y = new(big.Int).Sub(x1, x)
	y.Mul(y, slope).Sub(y, y1).Mod(y, k.p)
	return x, y
}
