package batches

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"strings"

	"endeixis/core/container"
	"endeixis/core/diagnose"
	"endeixis/core/judge"
	"endeixis/core/measure"
	"endeixis/core/plain"
	"endeixis/core/satchel"
	"endeixis/core/survey"
	"endeixis/core/verify"
	"endeixis/internal/fault"
	"endeixis/internal/sources"
	"endeixis/internal/state"
	"endeixis/internal/store"
)

// Plan surveys a folder without verifying anything.
func (s *Service) Plan(
	ctx context.Context, source sources.Source, corrections []survey.Correction,
) (*survey.Survey, error) {
	folder, err := s.sources.Open(source)
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	plan, err := survey.Run(
		ctx, folder.FS(), survey.Options{Limits: survey.Limits{Bound: sources.LookFor}, Corrections: corrections},
	)
	return plan, surveyFault(err)
}

// surveyFault explains why a folder could not be surveyed as it was asked.
func surveyFault(err error) error {
	var wrong *survey.CorrectionError
	var many *survey.TooManyFilesError
	var origin *survey.ProvenanceError
	switch {
	case errors.As(err, &origin):
		return fault.New(fault.Invalid, fault.BadOrigin, "%s.", origin).
			Advise("“endeixis batch survey” names the manifests that are there.").
			At("copies")
	case errors.As(err, &wrong):
		return fault.New(fault.Invalid, fault.BadCorrection, "%s.", wrong).
			Advise("Give a signature and the file it is over, both as the survey names them.").
			At("corrections")
	case errors.As(err, &many):
		return fault.New(fault.Invalid, fault.FolderTooLarge, "%s.", many).At("path")
	}
	return err
}

// Survey makes the plan of a waiting batch and stores it, together with the
// outcomes of the files that the survey has read in full and the jobs for the
// first slices that are left to measure. Called again, it does nothing more.
func (s *Service) Survey(ctx context.Context, id int64) error {
	b, err := s.batch(ctx, id)
	if err != nil || b.State != state.BatchWaiting {
		return err
	}
	opts, err := s.surveyOptions(ctx, b)
	if err != nil {
		return err
	}
	looked, err := s.look(ctx, b)
	if looked == nil {
		return err
	}
	defer looked.close()
	plan, err := looked.plan(opts)
	if err != nil {
		if ctx.Err() != nil {
			return err
		}
		return s.fail(ctx, b, err)
	}
	measured := looked.measured
	if measured == nil {
		if measured, err = verify.Read(ctx, plan, looked.witness); err != nil {
			return err
		}
	}
	if looked.visit != nil {
		visited(plan, looked.visit, measured, looked.witness)
	}
	session, expected, err := s.beginPlanned(ctx, b, plan, measured)
	if err != nil {
		return err
	}
	slices, rows, err := s.cut(plan, measured)
	if err != nil {
		return s.orFail(ctx, b, err)
	}
	// What is read is numbered as it is stored.
	done := readItems(plan, measured, func(i int) int { return rows[i].N })
	known := otherFiles{s.store, id, func() (map[string]diagnose.StatedAt, error) { return verify.Stated(plan), nil }}
	if err := session.Settle(
		ctx, done,
		verify.Bytes{Folder: looked.folder, Again: func(d *verify.Item) (io.ReadCloser, error) {
			return io.NopCloser(bytes.NewReader(plan.Contents[d.Planned.Path])), nil
		}},
		known,
	); err != nil {
		return err
	}
	return s.keepPlan(ctx, b, keptPlan{
		plan: plan, expected: expected, copies: opts.Copies, slices: slices, rows: rows, done: done,
		byMeasurer: looked.byMeasurer,
	})
}

// surveyOptions returns what was asked for with a batch that its plan depends on, with the copies
// of its manifests.
func (s *Service) surveyOptions(ctx context.Context, b store.Batch) (opts survey.Options, err error) {
	if err := errors.Join(
		json.Unmarshal(b.Corrections, &opts.Corrections), json.Unmarshal(b.Origins, &opts.Provenance),
	); err != nil {
		return opts, err
	}
	opts.Copies, err = s.fetchCopies(ctx, b.ID)
	opts.Limits.Bound = sources.LookFor
	return opts, err
}

// readItems returns the items of a plan that the survey has read in full; number gives each its
// number, by its place in the plan.
func readItems(
	plan *survey.Survey, measured map[string]measure.Measurement, number func(at int) int,
) []verify.Item {
	var out []verify.Item
	for i := range plan.Items {
		if m, ok := measured[plan.Items[i].Path]; ok {
			out = append(out, verify.Item{N: number(i), Planned: &plan.Items[i], Measurement: m})
		}
	}
	return out
}

// beginPlanned begins the session of a batch that was planned just now, and returns whose files
// are expected in it.
func (s *Service) beginPlanned(
	ctx context.Context, b store.Batch, plan *survey.Survey, measured map[string]measure.Measurement,
) (*verify.Session, judge.Expectation, error) {
	ring, err := s.ringOf(ctx, b)
	if err != nil {
		return nil, judge.Expectation{}, err
	}
	basis, err := s.basis(ctx, b, ring)
	if err != nil {
		return nil, judge.Expectation{}, err
	}
	basis.Expected = judge.Expect(b.Publisher, ring, plan.Items)
	session, err := s.begin(ctx, basis, readItems(plan, measured, func(at int) int { return at }))
	if err != nil {
		return nil, judge.Expectation{}, err
	}
	before := predecessorsOf(b, s.store.Reads)
	before.here(plan.Items)
	session.After(before)
	for i := range plan.Items {
		if err := s.original(ctx, session, b, ring, &plan.Items[i]); err != nil {
			return nil, judge.Expectation{}, err
		}
	}
	return session, basis.Expected, nil
}

// A keptPlan is what a survey stores.
type keptPlan struct {
	plan     *survey.Survey
	expected judge.Expectation
	copies   []survey.Copy
	slices   []store.Slice
	rows     []store.Item
	// done are the items that were read, with their outcomes.
	done []verify.Item
	// byMeasurer is set where somebody else measures what is left.
	byMeasurer bool
}

// firstSlices returns the slices that workers begin with.
func (k *keptPlan) firstSlices() []store.DueSlice {
	if k.byMeasurer {
		return nil
	}
	var out []store.DueSlice
	for _, slice := range k.slices {
		if slice.Queued && slice.N > 0 {
			out = append(out, store.DueSlice{N: slice.N, Large: slice.Large})
		}
	}
	return out
}

// absents returns the entries without a file.
func (k *keptPlan) absents() []store.Absent {
	var out []store.Absent
	for i, a := range k.plan.Absent {
		out = append(
			out,
			store.Absent{
				N: i, Name: strings.ToValidUTF8(a.Name, "\ufffd"), Manifest: a.Manifest, Line: a.Line,
				Digest: a.Digest.String(),
			},
		)
	}
	return out
}

// keepPlan stores what came of a survey, unless somebody has ended the batch meanwhile.
func (s *Service) keepPlan(ctx context.Context, b store.Batch, k keptPlan) error {
	expected, err := json.Marshal(k.expected)
	if err != nil {
		return err
	}
	return s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		now, err := tx.LockBatch(ctx, b.ID)
		if err != nil || now != state.BatchWaiting {
			return err
		}
		if err := tx.Surveyed(ctx, b.ID, expected, k.slices, k.rows, k.absents()); err != nil {
			return err
		}
		if err := keepCopies(ctx, tx, b.ID, k.copies, k.plan.Copies); err != nil {
			return err
		}
		if len(k.done) > 0 {
			// What the survey has read is the slice with number 0.
			if err := tx.SliceDone(ctx, b.ID, 0); err != nil {
				return err
			}
		}
		if k.byMeasurer {
			if err := tx.DropListing(ctx, b.ID); err != nil {
				return err
			}
		}
		if err := s.jobs.Slices(ctx, tx, b.ID, sources.Queue(sourceOf(b)), k.firstSlices()); err != nil {
			return err
		}
		if err := tx.Announce(ctx, b.ID); err != nil {
			return err
		}
		return s.settle(ctx, tx, b, k.expected, k.done)
	})
}

// looked is what a survey is made from.
type looked struct {
	plan func(survey.Options) (*survey.Survey, error)
	// measured is what was measured in finding out, by path, or nil.
	measured map[string]measure.Measurement
	// visit is what was read on site, or nil.
	visit *satchel.Entry
	// folder is where files are looked for that may hold another, or nil.
	folder     fs.FS
	witness    measure.Attribution
	byMeasurer bool
	close      func()
}

// look opens what a batch is surveyed from: its folder, or the list that was sent of
// it. It returns nil where there is nothing to survey yet, or no more.
func (s *Service) look(ctx context.Context, b store.Batch) (*looked, error) {
	source := sourceOf(b)
	if source.Kind == sources.Device {
		return s.ask(ctx, b)
	}
	if source.HasMeasurer() {
		m, err := s.store.Measurer(ctx, b.ID)
		if err != nil || m.Pages == nil {
			return nil, err
		}
		found, err := s.findings(ctx, b.ID, *m.Pages)
		if err != nil {
			return nil, s.fail(ctx, b, err)
		}
		visit, err := s.visitOf(ctx, b.ID)
		if err != nil {
			return nil, err
		}
		plan := func(o survey.Options) (*survey.Survey, error) { return survey.Plan(found, o) }
		against, err := s.readAgainst(ctx, b.ID, sourceOf(b))
		if err != nil {
			return nil, err
		}
		if against != nil {
			if len(found.Files) != 1 || len(found.Containers) > 0 {
				return nil, s.fail(
					ctx, b, badListing("files", "of a medium that is read back there is one, the medium"),
				)
			}
			plan = func(survey.Options) (*survey.Survey, error) {
				return survey.Medium(found.Files[0].Path, found.Files[0].ModTime, *against), nil
			}
		}
		return &looked{
			plan: plan, visit: visit,
			witness: s.attributionOf(b, m), byMeasurer: true, close: func() {},
		}, nil
	}
	folder, err := s.sources.Open(source)
	if err != nil {
		return nil, s.unopened(ctx, b, err)
	}
	if err := s.opened(ctx, b); err != nil {
		folder.Close()
		return nil, err
	}
	return &looked{
		plan:   func(o survey.Options) (*survey.Survey, error) { return survey.Run(ctx, folder.FS(), o) },
		folder: folder.FS(), witness: s.witness(b.AskedBy), close: func() { folder.Close() },
	}, nil
}

// cut divides the items into slices bounded by bytes and count. Slice 0 holds
// what is measured already.
func (s *Service) cut(
	plan *survey.Survey, measured map[string]measure.Measurement,
) ([]store.Slice, []store.Item, error) {
	rows := make([]store.Item, len(plan.Items))
	read := store.Slice{N: 0}
	var rest []store.Slice
	// What lies inside a file is measured with it, in the same read.
	sliceOf := map[string]int{}
	total := int64(0)
	for i := range plan.Items {
		item := &plan.Items[i]
		if item.Size > survey.MaxFile || total > survey.MaxBatch-max(0, item.Size) {
			return nil, nil, fault.New(
				fault.Invalid,
				fault.BatchTooLarge,
				"With %s the files here are longer together than any batch is: at most %d bytes in a file, and %d in all.",
				plain.Quoted(item.Path),
				int64(survey.MaxFile),
				int64(survey.MaxBatch),
			).
				Advise("Verify a folder further down.")
		}
		total += max(0, item.Size)
		text, err := json.Marshal(item)
		if err != nil {
			return nil, nil, err
		}
		rows[i] = store.Item{N: i, Path: item.Path, Role: string(item.Role), Size: item.Size, Survey: text}
		slice := &read
		bytes := item.Size
		if _, ok := measured[item.Path]; ok {
		} else if item.Inside != nil {
			slice = &rest[sliceOf[container.Outermost(item.Path)]]
			bytes = 0
		} else {
			last := len(rest) - 1
			if last < 0 || rest[last].Items >= s.limits.SliceItems ||
				rest[last].Bytes > 0 && rest[last].Bytes+item.Size > s.limits.SliceBytes {
				rest = append(rest, store.Slice{N: len(rest) + 1})
				last++
			}
			slice = &rest[last]
			sliceOf[item.Path] = last
		}
		slice.Items++
		slice.Bytes += bytes
		rows[i].Slice = slice.N
	}
	interleave(rest, 4*s.limits.SliceBytes)
	if read.Items > 0 {
		rest = append([]store.Slice{read}, rest...)
	}
	return rest, rows, nil
}

// atOnce is how many slices of a batch are on the queue at a time, and largeAtOnce
// how many of those that are large. When one is done the next is queued behind
// what other batches have there, so that batches take turns.
const (
	atOnce      = 16
	largeAtOnce = 2
)

// interleave decides which slices come first. One beyond large bytes, a single file
// that takes long, waits where it keeps no others waiting.
func interleave(slices []store.Slice, large int64) {
	left := map[bool]int{false: atOnce, true: largeAtOnce}
	for i := range slices {
		s := &slices[i]
		s.Large = s.Bytes > large
		s.Queued = left[s.Large] > 0
		left[s.Large]--
	}
}
