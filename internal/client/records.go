package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strconv"

	"endeixis/core/ledger"
	"endeixis/internal/wire"
)

// RecordQuery narrows a list of records.
type RecordQuery struct {
	Kind, Verdict, Name string
	Batch               int64
	Limit               int
}

// Records lists records, the newest first.
func (c *Client) Records(ctx context.Context, q RecordQuery) ([]wire.Record, error) {
	query := url.Values{}
	for name, value := range map[string]string{"kind": q.Kind, "verdict": q.Verdict, "name": q.Name} {
		if value != "" {
			query.Set(name, value)
		}
	}
	if q.Batch != 0 {
		query.Set("batch", strconv.FormatInt(q.Batch, 10))
	}
	return all[wire.Record](ctx, c, "/records", query, q.Limit)
}

// Record returns one record.
func (c *Client) Record(ctx context.Context, position int64) (wire.Record, error) {
	var out wire.Record
	return out, c.call(ctx, http.MethodGet, fmt.Sprintf("/records/%d", position), nil, &out)
}

// Receipt returns the receipt of a record.
func (c *Client) Receipt(ctx context.Context, position int64) (ledger.Receipt, error) {
	var out ledger.Receipt
	return out, c.call(ctx, http.MethodGet, fmt.Sprintf("/records/%d/receipt", position), nil, &out)
}

// Checkpoint returns a signed checkpoint of the ledger as it is.
func (c *Client) Checkpoint(ctx context.Context) (wire.Checkpoint, error) {
	var out wire.Checkpoint
	return out, c.call(ctx, http.MethodGet, "/ledger/checkpoint", nil, &out)
}

// Audit recomputes the ledger. kept is a checkpoint that was kept outside, or
// empty.
func (c *Client) Audit(ctx context.Context, kept string) (wire.Audit, error) {
	in := map[string]string{}
	if kept != "" {
		in["checkpoint"] = kept
	}
	var out wire.Audit
	return out, c.call(ctx, http.MethodPost, "/ledger/audits", in, &out)
}
