package api

import (
	"context"
	"encoding/hex"
	"encoding/json"

	"endeixis/core/ledger"
	"endeixis/core/plain"
	"endeixis/internal/inquiries"
	"endeixis/internal/query"
	"endeixis/internal/records"
	"endeixis/internal/wire"
)

func (a *API) registerRecords() {
	handle(a, wire.ListRecords, a.listRecords)
	handle(a, wire.ShowRecord, func(ctx context.Context, in *wire.RecordAt) (*wire.Record, error) {
		r, err := a.Records.Get(ctx, in.Position)
		return answer(recordOf(r), err)
	})
	handle(a, wire.MakeReceipt, func(ctx context.Context, in *wire.RecordAt) (*ledger.Receipt, error) {
		return answer(a.Records.Receipt(ctx, in.Position))
	})
	handle(a, wire.ShowCheckpoint, a.showCheckpoint)
	handle(a, wire.AuditLedger, a.auditLedger)
}

func (a *API) listRecords(ctx context.Context, in *wire.ListRecordsRequest) (*wire.Page[wire.Record], error) {
	page, err := a.Query.Records(
		ctx,
		query.RecordFilter{
			Kind: in.Kind, Verdict: in.Verdict, Batch: in.Batch, Name: in.Name, Limit: in.Limit,
		},
		in.Cursor,
	)
	return answer(pageOf(page, recordOf), err)
}

func (a *API) showCheckpoint(ctx context.Context, in *wire.CheckpointRequest) (*wire.Checkpoint, error) {
	g, err := a.Records.ProveGrowth(ctx, in.Since)
	return answer(
		wire.Checkpoint{
			Size: g.Size, Root: g.Root.String(), Signed: g.Signed, PublicKey: a.Records.PublicKey(),
			Consistency: g.Consistency, Succession: g.Succession,
		},
		err,
	)
}

func (a *API) auditLedger(ctx context.Context, in *wire.AuditRequest) (*wire.Inquiry, error) {
	if in.Body.Checkpoint != "" {
		if err := a.Records.CheckKept(in.Body.Checkpoint); err != nil {
			return nil, err
		}
	}
	if _, _, err := a.Records.Sign(ctx); err != nil {
		a.Log.Error("signing before an audit", "error", err) // the audit itself will say why
	}
	p, _ := principal(ctx)
	asked, err := a.Inquiries.Ask(
		ctx, p.Name, inquiries.Audit,
		records.AuditQuestion{Checkpoint: in.Body.Checkpoint, Nonce: in.Body.Nonce, Full: in.Body.Full},
	)
	if err != nil {
		return nil, err
	}
	return a.inquiry(ctx, asked.ID)
}

func recordOf(r query.Record) wire.Record {
	v := wire.Record{
		Position: r.Position, Kind: r.Kind, At: r.At, By: r.By, Subject: plain.Text(r.Subject),
		Verdict: r.Verdict, Batch: r.Batch, Leaf: hex.EncodeToString(r.Leaf),
	}
	if r.Body != nil {
		v.Body = json.RawMessage(r.Body)
	}
	return v
}
