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

// Library lists the files that were cleared here, of a publisher and with a part of a name where these are given, the
// newest first; limit 0 lists all.
func (c *Client) Library(ctx context.Context, publisher, match string, limit int) ([]wire.Reference, error) {
	return all(limit, func(cursor string) (wire.Page[wire.Reference], error) {
		return call(
			ctx, c, wire.FindReferences,
			wire.FindReferencesRequest{Publisher: publisher, Match: match, Cursor: cursor},
		)
	})
}

// NoteReferences puts digests of a publisher's files on record that were read somewhere.
func (c *Client) NoteReferences(ctx context.Context, n wire.NewNote) (wire.Noted, error) {
	return call(ctx, c, wire.NoteReferences, wire.NoteReferencesRequest{Body: n})
}

// NotedReferences lists digests that were read somewhere, the newest first: those in hexadecimal with commas between,
// where they are given, and else by publisher and name; limit 0 lists all.
func (c *Client) NotedReferences(
	ctx context.Context, digests, publisher, match string, limit int,
) ([]wire.NotedReference, error) {
	return all(limit, func(cursor string) (wire.Page[wire.NotedReference], error) {
		return call(
			ctx, c, wire.ListNotedReferences,
			wire.ListNotedReferencesRequest{Digest: digests, Publisher: publisher, Match: match, Cursor: cursor},
		)
	})
}
