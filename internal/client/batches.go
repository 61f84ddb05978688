package client

import (
	"context"
	"errors"
	"net/http"
	"strconv"
	"time"

	"endeixis/core/judge"
	"endeixis/internal/wire"
)

// Survey shows what a batch would check.
func (c *Client) Survey(ctx context.Context, depot, path string, corrections []wire.Correction) (wire.Survey, error) {
	return call(
		ctx, c, wire.SurveyFolder,
		wire.SurveyRequest{Body: wire.NewSurvey{Depot: depot, Path: path, Corrections: corrections}},
	)
}

// RunBatch starts a batch. The key makes it safe to repeat.
func (c *Client) RunBatch(ctx context.Context, b wire.NewBatch, key string) (wire.Batch, error) {
	return call(ctx, c, wire.RunBatch, wire.RunBatchRequest{Key: key, Body: b})
}

// CancelBatch ends a batch before it is done.
func (c *Client) CancelBatch(ctx context.Context, id int64, reason string) (wire.Batch, error) {
	return call(ctx, c, wire.CancelBatch, wire.BatchStepRequest{ID: id, Body: wire.Reasoned{Reason: reason}})
}

// Compare tells what differs between two batches, with all files that do not stay as they were.
func (c *Client) Compare(ctx context.Context, before, after int64) (wire.Comparison, error) {
	in := wire.CompareBatchesRequest{Before: before, After: after, Limit: maxCompared}
	out, err := call(ctx, c, wire.CompareBatches, in)
	for err == nil && out.Next != "" {
		var more wire.Comparison
		in.Cursor = out.Next
		more, err = call(ctx, c, wire.CompareBatches, in)
		out.Files, out.Next = append(out.Files, more.Files...), more.Next
	}
	return out, err
}

// maxCompared is how many files are asked for at once.
const maxCompared = 5000

// SettleBatch records that a batch needs no attention as it is.
func (c *Client) SettleBatch(ctx context.Context, id int64, reason string) (wire.Batch, error) {
	return call(ctx, c, wire.SettleBatch, wire.BatchStepRequest{ID: id, Body: wire.Reasoned{Reason: reason}})
}

// Attention lists what needs attention, at most limit entries, or all for 0.
func (c *Client) Attention(ctx context.Context, limit int) ([]wire.Attention, error) {
	return all(limit, func(cursor string) (wire.Page[wire.Attention], error) {
		return call(ctx, c, wire.ListAttention, wire.ListAttentionRequest{Cursor: cursor})
	})
}

// Copies tells how copies of a batch's manifests compare.
func (c *Client) Copies(ctx context.Context, id int64) ([]wire.Copy, error) {
	page, err := call(ctx, c, wire.ListCopies, wire.BatchAt{ID: id})
	return page.Items, err
}

// Batch returns a batch.
func (c *Client) Batch(ctx context.Context, id int64) (wire.Batch, error) {
	return call(ctx, c, wire.ShowBatch, wire.BatchAt{ID: id})
}

// Batches lists batches, the newest first.
func (c *Client) Batches(ctx context.Context, verdict judge.Verdict, limit int) ([]wire.Batch, error) {
	return all(limit, func(cursor string) (wire.Page[wire.Batch], error) {
		return call(ctx, c, wire.ListBatches, wire.ListBatchesRequest{Verdict: verdict, Cursor: cursor})
	})
}

// BatchOf returns the newest batch of a folder of a depot, or nil where there is none.
func (c *Client) BatchOf(ctx context.Context, depot, folder string) (*wire.Batch, error) {
	page, err := call(ctx, c, wire.ListBatches, wire.ListBatchesRequest{Depot: depot, Folder: folder, Limit: 1})
	if err != nil || len(page.Items) == 0 {
		return nil, err
	}
	return &page.Items[0], nil
}

// Items returns all items of a batch.
func (c *Client) Items(ctx context.Context, id int64) ([]wire.Item, error) {
	return c.ItemsMatching(ctx, id, "")
}

// ItemsMatching returns the items whose path, or its last part, matches a
// pattern with * and ?; an empty pattern matches all.
func (c *Client) ItemsMatching(ctx context.Context, id int64, pattern string) ([]wire.Item, error) {
	return all(0, func(cursor string) (wire.Page[wire.Item], error) {
		return call(ctx, c, wire.ListItems, wire.ListItemsRequest{ID: id, Match: pattern, Cursor: cursor, Limit: 500})
	})
}

// Absent returns the entries of a batch without a file.
func (c *Client) Absent(ctx context.Context, id int64) ([]wire.Absent, error) {
	return all(0, func(cursor string) (wire.Page[wire.Absent], error) {
		return call(ctx, c, wire.ListAbsent, wire.ListAbsentRequest{ID: id, Cursor: cursor})
	})
}

// Follow calls f for every state of a batch until it is closed. When the
// connection breaks it comes back by itself, for a minute.
func (c *Client) Follow(ctx context.Context, id int64, f func(wire.Batch)) (wire.Batch, error) {
	return c.FollowUntil(ctx, id, func(b wire.Batch) bool {
		f(b)
		return false
	})
}

// FollowUntil is [Client.Follow] until a batch is as wanted, which reached is asked for every
// state of it, or closed. It returns the batch as it then stands.
func (c *Client) FollowUntil(ctx context.Context, id int64, reached func(wire.Batch) bool) (wire.Batch, error) {
	last := 0
	broken := time.Time{}
	for {
		b, done, err := c.followOnce(ctx, id, &last, reached)
		if done {
			return b, nil
		}
		if ctx.Err() != nil {
			return b, context.Cause(ctx)
		}
		var problem *Error
		if errors.As(err, &problem) && problem.Status != http.StatusServiceUnavailable {
			return b, err
		}
		if Differs(err) {
			return b, err // it will be the same the next time
		}
		if err == nil || b.ID != 0 {
			broken = time.Time{} // something came: the minute starts again
		}
		if broken.IsZero() {
			broken = time.Now()
		}
		if err != nil && time.Since(broken) > time.Minute {
			return b, err
		}
		select {
		case <-ctx.Done():
			return b, context.Cause(ctx)
		case <-time.After(500 * time.Millisecond):
		}
	}
}

// followOnce reads one stream of server-sent events to its end.
func (c *Client) followOnce(
	ctx context.Context, id int64, last *int, reached func(wire.Batch) bool,
) (b wire.Batch, done bool, err error) {
	in := wire.FollowBatchRequest{ID: id, Last: *last}
	response, err := send(ctx, c, wire.FollowBatch, in, "Accept", "text/event-stream")
	if err != nil {
		return b, false, err
	}
	defer response.Body.Close()
	err = events(response.Body, "batch", func(event, id, data string) (bool, error) {
		if n, err := strconv.Atoi(id); err == nil {
			*last = n
		}
		if b, err = read[wire.Batch](c, response, []byte(data)); err != nil {
			return false, err
		}
		done = reached(b) || b.Closed()
		return done, nil
	})
	return b, done, err
}

// AttestBatch returns a signed summary of a batch.
func (c *Client) AttestBatch(ctx context.Context, id int64) (wire.Envelope, error) {
	return call(ctx, c, wire.AttestBatch, wire.BatchAt{ID: id})
}

// AttestItem returns a signed summary of an artifact.
func (c *Client) AttestItem(ctx context.Context, id int64, n int) (wire.Envelope, error) {
	return call(ctx, c, wire.AttestItem, wire.ItemAt{ID: id, N: n})
}
