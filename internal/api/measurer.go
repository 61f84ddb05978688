package api

import (
	"context"
	"encoding/base64"
	"fmt"
	"math"
	"net/http"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"

	"endeixis/core/container"
	"endeixis/core/plain"
	"endeixis/core/readback"
	"endeixis/core/survey"
	"endeixis/core/verify"
	"endeixis/internal/access"
	"endeixis/internal/batches"
	"endeixis/internal/fault"
	"endeixis/internal/query"
	"endeixis/internal/recorded"
	"endeixis/internal/roles"
	"endeixis/internal/sources"
	"endeixis/internal/wire"
)

// registerMeasurer registers what a measurer sends and asks.
func (a *API) registerMeasurer() {
	handle(a, wire.SendListing, a.sendListing)
	handle(a, wire.CloseListing, a.closeListing)
	handle(a, wire.ListAssignments, a.listAssignments)
	handle(a, wire.SendMeasurements, a.sendMeasurements)
}

func (a *API) sendListing(ctx context.Context, in *wire.ListingAt) (*wire.Nothing, error) {
	p, err := a.measures(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	page, err := listingOf(in.Body)
	if err != nil {
		return nil, err
	}
	return nil, a.Batches.SendListing(ctx, p.Name, in.ID, in.Page, page)
}

func (a *API) closeListing(ctx context.Context, in *wire.ListingEnd) (*wire.Batch, error) {
	p, err := a.measures(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	b, err := a.Batches.CloseListing(ctx, p.Name, in.ID, in.Body.Pages)
	return answer(batchOf(b), err)
}

func (a *API) listAssignments(
	ctx context.Context, in *wire.ListAssignmentsRequest,
) (*wire.Page[wire.Assignment], error) {
	p, err := a.measures(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	after := -1
	if in.Cursor != "" {
		if after, err = strconv.Atoi(in.Cursor); err != nil || after < 0 || after > math.MaxInt32 {
			return nil, fault.New(
				fault.Invalid, fault.BadCursor, "This is not a cursor that was given out with a list.",
			).
				At("cursor")
		}
	}
	assignments, err := a.Batches.Assignments(ctx, p.Name, in.ID, after, in.Limit)
	out := wire.Page[wire.Assignment]{Items: convert(assignments, func(c batches.Assignment) wire.Assignment {
		return wire.Assignment{
			N: c.N, File: container.Outermost(c.Target.Path), Target: *c.Target,
			Expected: convert(c.Expected, survey.StatedIn),
		}
	})}
	if len(assignments) == in.Limit {
		out.Next = strconv.Itoa(assignments[len(assignments)-1].N)
	}
	return answer(out, err)
}

func (a *API) sendMeasurements(ctx context.Context, in *wire.SendMeasurementsRequest) (*wire.Taken, error) {
	p, err := a.measures(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	taken, err := a.Batches.Take(
		ctx, p.Name, in.ID,
		convert(in.Body.Measured, func(m wire.Submission) batches.Submission {
			return batches.Submission{
				N: m.N, Submission: verify.Submission{Reading: m.Reading, Diagnoses: m.Diagnoses},
			}
		}),
	)
	return answer(wire.Taken{
		Taken:    taken.Taken,
		Known:    taken.Known,
		Left:     taken.Left,
		Declined: convert(taken.Declined, func(d batches.Decline) wire.Declined { return wire.Declined(d) }),
	}, err)
}

func (a *API) registerDrills() {
	content := describe(wire.FetchContent)
	content.Responses = map[string]*huma.Response{"200": {
		Description: "The bytes; 206 for a part of them. ETag has their SHA-256 digest as it was when they were verified: hold them against it.",
		Content: map[string]*huma.MediaType{
			"application/octet-stream": {Schema: &huma.Schema{Type: "string", Format: "binary"}},
		},
	}}
	huma.Register(a.huma, content, func(ctx context.Context, in *wire.ContentRequest) (*huma.StreamResponse, error) {
		return a.fetch(ctx, in.ID, in.N)
	})
	handle(a, wire.ListPieces, func(ctx context.Context, in *wire.PiecesRequest) (*wire.PieceDigests, error) {
		sums, err := a.Batches.Pieces(ctx, in.ID, in.N, readback.Range{Offset: in.Offset, Length: in.Length}, in.Size)
		return answer(wire.PieceDigests{SHA256: sums}, err)
	})
	handle(a, wire.ShowDrillAssignment, a.showDrillAssignment)
	handle(a, wire.DrillBatch, a.drillBatch)
}

func (a *API) showDrillAssignment(ctx context.Context, in *wire.ItemAt) (*wire.DrillAssignment, error) {
	c, err := a.Batches.DrillAssignment(ctx, in.ID, in.N)
	if err != nil {
		return nil, err
	}
	return &wire.DrillAssignment{N: c.N, Target: *c.Target, Alterations: c.Alterations}, nil
}

func (a *API) drillBatch(ctx context.Context, in *wire.DrillRequest) (*wire.Drill, error) {
	p, _ := principal(ctx)
	var items []batches.DrillItem
	for _, i := range in.Body.Items {
		items = append(items, batches.DrillItem(i))
	}
	d, err := a.Batches.Drill(ctx, p.Name, in.ID, items)
	if err != nil {
		return nil, err
	}
	if !d.Passed {
		a.Log.Error(
			"a drill raised the alarm: what was altered was cleared, or a file is not what was verified", "batch",
			in.ID, "record", d.Record,
		)
	}
	return &wire.Drill{
		Batch: in.ID, Record: d.Record, Passed: d.Passed,
		Items: convert(d.Items, func(i recorded.DrilledItem) wire.DrilledItem {
			return wire.DrilledItem{N: i.N, Shown: i.Item, Rows: i.Rows}
		}),
	}, nil
}

// sourceOf returns where the files of a new batch are.
func sourceOf(in wire.NewBatch) (sources.Source, error) {
	m := in.Measurer
	if m == nil {
		return sources.OfDepot(in.Depot, in.Path)
	}
	if in.Depot != "" || in.Path != "" {
		return sources.Source{}, fault.New(
			fault.Invalid, fault.TwoSources, "The files are either in a depot or measured elsewhere, and not both.",
		).
			At("measurer")
	}
	return sources.OfMeasurer(sources.Kind(m.Kind), m.Host, m.Path)
}

// listingOf reads a page of a list of files.
func listingOf(in wire.ListingPage) (batches.ListingPage, error) {
	out := batches.ListingPage{}
	for i, f := range in.Files {
		found := survey.Found{
			Path: f.Path, Size: f.Size, ModTime: f.ModTime.UTC(), Problem: f.Problem, Promised: f.Promised,
		}
		if f.Changed != nil {
			found.Changed = f.Changed.UTC()
		}
		given, err := f.Given.Survey()
		if err != nil {
			return out, fault.New(fault.Invalid, fault.BadListing, "The list of files cannot be used: %s.", err.Error()).
				At(fmt.Sprintf("files[%d].given", i))
		}
		found.Given = given
		if f.Content != nil {
			content, err := base64.StdEncoding.DecodeString(*f.Content)
			if err != nil {
				return out, notBase64(fmt.Sprintf("files[%d].content", i))
			}
			found.Content = content
			if content == nil {
				found.Content = []byte{}
			}
		}
		out.Files = append(out.Files, found)
	}
	for i, c := range in.Containers {
		looked := survey.Looked{Path: c.Path, Layout: c.Layout, Trouble: c.Trouble, Contents: map[string][]byte{}}
		for name, text := range c.Contents {
			content, err := base64.StdEncoding.DecodeString(text)
			if err != nil {
				return out, notBase64(fmt.Sprintf("containers[%d].contents", i))
			}
			looked.Contents[name] = content
		}
		out.Containers = append(out.Containers, looked)
	}
	return out, nil
}

func notBase64(field string) error {
	return fault.New(fault.Invalid, fault.NotBase64, "The content is not base64.").At(field)
}

// withAgainst tells a batch with what it is read back against.
func (a *API) withAgainst(ctx context.Context, b query.Batch) (*wire.Batch, error) {
	out := batchOf(b)
	against, err := a.Batches.Against(ctx, b)
	out.Against = againstOf(against)
	return answer(out, err)
}

func againstOf(a *survey.Against) *wire.Against {
	if a == nil {
		return nil
	}
	out := &wire.Against{
		Batch: a.Batch, N: a.N, Shown: plain.Text(a.Path), Inner: plain.Text(a.Inner), Size: a.Size,
		Digests: map[string]string{}, Forms: a.Forms,
	}
	for algorithm, value := range a.Digests {
		out.Digests[algorithm.String()] = value.String()
	}
	return out
}

// measures returns who measures a batch. A limited token has to be good for what the batch is
// about, as it had to be to make one.
func (a *API) measures(ctx context.Context, id int64) (access.Principal, error) {
	p, _ := principal(ctx)
	if !p.Limited() {
		return p, nil
	}
	b, err := a.Batches.Get(ctx, id)
	if err != nil {
		return p, err
	}
	return p, within(p, roles.Operator, wire.RunBatchRequest{Body: wire.NewBatch{Publisher: b.Publisher}})
}

// inDepot is what reads from a depot.
type inDepot string

// Reaches says from which.
func (d inDepot) Reaches() wire.Scope { return wire.Scope{Depot: string(d), Reads: true} }

// fetch answers with the bytes of a file, or the part that was asked for.
func (a *API) fetch(ctx context.Context, id int64, n int) (*huma.StreamResponse, error) {
	w, _ := ctx.Value(whoKey{}).(who)
	leave, ok := a.streams.enter(w.principal.Name)
	if !ok {
		return nil, problemOf(
			ctx, a.Log,
			fault.New(fault.TooMany, fault.TooManyStreams, "You fetch or follow %d things already.", maxStreams).
				Advise("Wait until some of them are done."),
		)
	}
	content, err := a.Batches.Content(ctx, id, n)
	if err == nil {
		if err = within(w.principal, roles.Operator, inDepot(content.Depot)); err != nil {
			content.Close()
		}
	}
	if err != nil {
		leave()
		return nil, problemOf(ctx, a.Log, err)
	}
	return &huma.StreamResponse{Body: func(h huma.Context) {
		defer leave()
		defer content.Close()
		c := humagin.Unwrap(h)
		c.Header("Content-Type", "application/octet-stream")
		c.Header("Content-Disposition", "attachment")
		c.Header("ETag", strconv.Quote("sha256-"+content.SHA256.String()))
		http.ServeContent(c.Writer, c.Request, "", time.Time{}, content)
	}}, nil
}
