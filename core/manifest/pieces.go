package manifest

import "endeixis/core/digest"

// A PieceHasher computes the digests of consecutive parts of a stream that is
// written to it.
type PieceHasher struct {
	pieces Pieces
	set    *digest.Set
	left   int64
}

// NewPieceHasher returns a PieceHasher for parts of the given length, which
// must be positive.
func NewPieceHasher(a digest.Algorithm, length int64) *PieceHasher {
	return &PieceHasher{pieces: Pieces{Algorithm: a, Length: length}, set: digest.NewSet(digest.Only(a)), left: length}
}

// Write takes the next bytes; it never fails.
func (h *PieceHasher) Write(p []byte) (int, error) {
	n := len(p)
	for len(p) > 0 {
		part := p[:min(int64(len(p)), h.left)]
		h.set.Writers()[0].Write(part) //nolint:errcheck // hashes do not fail
		h.left -= int64(len(part))
		p = p[len(part):]
		if h.left == 0 {
			h.close()
		}
	}
	return n, nil
}

func (h *PieceHasher) close() {
	a := h.pieces.Algorithm
	h.pieces.Digests = append(h.pieces.Digests, h.set.Sums()[a])
	h.set, h.left = digest.NewSet(digest.Only(a)), h.pieces.Length
}

// Pieces returns the digests of what was written, the last part as long as it
// is. Nothing may be written afterwards.
func (h *PieceHasher) Pieces() Pieces {
	if h.left < h.pieces.Length {
		h.close()
	}
	return h.pieces
}
