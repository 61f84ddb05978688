package api

import (
	"context"

	"endeixis/core/plain"
	"endeixis/internal/publishers"
	"endeixis/internal/wire"
)

func (a *API) registerPublishers() {
	handle(a, wire.ListPublishers, func(ctx context.Context, _ *wire.Nothing) (*wire.Page[wire.Publisher], error) {
		rows, err := a.Publishers.All(ctx)
		return answer(wire.Page[wire.Publisher]{Items: convert(rows, publisherOf)}, err)
	})
	handle(a, wire.AddPublisher, func(ctx context.Context, in *wire.AddPublisherRequest) (*wire.Publisher, error) {
		p, _ := principal(ctx)
		row, err := a.Publishers.Add(ctx, p.Name, publishers.Details(in.Body))
		return answer(publisherOf(row), err)
	})
	handle(a, wire.ShowPublisher, func(ctx context.Context, in *wire.PublisherAt) (*wire.Publisher, error) {
		row, err := a.Publishers.Publisher(ctx, in.Slug)
		return answer(publisherOf(row), err)
	})
	handle(a, wire.SetPublisher, a.setPublisher)
}

func (a *API) setPublisher(ctx context.Context, in *wire.SetPublisherRequest) (*wire.Publisher, error) {
	p, _ := principal(ctx)
	row, err := a.Publishers.Change(
		ctx, p.Name, in.Slug,
		publishers.Change{
			Name: in.Body.Name, Contact: in.Body.Contact, Scope: in.Body.Scope, Seen: seen(in.IfMatch),
		},
	)
	return answer(publisherOf(row), err)
}

func publisherOf(p publishers.Publisher) wire.Publisher {
	return wire.Publisher{
		Slug: p.Slug, Name: plain.Text(p.Name), Contact: p.Contact, Scope: append([]string{}, p.Scope...),
		Created: p.CreatedAt, By: p.CreatedBy, Version: publishers.VersionOf(p),
	}
}
