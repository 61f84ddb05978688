package api

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"path"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2/sse"

	"endeixis/core/judge"
	"endeixis/core/manifest"
	"endeixis/core/plain"
	"endeixis/core/survey"
	"endeixis/internal/access"
	"endeixis/internal/batches"
	"endeixis/internal/fault"
	"endeixis/internal/origins"
	"endeixis/internal/sources"
	"endeixis/internal/store"
	"endeixis/internal/wire"
)

func (a *API) registerBatches() {
	type newBatch struct {
		Key  string `header:"Idempotency-Key" maxLength:"200" doc:"A request repeated with the same key makes no second batch."`
		Body struct {
			Depot      string `json:"depot" maxLength:"100"`
			Path       string `json:"path" maxLength:"4096" doc:"The folder, relative to the depot."`
			Label      string `json:"label,omitempty"`
			Publisher  string `json:"publisher,omitempty" doc:"The expected publisher; without it the scopes of the publishers tell."`
			RequireAll bool   `json:"require_all,omitempty" doc:"Refuse the batch when a manifest lists files that are not here."`

			Corrections []wire.Correction `json:"corrections,omitempty" maxItems:"1000" doc:"Pairs of signature and file, set by hand."`
			Origins     []wire.ComesFrom  `json:"origins,omitempty" maxItems:"1000" doc:"Where manifests of the folder come from."`
			Copies      []wire.GivenCopy  `json:"copies,omitempty" maxItems:"16" doc:"Other copies of manifests, to hold those in the folder against."`
		}
	}
	create := op(http.MethodPost, "/batches", "run-batch", "Verify a folder of a depot", access.Operator)
	create.DefaultStatus = http.StatusAccepted
	handle(a, create, func(ctx context.Context, in *newBatch) (*body[wire.Batch], error) {
		p, _ := principal(ctx)
		from := map[string]survey.Origin{}
		for _, o := range in.Body.Origins {
			from[o.Manifest] = survey.Origin{Channel: survey.Channel(o.Channel), Place: o.Place}
		}
		source, err := sources.OfDepot(in.Body.Depot, in.Body.Path)
		if err != nil {
			return nil, err
		}
		b, err := a.Batches.Create(ctx, p.Name, batches.Request{
			ComesFrom: from, Copies: convert(in.Body.Copies, func(c wire.GivenCopy) batches.Copy {
				return batches.Copy{Of: c.Of, Origin: c.Origin, Path: c.Path, From: survey.Origin{Channel: survey.Channel(c.Channel), Place: c.Place}, Text: c.Text}
			}),
			Source: source, Label: in.Body.Label, Publisher: in.Body.Publisher,
			RequireAll: in.Body.RequireAll, IdempotencyKey: in.Key, Corrections: corrections(in.Body.Corrections),
		})
		if err != nil {
			return nil, err
		}
		return answer(batchOf(b), nil)
	})
	type newSurvey struct {
		Body struct {
			Depot       string            `json:"depot" maxLength:"100"`
			Path        string            `json:"path" maxLength:"4096"`
			Corrections []wire.Correction `json:"corrections,omitempty" maxItems:"1000"`
		}
	}
	handle(a, op(http.MethodPost, "/surveys", "survey-folder", "Show what a batch would check and why, without checking it", access.Operator), func(ctx context.Context, in *newSurvey) (*body[wire.Survey], error) {
		source, err := sources.OfDepot(in.Body.Depot, in.Body.Path)
		if err != nil {
			return nil, err
		}
		plan, err := a.Batches.Plan(ctx, source, corrections(in.Body.Corrections))
		if err != nil {
			return nil, err
		}
		return answer(surveyOf(plan), nil)
	})
	type manifestText struct {
		Body struct {
			Text string `json:"text" maxLength:"4194304" doc:"The manifest, or a page or message with digests in it."`
			Name string `json:"name,omitempty" maxLength:"255" doc:"Its file name, which can tell the algorithm."`
		}
	}
	handle(a, op(http.MethodPost, "/manifest-readings", "read-manifest", "Show what is understood of a manifest, and what is not; nothing is kept", access.Auditor), func(_ context.Context, in *manifestText) (*body[wire.Reading], error) {
		m, err := manifest.Read(strings.NewReader(in.Body.Text), manifest.Options{FileName: path.Base(in.Body.Name), MaxEntries: 100_000})
		var limit *manifest.LimitError
		if errors.As(err, &limit) {
			err = fault.New(fault.Invalid, "manifest-too-large", "The manifest was not read: %v.", limit).Advise("“endeixis manifest show” reads longer ones.").At("text")
		}
		if err != nil {
			return nil, err
		}
		return answer(readingOf(m), nil)
	})
	type listBatches struct {
		State   string `query:"state" enum:"waiting,measuring,done,failed"`
		Verdict string `query:"verdict" enum:"cleared,unproven,refused"`
		Cursor  string `query:"cursor"`
		Limit   int    `query:"limit" minimum:"1" maximum:"200" default:"50"`
	}
	handle(a, op(http.MethodGet, "/batches", "list-batches", "List batches, the newest first", access.Auditor), func(ctx context.Context, in *listBatches) (*body[wire.Page[wire.Batch]], error) {
		page, err := a.Query.Batches(ctx, store.BatchFilter{State: in.State, Verdict: in.Verdict, Limit: in.Limit}, in.Cursor)
		return answer(pageOf(page, batchOf), err)
	})
	type byID struct {
		ID int64 `path:"id"`
	}
	handle(a, op(http.MethodGet, "/batches/{id}", "show-batch", "Show a batch", access.Auditor), func(ctx context.Context, in *byID) (*body[wire.Batch], error) {
		b, err := a.Batches.Get(ctx, in.ID)
		return answer(batchOf(b), err)
	})
	type listItems struct {
		ID      int64  `path:"id"`
		Verdict string `query:"verdict" enum:"cleared,unproven,refused"`
		Role    string `query:"role" enum:"artifact,manifest,signature,key,evidence" doc:"Evidence is all that is no artifact."`
		Match   string `query:"match" maxLength:"500" doc:"A pattern with * and ? for the path or its last part."`
		Cursor  string `query:"cursor"`
		Limit   int    `query:"limit" minimum:"1" maximum:"500" default:"100"`
	}
	handle(a, op(http.MethodGet, "/batches/{id}/items", "list-items", "List the items of a batch: the refused first, then those unproven, cleared and what is no artifact, each by path", access.Auditor), func(ctx context.Context, in *listItems) (*body[wire.Page[wire.Item]], error) {
		if _, err := a.Batches.Get(ctx, in.ID); err != nil {
			return nil, err
		}
		page, err := a.Query.Items(ctx, in.ID, store.ItemFilter{Verdict: in.Verdict, Role: in.Role, Match: in.Match, Limit: in.Limit}, in.Cursor)
		if err != nil {
			return nil, err
		}
		out := wire.Page[wire.Item]{Items: []wire.Item{}, Next: page.Next}
		now, err := a.nowOf(ctx, in.ID, convert(page.Rows, func(r store.JudgedItem) int { return r.N })...)
		if err != nil {
			return nil, err
		}
		for _, row := range page.Rows {
			view, err := itemOf(row)
			if err != nil {
				return nil, err
			}
			view.Now = now[row.N]
			out.Items = append(out.Items, view)
		}
		return answer(out, nil)
	})
	type oneItem struct {
		ID int64 `path:"id"`
		N  int   `path:"n" doc:"The item's number within the batch."`
	}
	handle(a, op(http.MethodGet, "/batches/{id}/items/{n}", "show-item", "Show an item with its evidence", access.Auditor), func(ctx context.Context, in *oneItem) (*body[wire.Item], error) {
		row, err := a.Store.ItemAt(ctx, in.ID, in.N)
		if errors.Is(err, store.ErrNotFound) {
			return nil, fault.New(fault.NotFound, "item-unknown", "Batch %d has no item %d.", in.ID, in.N)
		}
		if err != nil {
			return nil, err
		}
		now, err := a.nowOf(ctx, in.ID, in.N)
		if err != nil {
			return nil, err
		}
		item, err := itemOf(row)
		if err != nil {
			return nil, err
		}
		item.Now = now[in.N]
		item.Linked, err = a.Query.Linked(ctx, in.ID, item.Path, item.Paths)
		return answer(item, err)
	})
	handle(a, op(http.MethodGet, "/batches/{id}/copies", "list-copies", "Tell how copies of the batch's manifests compare", access.Auditor), func(ctx context.Context, in *byID) (*body[wire.Page[wire.Copy]], error) {
		if _, err := a.Batches.Get(ctx, in.ID); err != nil {
			return nil, err
		}
		rows, err := a.Store.Copies(ctx, in.ID)
		out := wire.Page[wire.Copy]{Items: []wire.Copy{}}
		for _, row := range rows {
			c, err := copyOf(row)
			if err != nil {
				return nil, err
			}
			out.Items = append(out.Items, c)
		}
		return answer(out, err)
	})
	handle(a, op(http.MethodGet, "/origins", "list-origins", "List the places from which copies of manifests can be fetched", access.Auditor), func(context.Context, *struct{}) (*body[wire.Page[wire.Origin]], error) {
		return answer(wire.Page[wire.Origin]{Items: convert(a.Origins.All(), func(o origins.Origin) wire.Origin {
			return wire.Origin{Name: o.Name, URL: o.URL, Channel: string(o.Channel)}
		})}, nil)
	})
	type listAbsent struct {
		ID     int64  `path:"id"`
		Cursor string `query:"cursor"`
		Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"1000"`
	}
	handle(a, op(http.MethodGet, "/batches/{id}/absent", "list-absent", "List the manifest entries of a batch whose files are not here", access.Auditor), func(ctx context.Context, in *listAbsent) (*body[wire.Page[wire.Absent]], error) {
		page, err := a.Query.Absents(ctx, in.ID, in.Cursor, in.Limit)
		return answer(pageOf(page, func(r store.Absent) wire.Absent { return wire.Absent{Name: r.Name, Manifest: r.Manifest, Line: r.Line} }), err)
	})
	type follow struct {
		ID   int64 `path:"id"`
		Last int   `header:"Last-Event-ID"`
	}
	sse.Register(a.huma, op(http.MethodGet, "/batches/{id}/events", "follow-batch", "Follow a batch; every event is the whole batch as it then stands", access.Auditor),
		map[string]any{"batch": wire.Batch{}, "problem": Problem{}}, func(ctx context.Context, in *follow, send sse.Sender) {
			a.follow(ctx, in.ID, in.Last, send)
		})
	handle(a, op(http.MethodGet, "/overview", "overview", "What needs attention", access.Auditor), func(ctx context.Context, _ *struct{}) (*body[wire.Overview], error) {
		return answer(a.overview(ctx))
	})
}

// follow sends the batch whenever it has moved, until it is closed. Every
// event holds everything, so one that was missed is made up for by the next;
// the event ID counts settled items and bytes only to let a client that comes
// back be told nothing twice.
func (a *API) follow(ctx context.Context, id int64, last int, send sse.Sender) {
	moved, end := a.Hub.Watch(id)
	defer end()
	// A look now and then makes up for announcements that were lost.
	tick := time.NewTicker(2 * time.Second)
	defer tick.Stop()
	sent := last
	for {
		b, err := a.Batches.Get(ctx, id)
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
		case <-moved:
		case <-tick.C:
		}
	}
}

func corrections(in []wire.Correction) []survey.Correction {
	return convert(in, func(c wire.Correction) survey.Correction { return survey.Correction(c) })
}

func batchOf(b store.Batch) wire.Batch {
	depot, folder := sources.Source{Kind: sources.Kind(b.SourceKind), Reference: b.Source}.Folder()
	v := wire.Batch{
		ID: b.ID, Label: b.Label, Source: wire.Source{Kind: b.SourceKind, Reference: b.Source}, Depot: depot, Path: folder, Publisher: b.Publisher, RequireAll: b.RequireAll, Policy: b.PolicyVersion,
		AskedBy: b.AskedBy, Created: b.CreatedAt, Finished: b.FinishedAt, State: b.State, Verdict: b.Verdict, Note: b.Note, Record: b.Position,
		Counts:   wire.Counts{Cleared: b.Cleared, Unproven: b.Unproven, Refused: b.Refused, Absent: b.Absent},
		Progress: wire.Progress{Items: b.Items, ItemsDone: b.ItemsDone, Bytes: b.Bytes, BytesDone: b.BytesDone},
	}
	if len(b.Expected) > 0 {
		var e judge.Expectation
		if json.Unmarshal(b.Expected, &e) == nil {
			v.Expected = &e
		}
	}
	return v
}

// eventOf numbers a state of the batch; it only ever grows.
func eventOf(v wire.Batch) int {
	n := 1 + v.Progress.ItemsDone + int(v.Progress.BytesDone)
	switch v.State {
	case "measuring":
		n++
	case "done", "failed":
		n += 2
	}
	return n
}

func copyOf(row store.Copy) (wire.Copy, error) {
	out := wire.Copy{Of: plain.Text(row.Of), Channel: row.Channel, Place: plain.Text(row.Place), Differ: []wire.Change{}, Sentence: "It has not been had yet."}
	if row.Summary == nil {
		return out, nil
	}
	var read survey.CopyRead
	if err := json.Unmarshal(row.Summary, &read); err != nil {
		return out, err
	}
	out.Size, out.SHA256, out.Identical, out.Same, out.More, out.Trouble = read.Size, read.SHA256.String(), read.Identical, read.Same, read.More, read.Trouble
	for _, c := range read.Differ {
		out.Differ = append(out.Differ, wire.Change{Kind: c.Kind, Name: plain.Text(c.Name), Was: plain.Text(c.Was), Before: c.Before, After: c.After})
	}
	out.Sentence = read.String()
	return out, nil
}
