package api

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"strconv"
	"time"

	"endeixis/core/ledger"
	"endeixis/core/plain"
	"endeixis/internal/fault"
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
	f := query.RecordFilter{
		Kind: in.Kind, Verdict: in.Verdict, Batch: in.Batch, Name: in.Name, By: in.By, Publisher: in.Publisher,
		Ground: in.Ground, Cause: in.Cause, Key: in.Key, Digest: in.Digest, Device: in.Device, Place: in.Place,
		Label: in.Label, Limit: in.Limit,
	}
	if in.Waiver != "" {
		n, err := strconv.ParseInt(in.Waiver, 10, 64)
		if err != nil {
			return nil, err
		}
		f.Waiver = &n
	}
	var err error
	if f.From, err = momentOf(in.From, "from", 0); err != nil {
		return nil, err
	}
	if f.To, err = momentOf(in.To, "to", 1); err != nil {
		return nil, err
	}
	page, err := a.Query.Records(ctx, f, in.Cursor)
	return answer(pageOf(page, recordOf), err)
}

// momentOf reads a day or a time, or nothing. Of a day it is the beginning, or that of a day as many days later.
func momentOf(given, field string, days int) (*time.Time, error) {
	if given == "" {
		return nil, nil //nolint:nilnil // nothing is no limit
	}
	if day, err := time.Parse(time.DateOnly, given); err == nil {
		day = day.AddDate(0, 0, days)
		return &day, nil
	}
	at, err := time.Parse(time.RFC3339, given)
	if err != nil {
		return nil, fault.New(fault.Invalid, fault.BadPeriod, "%s is neither a day nor a time.", plain.Quoted(given)).
			Advise("Write a day as 2026-11-30, or a time as 2026-11-30T09:30:00Z.").At(field)
	}
	return &at, nil
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
	v.Sentences = r.Sentences
	if r.Body != nil {
		v.Body = json.RawMessage(r.Body)
	}
	return v
}
