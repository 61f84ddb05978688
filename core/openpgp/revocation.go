package openpgp

// LoneRevocations reads a file that holds revocations of keys and nothing else, as
// they are made in advance and published alone (RFC 9580, section 10.1.3): armored, as
// a signature or as a key that has only that, or binary. It returns nil for any other.
// The revocations are not verified; see [Certificate.RevokedBy].
func LoneRevocations(data []byte) []*Signature {
	binaries := [][]byte{data}
	if isArmored(data) {
		blocks, err := readArmor(data)
		if err != nil {
			return nil
		}
		binaries = nil
		for _, b := range blocks {
			if b.kind != "PGP SIGNATURE" && b.kind != "PGP PUBLIC KEY BLOCK" {
				return nil
			}
			binaries = append(binaries, b.data)
		}
	}
	var out []*Signature
	for _, b := range binaries {
		r := packetReader{data: b}
		for {
			p, err := r.next()
			if err != nil {
				return nil
			}
			if p == nil {
				break
			}
			if p.tag == tagMarker || p.tag == tagPadding || p.tag >= 40 {
				continue
			}
			if p.tag != tagSignature || len(out) == maxSignatures {
				return nil
			}
			s, err := parseSignature(p.body, p.end-len(p.body))
			if err != nil || s.Type != KeyRevocation {
				return nil
			}
			out = append(out, s)
		}
	}
	return out
}

// RevokedBy returns the certificate's primary key with a revocation and nothing else,
// to be merged, if the revocation is by that key and holds.
func (c *Certificate) RevokedBy(revocation *Signature) (*Certificate, bool) {
	bare, err := newCertificate([]component{{tag: tagPublicKey, body: c.components[0].body, sigs: [][]byte{revocation.Raw}}})
	if err != nil || bare.Revocation() == nil {
		return nil, false
	}
	return bare, true
}
