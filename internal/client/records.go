package client

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"

	"endeixis/core/ledger"
	"endeixis/internal/wire"
)

// Records lists records, the newest first, at most limit of them, or all for 0, with how many there are where that was
// counted.
func (c *Client) Records(
	ctx context.Context, q wire.ListRecordsRequest, limit int,
) (out wire.Page[wire.Record], err error) {
	out.Items, err = all(limit, func(cursor string) (wire.Page[wire.Record], error) {
		q.Cursor = cursor
		page, err := call(ctx, c, wire.ListRecords, q)
		if err == nil && cursor == "" {
			out.Count, out.AtLeast = page.Count, page.AtLeast
			if page.Count == nil && q.Narrow() {
				// One of before these filters does not see them, and would list everything.
				err = errors.New(
					"the service is older than this program and cannot look for that; " +
						"only --kind, --verdict, --batch and --name",
				)
			}
		}
		return page, err
	})
	return out, err
}

// Record returns one record.
func (c *Client) Record(ctx context.Context, position int64) (wire.Record, error) {
	return call(ctx, c, wire.ShowRecord, wire.RecordAt{Position: position})
}

// Receipt returns the receipt of a record.
func (c *Client) Receipt(ctx context.Context, position int64) (ledger.Receipt, error) {
	return call(ctx, c, wire.MakeReceipt, wire.RecordAt{Position: position})
}

// Checkpoint returns a signed checkpoint of the ledger as it is, with the proof that it goes on
// from one of an older size.
func (c *Client) Checkpoint(ctx context.Context, since int64) (wire.Checkpoint, error) {
	return call(ctx, c, wire.ShowCheckpoint, wire.CheckpointRequest{Since: since})
}

// Audit has the ledger recomputed, with a nonce of its own. progress, which may be nil, is called
// now and then.
func (c *Client) Audit(ctx context.Context, q wire.NewAudit, progress func(wire.Inquiry)) (wire.Audit, error) {
	nonce := rand.Text()
	q.Nonce = nonce
	asked, err := call(ctx, c, wire.AuditLedger, wire.AuditRequest{Body: q})
	if err != nil {
		return wire.Audit{}, err
	}
	done, err := c.answer(ctx, asked, progress)
	if err != nil {
		return wire.Audit{}, err
	}
	if done.Audit == nil {
		return wire.Audit{}, fmt.Errorf("the service at %s gave no answer to the audit", c.base)
	}
	done.Audit.Nonce = nonce // whatever was told: it has to be the one that was asked with
	return *done.Audit, nil
}
