package client

import (
	"context"

	"endeixis/internal/wire"
)

// PackSatchel packs a satchel, and returns it with its file.
func (c *Client) PackSatchel(ctx context.Context, s wire.NewSatchel) (wire.PackedSatchel, error) {
	return call(ctx, c, wire.PackSatchel, wire.PackSatchelRequest{Body: s})
}

// Satchels lists the satchels that were packed.
func (c *Client) Satchels(ctx context.Context) ([]wire.Satchel, error) {
	page, err := call(ctx, c, wire.ListSatchels, wire.Nothing{})
	return page.Items, err
}

// Satchel returns a satchel with what came back of it.
func (c *Client) Satchel(ctx context.Context, id string) (wire.SatchelShown, error) {
	return call(ctx, c, wire.ShowSatchel, wire.SatchelAt{ID: id})
}

// ReturnOutcomes takes back what was judged on site. It may be sent again.
func (c *Client) ReturnOutcomes(ctx context.Context, r wire.ReturnedOutcomes) (wire.SatchelShown, error) {
	return call(ctx, c, wire.ReturnOutcomes, wire.ReturnRequest{Body: r})
}
