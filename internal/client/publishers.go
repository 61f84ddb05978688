package client

import (
	"context"

	"endeixis/internal/wire"
)

// SetPublisher changes what is known about a publisher.
func (c *Client) SetPublisher(ctx context.Context, slug string, change wire.PublisherChange) (wire.Publisher, error) {
	return call(ctx, c, wire.SetPublisher, wire.SetPublisherRequest{Slug: slug, Body: change})
}

// AddPublisher adds a publisher.
func (c *Client) AddPublisher(ctx context.Context, p wire.NewPublisher) (wire.Publisher, error) {
	return call(ctx, c, wire.AddPublisher, wire.AddPublisherRequest{Body: p})
}

// Publishers lists publishers.
func (c *Client) Publishers(ctx context.Context) ([]wire.Publisher, error) {
	page, err := call(ctx, c, wire.ListPublishers, wire.Nothing{})
	return page.Items, err
}

// Publisher returns one publisher.
func (c *Client) Publisher(ctx context.Context, slug string) (wire.Publisher, error) {
	return call(ctx, c, wire.ShowPublisher, wire.PublisherAt{Slug: slug})
}
