package client

import (
	"context"
	"net/http"
	"net/url"

	"endeixis/internal/wire"
)

// A PublisherChange holds what is to change about a publisher; nil stays.
type PublisherChange struct {
	Name    *string  `json:"name,omitempty"`
	Contact *string  `json:"contact,omitempty"`
	Scope   []string `json:"scope,omitempty"`
}

// SetPublisher changes what is known about a publisher.
func (c *Client) SetPublisher(ctx context.Context, slug string, change PublisherChange) (wire.Publisher, error) {
	var out wire.Publisher
	return out, c.call(ctx, http.MethodPatch, "/publishers/"+url.PathEscape(slug), change, &out)
}

// AddPublisher adds a publisher.
func (c *Client) AddPublisher(ctx context.Context, slug, name, contact string, scope []string) (wire.Publisher, error) {
	var out wire.Publisher
	in := map[string]any{"slug": slug, "name": name, "contact": contact, "scope": append([]string{}, scope...)}
	return out, c.call(ctx, http.MethodPost, "/publishers", in, &out)
}

// Publishers lists publishers.
func (c *Client) Publishers(ctx context.Context) ([]wire.Publisher, error) {
	return all[wire.Publisher](ctx, c, "/publishers", nil, 0)
}

// Publisher returns one publisher.
func (c *Client) Publisher(ctx context.Context, slug string) (wire.Publisher, error) {
	var out wire.Publisher
	return out, c.call(ctx, http.MethodGet, "/publishers/"+url.PathEscape(slug), nil, &out)
}
