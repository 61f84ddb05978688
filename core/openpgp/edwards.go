package openpgp

import (
	"bytes"

	"filippo.io/edwards25519"
	"github.com/cloudflare/circl/ecc/goldilocks"
)

const (
	offCurve   = "its point is not on the curve"
	notCanon   = "its point is not written in the one way that is allowed"
	smallOrder = "its point has a small order: anybody can make signatures that hold by it"
)

// edwards25519Trouble tells what makes an Ed25519 public key unfit (RFC 8032, section
// 5.1.7, leaves these checks to the verifier), or nothing.
func edwards25519Trouble(key []byte) string {
	p, err := new(edwards25519.Point).SetBytes(key)
	switch {
	case err != nil:
		return offCurve
	case new(edwards25519.Point).MultByCofactor(p).Equal(edwards25519.NewIdentityPoint()) == 1:
		return smallOrder
	case !bytes.Equal(p.Bytes(), key):
		return notCanon
	}
	return ""
}

// edwards448Trouble is the same for Ed448, whose cofactor is 4.
func edwards448Trouble(key []byte) string {
	p, err := goldilocks.FromBytes(key)
	if err != nil {
		return offCurve
	}
	written, err := p.MarshalBinary()
	p.Double()
	p.Double()
	switch {
	case p.IsIdentity():
		return smallOrder
	case err != nil || !bytes.Equal(written, key):
		return notCanon
	}
	return ""
}
