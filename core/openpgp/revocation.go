package openpgp

import "slices"

// LoneRevocations reads a file that holds revocations of keys and nothing else, as
// they are made in advance and published alone (RFC 9580, section 10.1.3): armored, as
// a signature or as a key that has only that, or binary. It returns nil for any other.
// The revocations are not verified; see [Certificate.RevokedBy].
func LoneRevocations(data []byte) []*Signature {
	sigs, err := signaturesIn(data, "PGP SIGNATURE", "PGP PUBLIC KEY BLOCK")
	sigs = slices.DeleteFunc(sigs, func(s *Signature) bool { return s.malformed != nil })
	if err != nil || slices.ContainsFunc(sigs, func(s *Signature) bool { return s.Type != KeyRevocation }) {
		return nil
	}
	return sigs
}

// RevokedBy returns the certificate's primary key with a revocation and nothing else,
// to be merged, if the revocation is by that key and holds.
func (c *Certificate) RevokedBy(revocation *Signature) (*Certificate, bool) {
	bare, err := newCertificate(
		[]component{{tag: tagPublicKey, body: c.components[0].body, sigs: [][]byte{revocation.Raw}}},
	)
	if err != nil || bare.Revocation() == nil {
		return nil, false
	}
	return bare, true
}
