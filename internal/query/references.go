package query

import (
	"context"

	"endeixis/core/digest"
	"endeixis/internal/fault"
	"endeixis/internal/store"
)

// Reference is a file that was cleared here.
type Reference = store.Reference

// References finds the files that were cleared with the same bytes, by digests of any
// algorithm. A digest that is too short to tell files apart, such as a CRC, finds nothing
// and is a [*fault.Fault].
func (s *Service) References(ctx context.Context, digests []digest.Value, limit int) ([]Reference, error) {
	raw := make([][]byte, len(digests))
	for i, d := range digests {
		if len(d) < 16 || digest.OfSize(len(d)) == nil {
			return nil, fault.New(
				fault.Invalid, fault.BadDigest, "A value of %d bytes is no digest by which a file can be found.", len(d),
			).
				Advise("Give the whole of an MD5, SHA-1, SHA-2, SHA-3 or BLAKE digest.").
				At("digest")
		}
		raw[i] = d
	}
	return s.store.References(ctx, raw, limit)
}

// A ReadBack is a medium that was read back against a file.
type ReadBack = store.ReadBack

// maxReadBacks bounds how many of one file are told.
const maxReadBacks = 100

// ReadBacks lists the media that were read back against an item, the newest first.
func (s *Service) ReadBacks(ctx context.Context, batch int64, n int) ([]ReadBack, error) {
	return s.store.ReadBacks(ctx, batch, n, maxReadBacks)
}
