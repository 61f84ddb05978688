package api

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"net/http"

	"endeixis/core/ledger"
	"endeixis/core/plain"
	"endeixis/internal/access"
	"endeixis/internal/store"
	"endeixis/internal/wire"
)

func (a *API) registerRecords() {
	type list struct {
		Kind    string `query:"kind"`
		Verdict string `query:"verdict" enum:"cleared,unproven,refused"`
		Batch   int64  `query:"batch"`
		Name    string `query:"name" maxLength:"500" doc:"A part of the subject, ignoring case."`
		Cursor  string `query:"cursor"`
		Limit   int    `query:"limit" minimum:"1" maximum:"200" default:"50"`
	}
	handle(a, op(http.MethodGet, "/records", "list-records", "List records, the newest first", access.Auditor), func(ctx context.Context, in *list) (*body[wire.Page[wire.Record]], error) {
		page, err := a.Query.Records(ctx, store.RecordFilter{Kind: in.Kind, Verdict: in.Verdict, BatchID: in.Batch, Name: in.Name, Limit: in.Limit}, in.Cursor)
		return answer(pageOf(page, recordOf), err)
	})
	type byPosition struct {
		Position int64 `path:"position" minimum:"0"`
	}
	handle(a, op(http.MethodGet, "/records/{position}", "show-record", "Show a record", access.Auditor), func(ctx context.Context, in *byPosition) (*body[wire.Record], error) {
		r, err := a.Records.Get(ctx, in.Position)
		return answer(recordOf(r), err)
	})
	handle(a, op(http.MethodGet, "/records/{position}/receipt", "make-receipt", "Hand out the receipt of a record", access.Auditor), func(ctx context.Context, in *byPosition) (*body[ledger.Receipt], error) {
		return answer(a.Records.Receipt(ctx, in.Position))
	})
	handle(a, op(http.MethodGet, "/ledger/checkpoint", "show-checkpoint", "Sign and show the ledger's size and root", access.Auditor), func(ctx context.Context, _ *struct{}) (*body[wire.Checkpoint], error) {
		c, signed, err := a.Records.Sign(ctx)
		return answer(wire.Checkpoint{Size: c.Size, Root: c.Root.String(), Signed: signed, PublicKey: a.Records.PublicKey()}, err)
	})
	type auditIn struct {
		Body struct {
			Checkpoint string `json:"checkpoint,omitempty" doc:"A signed checkpoint that was kept outside, to be checked too."`
		}
	}
	handle(a, op(http.MethodPost, "/ledger/audits", "audit-ledger", "Recompute the whole ledger", access.Auditor), func(ctx context.Context, in *auditIn) (*body[wire.Audit], error) {
		if _, _, err := a.Records.Sign(ctx); err != nil {
			a.Log.Error("signing before an audit", "error", err) // the audit itself will say why
		}
		report, err := a.Records.Audit(ctx, in.Body.Checkpoint)
		return answer(wire.Audit(report), err)
	})
}

func recordOf(r store.Record) wire.Record {
	v := wire.Record{Position: r.Position, Kind: r.Kind, At: r.At, By: r.By, Subject: plain.Text(r.Subject), Verdict: r.Verdict, Batch: r.BatchID, Leaf: hex.EncodeToString(r.Leaf)}
	if r.Body != nil {
		v.Body = json.RawMessage(r.Body)
	}
	return v
}
