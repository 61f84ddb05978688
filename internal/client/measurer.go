package client

import (
	"context"

	"endeixis/core/digest"
	"endeixis/internal/wire"
)

// SendListing sends a page of the list of files of a batch.
func (c *Client) SendListing(ctx context.Context, batch int64, n int, page wire.ListingPage) error {
	_, err := call(ctx, c, wire.SendListing, wire.ListingAt{ID: batch, Page: n, Body: page})
	return err
}

// CloseListing says that the list is whole.
func (c *Client) CloseListing(ctx context.Context, batch int64, pages int) (wire.Batch, error) {
	return call(ctx, c, wire.CloseListing, wire.ListingEnd{ID: batch, Body: wire.ListingPages{Pages: pages}})
}

// Assignments returns all that is left to measure of a batch.
func (c *Client) Assignments(ctx context.Context, batch int64) ([]wire.Assignment, error) {
	return all(0, func(cursor string) (wire.Page[wire.Assignment], error) {
		return call(ctx, c, wire.ListAssignments, wire.ListAssignmentsRequest{ID: batch, Cursor: cursor, Limit: 2000})
	})
}

// SendMeasurements sends what was measured.
func (c *Client) SendMeasurements(ctx context.Context, batch int64, measured []wire.Submission) (wire.Taken, error) {
	return call(
		ctx, c, wire.SendMeasurements,
		wire.SendMeasurementsRequest{ID: batch, Body: wire.Measurements{Measured: measured}},
	)
}

// DrillAssignment tells what to measure for the drill of an item.
func (c *Client) DrillAssignment(ctx context.Context, batch int64, n int) (wire.DrillAssignment, error) {
	return call(ctx, c, wire.ShowDrillAssignment, wire.ItemAt{ID: batch, N: n})
}

// Drill proves that the check of some items can fail.
func (c *Client) Drill(ctx context.Context, batch int64, items []wire.DrillItem) (wire.Drill, error) {
	return call(ctx, c, wire.DrillBatch, wire.DrillRequest{ID: batch, Body: wire.NewDrill{Items: items}})
}

// Pieces returns the SHA-256 digests of the pieces of a part of a file that the service can
// read.
func (c *Client) Pieces(ctx context.Context, batch int64, n int, offset, length, size int64) ([]digest.Value, error) {
	out, err := call(
		ctx, c, wire.ListPieces, wire.PiecesRequest{ID: batch, N: n, Offset: offset, Length: length, Size: size},
	)
	return out.SHA256, err
}

// Item returns an item with its evidence.
func (c *Client) Item(ctx context.Context, batch int64, n int) (wire.Item, error) {
	return call(ctx, c, wire.ShowItem, wire.ItemAt{ID: batch, N: n})
}
