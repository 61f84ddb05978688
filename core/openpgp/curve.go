package openpgp

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"math/big"
)

// A curve is one of the named curves of RFC 9580, section 9.2.
type curve struct {
	name string
	oid  []byte
	bits int
	// standard is the library's implementation, where there is one.
	standard elliptic.Curve
	// p, a, b, gx, gy and n are the domain parameters of the others, in
	// hexadecimal: y² = x³ + ax + b over p, base point G of order n.
	p, a, b, gx, gy, n string
}

// curves are those that ECDSA is verified on. The parameters are those of
// RFC 5639, section 3, and of SEC 2, section 2.4.1.
var curves = []curve{
	{name: "P-256", bits: 256, standard: elliptic.P256(), oid: []byte{0x2a, 0x86, 0x48, 0xce, 0x3d, 0x03, 0x01, 0x07}},
	{name: "P-384", bits: 384, standard: elliptic.P384(), oid: []byte{0x2b, 0x81, 0x04, 0x00, 0x22}},
	{name: "P-521", bits: 521, standard: elliptic.P521(), oid: []byte{0x2b, 0x81, 0x04, 0x00, 0x23}},
	{
		name: "secp256k1", bits: 256, oid: []byte{0x2b, 0x81, 0x04, 0x00, 0x0a},
		p:  "fffffffffffffffffffffffffffffffffffffffffffffffffffffffefffffc2f",
		a:  "0",
		b:  "7",
		gx: "79be667ef9dcbbac55a06295ce870b07029bfcdb2dce28d959f2815b16f81798",
		gy: "483ada7726a3c4655da4fbfc0e1108a8fd17b448a68554199c47d08ffb10d4b8",
		n:  "fffffffffffffffffffffffffffffffebaaedce6af48a03bbfd25e8cd0364141",
	},
	{
		name: "brainpoolP256r1", bits: 256, oid: []byte{0x2b, 0x24, 0x03, 0x03, 0x02, 0x08, 0x01, 0x01, 0x07},
		p:  "a9fb57dba1eea9bc3e660a909d838d726e3bf623d52620282013481d1f6e5377",
		a:  "7d5a0975fc2c3057eef67530417affe7fb8055c126dc5c6ce94a4b44f330b5d9",
		b:  "26dc5c6ce94a4b44f330b5d9bbd77cbf958416295cf7e1ce6bccdc18ff8c07b6",
		gx: "8bd2aeb9cb7e57cb2c4b482ffc81b7afb9de27e1e3bd23c23a4453bd9ace3262",
		gy: "547ef835c3dac4fd97f8461a14611dc9c27745132ded8e545c1d54c72f046997",
		n:  "a9fb57dba1eea9bc3e660a909d838d718c397aa3b561a6f7901e0e82974856a7",
	},
	{
		name: "brainpoolP384r1", bits: 384, oid: []byte{0x2b, 0x24, 0x03, 0x03, 0x02, 0x08, 0x01, 0x01, 0x0b},
		p:  "8cb91e82a3386d280f5d6f7e50e641df152f7109ed5456b412b1da197fb71123acd3a729901d1a71874700133107ec53",
		a:  "7bc382c63d8c150c3c72080ace05afa0c2bea28e4fb22787139165efba91f90f8aa5814a503ad4eb04a8c7dd22ce2826",
		b:  "04a8c7dd22ce28268b39b55416f0447c2fb77de107dcd2a62e880ea53eeb62d57cb4390295dbc9943ab78696fa504c11",
		gx: "1d1c64f068cf45ffa2a63a81b7c13f6b8847a3e77ef14fe3db7fcafe0cbd10e8e826e03436d646aaef87b2e247d4af1e",
		gy: "8abe1d7520f9c2a45cb1eb8e95cfd55262b70b29feec5864e19c054ff99129280e4646217791811142820341263c5315",
		n:  "8cb91e82a3386d280f5d6f7e50e641df152f7109ed5456b31f166e6cac0425a7cf3ab6af6b7fc3103b883202e9046565",
	},
	{
		name: "brainpoolP512r1",
		bits: 512,
		oid:  []byte{0x2b, 0x24, 0x03, 0x03, 0x02, 0x08, 0x01, 0x01, 0x0d},
		p:    "aadd9db8dbe9c48b3fd4e6ae33c9fc07cb308db3b3c9d20ed6639cca703308717d4d9b009bc66842aecda12ae6a380e62881ff2f2d82c68528aa6056583a48f3",
		a:    "7830a3318b603b89e2327145ac234cc594cbdd8d3df91610a83441caea9863bc2ded5d5aa8253aa10a2ef1c98b9ac8b57f1117a72bf2c7b9e7c1ac4d77fc94ca",
		b:    "3df91610a83441caea9863bc2ded5d5aa8253aa10a2ef1c98b9ac8b57f1117a72bf2c7b9e7c1ac4d77fc94cadc083e67984050b75ebae5dd2809bd638016f723",
		gx:   "81aee4bdd82ed9645a21322e9c4c6a9385ed9f70b5d916c1b43b62eef4d0098eff3b1f78e2d0d48d50d1687b93b97d5f7c6d5047406a5e688b352209bcb9f822",
		gy:   "7dde385d566332ecc0eabfa9cf7822fdf209f70024a57b1aa000c55b881f8111b2dcde494a5f485e5bca4bd88a2763aed1ca2b2fa8f0540678cd1e0f3ad80892",
		n:    "aadd9db8dbe9c48b3fd4e6ae33c9fc07cb308db3b3c9d20ed6639cca70330870553e5c414ca92619418661197fac10471db1d381085ddaddb58796829ca90069",
	},
}

// Curves lists the names of the curves on which signatures are verified.
func Curves() []string {
	out := []string{"Ed25519", "Ed448"}
	for _, c := range curves {
		out = append(out, c.name)
	}
	return out
}

func curveOf(oid []byte) *curve {
	for i := range curves {
		if bytes.Equal(curves[i].oid, oid) {
			return &curves[i]
		}
	}
	return nil
}

// An ecPublic is a point on a curve, checked to be one.
type ecPublic struct {
	curve *curve
	// standard is set where the library knows the curve, x and y otherwise.
	standard *ecdsa.PublicKey
	x, y     *big.Int
	on       *weierstrass
}

// newECPublic reads an uncompressed point (RFC 9580, section 11.2). It returns
// nil for anything else, and for a point that is not on the curve. All curves
// here have cofactor 1, so that every point but infinity will do.
func newECPublic(c *curve, point []byte) *ecPublic {
	size := (c.bits + 7) / 8
	if len(point) != 1+2*size || point[0] != 4 {
		return nil
	}
	if c.standard != nil {
		key, err := ecdsa.ParseUncompressedPublicKey(c.standard, point)
		if err != nil {
			return nil
		}
		return &ecPublic{curve: c, standard: key}
	}
	k := &ecPublic{curve: c, x: new(big.Int).SetBytes(point[1 : 1+size]), y: new(big.Int).SetBytes(point[1+size:])}
	if k.on = c.weierstrass(); !k.on.has(k.x, k.y) {
		return nil
	}
	return k
}

// verify checks an ECDSA signature over a digest.
func (k *ecPublic) verify(digest, r, s []byte) bool {
	rn, sn := new(big.Int).SetBytes(r), new(big.Int).SetBytes(s)
	if k.standard != nil {
		return ecdsa.Verify(k.standard, digest, rn, sn)
	}
	return k.on.verify(k, digest, rn, sn)
}

// A weierstrass is a curve in short Weierstrass form over a prime field, for
// verification only: nothing here is secret, so that nothing has to take the
// same time always.
type weierstrass struct {
	p, a, b, n *big.Int
	g          *jacobian
}

// A jacobian is the point (x/z², y/z³); z = 0 is infinity.
type jacobian struct{ x, y, z *big.Int }

func hexInt(s string) *big.Int {
	n, _ := new(big.Int).SetString(s, 16)
	return n
}

func (c *curve) weierstrass() *weierstrass {
	return &weierstrass{
		p: hexInt(c.p), a: hexInt(c.a), b: hexInt(c.b), n: hexInt(c.n),
		g: &jacobian{hexInt(c.gx), hexInt(c.gy), big.NewInt(1)},
	}
}

// has reports whether a point lies on the curve.
func (w *weierstrass) has(x, y *big.Int) bool {
	if x.Cmp(w.p) >= 0 || y.Cmp(w.p) >= 0 {
		return false
	}
	right := new(big.Int).Mul(x, x)
	right.Add(right, w.a).Mul(right, x).Add(right, w.b).Mod(right, w.p)
	left := new(big.Int).Mul(y, y)
	return left.Mod(left, w.p).Cmp(right) == 0
}

// verify follows FIPS 186-5, section 6.4.2.
func (w *weierstrass) verify(k *ecPublic, digest []byte, r, s *big.Int) bool {
	if r.Sign() <= 0 || s.Sign() <= 0 || r.Cmp(w.n) >= 0 || s.Cmp(w.n) >= 0 {
		return false
	}
	e := new(big.Int).SetBytes(digest)
	if excess := 8*len(digest) - w.n.BitLen(); excess > 0 {
		e.Rsh(e, uint(excess))
	}
	inverse := new(big.Int).ModInverse(s, w.n)
	u1, u2 := e.Mul(e, inverse), new(big.Int).Mul(r, inverse)
	sum := w.sum(w.g, u1.Mod(u1, w.n), &jacobian{k.x, k.y, big.NewInt(1)}, u2.Mod(u2, w.n))
	if sum.z.Sign() == 0 {
		return false
	}
	zInverse := new(big.Int).ModInverse(sum.z, w.p)
	x := zInverse.Mul(zInverse, zInverse)
	x.Mul(x, sum.x).Mod(x, w.p).Mod(x, w.n)
	return x.Cmp(r) == 0
}

// sum returns k·p + l·q, doubling once for both.
func (w *weierstrass) sum(p *jacobian, k *big.Int, q *jacobian, l *big.Int) *jacobian {
	out := &jacobian{big.NewInt(1), big.NewInt(1), new(big.Int)}
	doubled := w.add(p, q)
	for i := max(k.BitLen(), l.BitLen()) - 1; i >= 0; i-- {
		out = w.double(out)
		switch k.Bit(i) | l.Bit(i)<<1 {
		case 1:
			out = w.add(out, p)
		case 2:
			out = w.add(out, q)
		case 3:
			out = w.add(out, doubled)
		}
	}
	return out
}

func (w *weierstrass) mul(a, b *big.Int) *big.Int {
	out := new(big.Int).Mul(a, b)
	return out.Mod(out, w.p)
}

func (w *weierstrass) sub(a, b *big.Int) *big.Int {
	out := new(big.Int).Sub(a, b)
	return out.Mod(out, w.p)
}

func (w *weierstrass) double(q *jacobian) *jacobian {
	if q.z.Sign() == 0 || q.y.Sign() == 0 {
		return &jacobian{big.NewInt(1), big.NewInt(1), new(big.Int)}
	}
	yy := w.mul(q.y, q.y)
	s := w.mul(big.NewInt(4), w.mul(q.x, yy))
	zz := w.mul(q.z, q.z)
	m := w.mul(big.NewInt(3), w.mul(q.x, q.x))
	m.Add(m, w.mul(w.a, w.mul(zz, zz))).Mod(m, w.p)
	x := w.sub(w.mul(m, m), w.mul(big.NewInt(2), s))
	y := w.sub(w.mul(m, w.sub(s, x)), w.mul(big.NewInt(8), w.mul(yy, yy)))
	return &jacobian{x, y, w.mul(big.NewInt(2), w.mul(q.y, q.z))}
}

func (w *weierstrass) add(a, b *jacobian) *jacobian {
	switch {
	case a.z.Sign() == 0:
		return b
	case b.z.Sign() == 0:
		return a
	}
	az, bz := w.mul(a.z, a.z), w.mul(b.z, b.z)
	u1, u2 := w.mul(a.x, bz), w.mul(b.x, az)
	s1, s2 := w.mul(a.y, w.mul(bz, b.z)), w.mul(b.y, w.mul(az, a.z))
	h, r := w.sub(u2, u1), w.sub(s2, s1)
	if h.Sign() == 0 {
		if r.Sign() == 0 {
			return w.double(a)
		}
		return &jacobian{big.NewInt(1), big.NewInt(1), new(big.Int)}
	}
	hh := w.mul(h, h)
	hhh, v := w.mul(hh, h), w.mul(u1, hh)
	x := w.sub(w.sub(w.mul(r, r), hhh), w.mul(big.NewInt(2), v))
	y := w.sub(w.mul(r, w.sub(v, x)), w.mul(s1, hhh))
	return &jacobian{x, y, w.mul(h, w.mul(a.z, b.z))}
}
