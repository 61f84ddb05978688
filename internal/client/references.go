package client

import (
	"context"

	"endeixis/internal/wire"
)

// References tells which files that were cleared here have one of some digests, which
// are in hexadecimal with commas between.
func (c *Client) References(ctx context.Context, digests string) ([]wire.Reference, error) {
	page, err := call(ctx, c, wire.FindReferences, wire.FindReferencesRequest{Digest: digests})
	return page.Items, err
}
