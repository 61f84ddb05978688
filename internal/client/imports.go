package client

import (
	"context"
	"encoding/base64"

	"endeixis/internal/wire"
)

// PreviewImport tells what importing keys would do.
func (c *Client) PreviewImport(ctx context.Context, data []byte) (wire.Import, error) {
	return call(ctx, c, wire.PreviewImport, wire.ReadingRequest{Body: wire.Data{Data: base64.StdEncoding.EncodeToString(data)}})
}

// LookUpKeys asks the configured key directories.
func (c *Client) LookUpKeys(ctx context.Context, query string) (wire.LookUp, error) {
	return call(ctx, c, wire.LookUpKeys, wire.LookUpRequest{Body: wire.KeyQuery{Query: query}})
}

// ImportFoundKey imports one of the keys that a look-up found.
func (c *Client) ImportFoundKey(ctx context.Context, query, fingerprint, publisher string) (wire.Imported, error) {
	return call(ctx, c, wire.ImportFoundKey, wire.ImportFoundRequest{Body: wire.ChosenKey{KeyQuery: wire.KeyQuery{Query: query}, Fingerprint: fingerprint, Publisher: publisher}})
}

// RefreshKeys looks keys up again, all of them when none is named.
func (c *Client) RefreshKeys(ctx context.Context, fingerprints []string) ([]wire.Refreshed, error) {
	page, err := call(ctx, c, wire.RefreshKeys, wire.RefreshRequest{Body: wire.WhichKeys{Fingerprints: fingerprints}})
	return page.Items, err
}

// ImportKeys imports keys.
func (c *Client) ImportKeys(ctx context.Context, data []byte, source, publisher string) (wire.Import, error) {
	return call(ctx, c, wire.ImportKeys, wire.ImportKeysRequest{Body: wire.NewKeys{Data: base64.StdEncoding.EncodeToString(data), Source: source, Publisher: publisher}})
}
