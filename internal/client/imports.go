package client

import (
	"context"
	"encoding/base64"
	"io"

	"endeixis/internal/wire"
)

// PreviewImport tells what importing keys would do.
func (c *Client) PreviewImport(ctx context.Context, data []byte) (wire.Import, error) {
	return call(
		ctx, c, wire.PreviewImport,
		wire.ReadKeysRequest{Body: wire.Data{Data: base64.StdEncoding.EncodeToString(data)}},
	)
}

// LookUpKeys asks the configured key directories.
func (c *Client) LookUpKeys(ctx context.Context, query string) (wire.LookUp, error) {
	return call(ctx, c, wire.LookUpKeys, wire.LookUpRequest{Body: wire.KeyQuery{Query: query}})
}

// ImportFoundKey imports one of the keys that a look-up found.
func (c *Client) ImportFoundKey(ctx context.Context, query, fingerprint, publisher string) (wire.Imported, error) {
	return call(
		ctx, c, wire.ImportFoundKey,
		wire.ImportFoundRequest{
			Body: wire.ChosenKey{KeyQuery: wire.KeyQuery{Query: query}, Fingerprint: fingerprint, Publisher: publisher},
		},
	)
}

// LookUpKnown looks keys up again, all of them when none is named.
func (c *Client) LookUpKnown(ctx context.Context, fingerprints []string) ([]wire.LookedUp, error) {
	page, err := call(
		ctx, c, wire.LookUpKnown, wire.LookUpKnownRequest{Body: wire.WhichKeys{Fingerprints: fingerprints}},
	)
	return page.Items, err
}

// ImportKeys imports keys.
func (c *Client) ImportKeys(ctx context.Context, data []byte, source, publisher string) (wire.Import, error) {
	return call(
		ctx, c, wire.ImportKeys,
		wire.ImportKeysRequest{
			Body: wire.NewKeys{Data: base64.StdEncoding.EncodeToString(data), Source: source, Publisher: publisher},
		},
	)
}

// LoadKeyFile imports a key file of any size, and tells how many of its keys have been
// gone through.
func (c *Client) LoadKeyFile(
	ctx context.Context, data []byte, source, publisher string, progress func(wire.ImportProgress),
) (wire.Import, error) {
	return load(
		ctx, c, wire.LoadKeyFile, wire.LoadKeyFileRequest{Source: source, Publisher: publisher, RawBody: data},
		progress,
	)
}

// ReadKeyFile tells what importing a key file of any size would do.
func (c *Client) ReadKeyFile(
	ctx context.Context, data []byte, progress func(wire.ImportProgress),
) (wire.Import, error) {
	return load(ctx, c, wire.ReadKeyFile, wire.ReadKeyFileRequest{RawBody: data}, progress)
}

func load[In any](
	ctx context.Context, c *Client, o wire.Operation[In, wire.Import], in In, progress func(wire.ImportProgress),
) (out wire.Import, err error) {
	response, err := send(ctx, c, o, in, "Accept", "text/event-stream")
	if err != nil {
		return out, err
	}
	defer response.Body.Close()
	done := false
	// It is read to its end: until then the service counts the import as under way.
	err = events(response.Body, "", func(event, _, data string) (bool, error) {
		if event == "import" {
			done = true
			out, err = read[wire.Import](c, response, []byte(data))
			return false, err
		}
		p, err := read[wire.ImportProgress](c, response, []byte(data))
		if err == nil {
			progress(p)
		}
		return false, err
	})
	if err == nil && !done {
		err = &Unreachable{c.base, io.ErrUnexpectedEOF}
	}
	return out, err
}
