package client

import (
	"context"
	"net/http"

	"endeixis/internal/wire"
)

// PreviewImport tells what importing keys would do.
func (c *Client) PreviewImport(ctx context.Context, data []byte) (wire.Import, error) {
	var out wire.Import
	return out, c.call(ctx, http.MethodPost, "/key-readings", map[string]any{"data": data}, &out)
}

// LookUpKeys asks the configured key directories.
func (c *Client) LookUpKeys(ctx context.Context, query string) (wire.LookUp, error) {
	var out wire.LookUp
	return out, c.call(ctx, http.MethodPost, "/key-look-ups", map[string]string{"query": query}, &out)
}

// ImportFoundKey imports one of the keys that a look-up found.
func (c *Client) ImportFoundKey(ctx context.Context, query, fingerprint, publisher string) (wire.Imported, error) {
	var out wire.Imported
	return out, c.call(ctx, http.MethodPost, "/key-look-ups/imports", map[string]string{"query": query, "fingerprint": fingerprint, "publisher": publisher}, &out)
}

// RefreshKeys looks keys up again, all of them when none is named.
func (c *Client) RefreshKeys(ctx context.Context, fingerprints []string) ([]wire.Refreshed, error) {
	var out wire.Page[wire.Refreshed]
	err := c.call(ctx, http.MethodPost, "/key-refreshes", map[string][]string{"fingerprints": append([]string{}, fingerprints...)}, &out)
	return out.Items, err
}

// ImportKeys imports keys.
func (c *Client) ImportKeys(ctx context.Context, data []byte, source, publisher string) (wire.Import, error) {
	var out wire.Import
	return out, c.call(ctx, http.MethodPost, "/keys", map[string]any{"data": data, "source": source, "publisher": publisher}, &out)
}
