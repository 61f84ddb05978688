package api

import (
	"context"
	"errors"
	"path"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2/sse"
	"github.com/secure-systems-lab/go-securesystemslib/dsse"

	"endeixis/core/manifest"
	"endeixis/core/plain"
	"endeixis/core/survey"
	"endeixis/internal/batches"
	"endeixis/internal/fault"
	"endeixis/internal/origins"
	"endeixis/internal/query"
	"endeixis/internal/roles"
	"endeixis/internal/sources"
	"endeixis/internal/state"
	"endeixis/internal/wire"
)

func (a *API) registerBatches() {
	handle(a, wire.RunBatch, a.runBatch)
	handle(a, wire.CancelBatch, func(ctx context.Context, in *wire.BatchStepRequest) (*wire.Batch, error) {
		p, _ := principal(ctx)
		cancel := a.Batches.Cancel
		if p.Role.May(roles.Curator) {
			cancel = a.Batches.CancelAny
		}
		b, err := cancel(ctx, p.Name, in.ID, in.Body.Reason)
		return answer(batchOf(b), err)
	})
	handle(a, wire.CompareBatches, a.compareBatches)
	handle(a, wire.SettleBatch, func(ctx context.Context, in *wire.BatchStepRequest) (*wire.Batch, error) {
		p, _ := principal(ctx)
		b, err := a.Batches.Settle(ctx, p.Name, in.ID, in.Body.Reason)
		return answer(batchOf(b), err)
	})
	handle(a, wire.ListAttention, a.listAttention)
	handle(a, wire.SurveyFolder, a.surveyFolder)
	handle(a, wire.ReadManifest, a.readManifest)
	handle(a, wire.ListBatches, a.listBatches)
	handle(a, wire.ShowBatch, a.showBatch)
	handle(a, wire.ListItems, a.listItems)
	handle(a, wire.ListItemRows, a.listItemRows)
	handle(a, wire.ShowItem, a.showItem)
	handle(a, wire.AttestBatch, a.attestBatch)
	handle(a, wire.AttestItem, a.attestItem)
	handle(a, wire.ListCopies, a.listCopies)
	handle(a, wire.ListOrigins, func(_ context.Context, _ *wire.Nothing) (*wire.Page[wire.Origin], error) {
		return answer(wire.Page[wire.Origin]{Items: convert(a.Origins.All(), func(o origins.Origin) wire.Origin {
			return wire.Origin{Name: o.Name, URL: o.URL, Channel: o.Channel}
		})}, nil)
	})
	handle(a, wire.ListAbsent, a.listAbsent)
	sse.Register(
		a.huma, describe(wire.FollowBatch),
		map[string]any{
			"batch": wire.Batch{}, "problem": Problem{},
		},
		func(ctx context.Context, in *wire.FollowBatchRequest, send sse.Sender) {
			a.follow(ctx, in.ID, in.Last, send)
		},
	)
	handle(a, wire.ShowOverview, func(ctx context.Context, _ *wire.Nothing) (*wire.Overview, error) {
		return answer(a.overview(ctx))
	})
}

func (a *API) runBatch(ctx context.Context, in *wire.RunBatchRequest) (*wire.Batch, error) {
	p, _ := principal(ctx)
	from := map[string]survey.Provenance{}
	for _, o := range in.Body.Origins {
		from[o.Manifest] = survey.Provenance{Channel: o.Channel, Place: o.Place}
	}
	source, err := sourceOf(in.Body)
	if err != nil {
		return nil, err
	}
	software := ""
	if in.Body.Measurer != nil {
		software = in.Body.Measurer.Software
	}
	b, err := a.Batches.Create(ctx, p.Name, batches.Request{
		ComesFrom: from,
		Copies: convert(in.Body.Copies, func(c wire.GivenCopy) batches.GivenCopy {
			return batches.GivenCopy{
				Of: c.Of, Origin: c.Origin, Path: c.Path,
				From: survey.Provenance{Channel: c.Channel, Place: c.Place}, Text: c.Text,
			}
		}),
		Source:         source,
		Against:        (*batches.GivenAgainst)(in.Body.Against),
		Label:          in.Body.Label,
		Publisher:      in.Body.Publisher,
		RequireAll:     in.Body.RequireAll,
		Companions:     in.Body.Companions,
		Software:       software,
		IdempotencyKey: in.Key,
		Corrections:    corrections(in.Body.Corrections),
	})
	if err != nil {
		return nil, err
	}
	return a.withAgainst(ctx, b)
}

func (a *API) surveyFolder(ctx context.Context, in *wire.SurveyRequest) (*wire.Survey, error) {
	source, err := sources.OfDepot(in.Body.Depot, in.Body.Path)
	if err != nil {
		return nil, err
	}
	plan, err := a.Batches.Plan(ctx, source, corrections(in.Body.Corrections))
	if err != nil {
		return nil, err
	}
	return answer(wire.SurveyOf(plan), nil)
}

func (a *API) readManifest(_ context.Context, in *wire.ReadManifestRequest) (*wire.ManifestContent, error) {
	m, err := survey.ReadList(
		strings.NewReader(in.Body.Text),
		manifest.Options{
			FileName: path.Base(in.Body.Name), MaxEntries: 100_000, Beside: manifest.NewNames(in.Body.Beside),
		},
	)
	var limit *manifest.LimitError
	if errors.As(err, &limit) {
		err = fault.New(fault.Invalid, fault.ManifestTooLarge, "The manifest was not read: %v.", limit).
			Advise("“endeixis manifest show” reads longer ones.").
			At("text")
	}
	if err != nil {
		return nil, err
	}
	return answer(manifestContentOf(m), nil)
}

func (a *API) listBatches(ctx context.Context, in *wire.ListBatchesRequest) (*wire.Page[wire.Batch], error) {
	filter := query.BatchFilter{State: in.State, Verdict: in.Verdict, Limit: in.Limit}
	if in.Depot != "" || in.Folder != "" {
		source, err := sources.OfDepot(in.Depot, in.Folder)
		if err != nil {
			return nil, err
		}
		filter.Source = source.Reference
	}
	page, err := a.Query.Batches(ctx, filter, in.Cursor)
	return answer(pageOf(page, batchOf), err)
}

func (a *API) showBatch(ctx context.Context, in *wire.BatchAt) (*wire.Batch, error) {
	b, err := a.Batches.Get(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	return a.withAgainst(ctx, b)
}

func itemFilterOf(in *wire.ListItemsRequest) query.ItemFilter {
	return query.ItemFilter{Verdict: in.Verdict, Role: string(in.Role), Match: in.Match, Limit: in.Limit}
}

func (a *API) listItems(ctx context.Context, in *wire.ListItemsRequest) (*wire.Page[wire.Item], error) {
	if _, err := a.Batches.Get(ctx, in.ID); err != nil {
		return nil, err
	}
	page, err := a.Query.Items(ctx, in.ID, itemFilterOf(in), in.Cursor)
	if err != nil {
		return nil, err
	}
	out := wire.Page[wire.Item]{Items: []wire.Item{}, Next: page.Next}
	now, err := a.nowOf(ctx, in.ID, convert(page.Rows, func(r query.Item) int { return r.N })...)
	if err != nil {
		return nil, err
	}
	for _, row := range page.Rows {
		view := itemOf(row)
		view.Now = now[row.N]
		out.Items = append(out.Items, view)
	}
	return answer(out, nil)
}

func (a *API) listItemRows(ctx context.Context, in *wire.ListItemsRequest) (*wire.Page[wire.ItemRow], error) {
	if _, err := a.Batches.Get(ctx, in.ID); err != nil {
		return nil, err
	}
	page, err := a.Query.Rows(ctx, in.ID, itemFilterOf(in), in.Cursor)
	return answer(pageOf(page, rowOf), err)
}

func (a *API) showItem(ctx context.Context, in *wire.ItemAt) (*wire.Item, error) {
	row, err := a.Query.Item(ctx, in.ID, in.N)
	if err != nil {
		return nil, err
	}
	now, err := a.nowOf(ctx, in.ID, in.N)
	if err != nil {
		return nil, err
	}
	item := itemOf(row)
	item.Now = now[in.N]
	if item.Linked, err = a.Query.Linked(ctx, in.ID, item.Path, item.Paths); err != nil {
		return nil, err
	}
	backs, err := a.Query.ReadBacks(ctx, in.ID, in.N)
	for _, r := range backs {
		item.ReadBacks = append(
			item.ReadBacks,
			wire.ReadBack{
				Batch: r.Batch, N: r.N, Medium: plain.Text(r.Medium), Source: plain.Text(r.Source), At: r.At,
				Verdict: r.Verdict, Now: r.Now,
			},
		)
	}
	return answer(item, err)
}

func (a *API) attestBatch(ctx context.Context, in *wire.BatchAt) (*wire.Envelope, error) {
	if _, err := a.Batches.Get(ctx, in.ID); err != nil {
		return nil, err
	}
	return envelopeOf(a.Attest.Batch(ctx, in.ID))
}

func (a *API) attestItem(ctx context.Context, in *wire.ItemAt) (*wire.Envelope, error) {
	row, err := a.Query.Item(ctx, in.ID, in.N)
	if err != nil {
		return nil, err
	}
	return envelopeOf(a.Attest.Item(ctx, in.ID, row.Path))
}

func (a *API) listCopies(ctx context.Context, in *wire.BatchAt) (*wire.Page[wire.Copy], error) {
	if _, err := a.Batches.Get(ctx, in.ID); err != nil {
		return nil, err
	}
	rows, err := a.Query.Copies(ctx, in.ID)
	return answer(wire.Page[wire.Copy]{Items: convert(rows, copyOf)}, err)
}

func (a *API) listAbsent(ctx context.Context, in *wire.ListAbsentRequest) (*wire.Page[wire.Absent], error) {
	page, err := a.Query.Absents(ctx, in.ID, in.Cursor, in.Limit)
	return answer(
		pageOf(
			page,
			func(r query.Absent) wire.Absent {
				return wire.Absent{
					Name: r.Name, Manifest: r.Manifest,
					Line: r.Line,
				}
			},
		),
		err,
	)
}

// follow sends the batch whenever it has moved, until it is closed. Every
// event holds everything, so one that was missed is made up for by the next;
// the event ID counts settled items and bytes only to let a client that comes
// back be told nothing twice.
func (a *API) follow(ctx context.Context, id int64, last int, send sse.Sender) {
	w, _ := ctx.Value(whoKey{}).(who)
	leave, ok := a.streams.enter(w.principal.Name)
	if !ok {
		err := fault.New(fault.TooMany, fault.TooManyStreams, "You follow %d batches already.", maxStreams).
			Advise("Close some of them; GET /batches/{id} tells how one stands.")
		send(sse.Message{Data: *problemOf(ctx, a.Log, err)}) //nolint:errcheck // the other side is gone
		return
	}
	defer leave()
	moved, end := a.Hub.Watch(id)
	defer end()
	// A look now and then makes up for announcements that were lost.
	tick := time.NewTicker(2 * time.Second)
	defer tick.Stop()
	sent := last
	for {
		// A person who is shut out meanwhile follows no longer.
		err := w.again(ctx)
		var b query.Batch
		if err == nil {
			b, err = a.Batches.Get(ctx, id)
		}
		if err != nil {
			p := problemOf(ctx, a.Log, err)
			send(sse.Message{Data: *p}) //nolint:errcheck // the other side is gone
			return
		}
		view := batchOf(b)
		if event := eventOf(view); event != sent {
			if err := send(sse.Message{ID: event, Data: view}); err != nil {
				return
			}
			sent = event
		}
		if view.Closed() {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-a.Stopping:
			return
		case <-moved:
		case <-tick.C:
		}
	}
}

func corrections(in []wire.Correction) []survey.Correction {
	return convert(in, func(c wire.Correction) survey.Correction { return survey.Correction(c) })
}

func batchOf(b query.Batch) wire.Batch {
	depot, folder := b.Source.Folder()
	var now *wire.BatchNow
	if n := b.Now; n != nil {
		now = &wire.BatchNow{
			Verdict: n.Verdict, At: n.At.In(time.UTC), Reassessment: n.Reassessment, Record: n.Record,
			Counts: wire.Counts{
				Cleared: n.Cleared, Unproven: n.Unproven, Refused: n.Refused, Absent: b.Absent,
				Companions: n.Companions,
			},
		}
	}
	return wire.Batch{
		ID:         b.ID,
		Label:      b.Label,
		Source:     wire.Source(b.Source),
		Depot:      depot,
		Path:       folder,
		Publisher:  b.Publisher,
		Expected:   b.Expected,
		RequireAll: b.RequireAll,
		Companions: b.Named,
		Policy:     b.PolicyVersion,
		AskedBy:    b.AskedBy,
		Created:    b.CreatedAt,
		Finished:   b.FinishedAt,
		State:      b.State,
		Verdict:    b.Verdict,
		Now:        now,
		Note:       b.Note,
		Record:     b.Record,
		Counts: wire.Counts{
			Cleared: b.Cleared, Unproven: b.Unproven, Refused: b.Refused, Absent: b.Absent,
			Companions: b.Companions,
		},
		Progress: wire.Progress{
			Items: b.Items, ItemsDone: b.ItemsDone, Bytes: b.Bytes, BytesDone: b.BytesDone,
		},
	}
}

// eventOf numbers a state of the batch; it only ever grows.
func eventOf(v wire.Batch) int {
	n := 1 + v.Progress.ItemsDone + int(v.Progress.BytesDone)
	switch v.State {
	case state.BatchWaiting:
	case state.BatchMeasuring:
		n++
	default:
		n += 2
	}
	return n
}

func copyOf(c query.Copy) wire.Copy {
	out := wire.Copy{
		Of: plain.Text(c.Of), Channel: c.Channel, Place: plain.Text(c.Place), Differ: []wire.Change{},
		Sentence: "It has not been had yet.",
	}
	read := c.Read
	if read == nil {
		return out
	}
	out.Size, out.SHA256, out.Identical = read.Size, read.SHA256.String(), read.Identical
	out.Same, out.More, out.Trouble = read.Same, read.More, read.Trouble
	for _, c := range read.Differ {
		out.Differ = append(
			out.Differ,
			wire.Change{
				Kind: c.Kind, Name: plain.Text(c.Name), Was: plain.Text(c.Was), Before: c.Before, After: c.After,
			},
		)
	}
	out.Sentence = read.String()
	return out
}

func envelopeOf(e *dsse.Envelope, err error) (*wire.Envelope, error) {
	if err != nil {
		return nil, err
	}
	out := wire.Envelope{PayloadType: e.PayloadType, Payload: e.Payload, Signatures: []wire.EnvelopeSignature{}}
	for _, s := range e.Signatures {
		out.Signatures = append(out.Signatures, wire.EnvelopeSignature(s))
	}
	return &out, nil
}
