package batches

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"endeixis/core/container"
	"endeixis/core/diagnose"
	"endeixis/core/digest"
	"endeixis/core/judge"
	"endeixis/core/measure"
	"endeixis/core/plain"
	"endeixis/core/survey"
	"endeixis/core/verify"
	"endeixis/internal/fault"
	"endeixis/internal/sources"
	"endeixis/internal/state"
	"endeixis/internal/store"
)

// An Assignment is an item that a measurer is to measure.
type Assignment struct {
	N int
	verify.Assignment
}

// Assignments lists what is left to measure of a batch, behind a number.
func (s *Service) Assignments(ctx context.Context, by string, id int64, after, limit int) ([]Assignment, error) {
	b, err := s.ofMeasurer(ctx, by, id)
	if err != nil {
		return nil, err
	}
	if b.State == state.BatchWaiting {
		return nil, fault.New(fault.Conflict, fault.NotSurveyed, "Batch %d is not surveyed yet.", id).
			Advise("Ask again in a moment; if its list of files is not whole, send the rest.")
	}
	if b.State.Ended() || b.StopState != nil {
		return []Assignment{}, nil
	}
	rows, err := s.store.LeftItems(ctx, id, after, limit)
	if err != nil {
		return nil, err
	}
	items, err := itemsOf(rows)
	if err != nil {
		return nil, err
	}
	out := make([]Assignment, len(rows))
	for i, item := range items {
		target, _ := item.Target()
		if target.Tasks == nil {
			target.Tasks = []measure.Task{}
		}
		listed := item.Listed
		if listed == nil {
			listed = []survey.Entry{}
		}
		out[i] = Assignment{N: rows[i].N, Assignment: verify.Assignment{Target: target, Expected: listed}}
	}
	return out, nil
}

// ofMeasurer returns a batch that this person measures.
func (s *Service) ofMeasurer(ctx context.Context, by string, id int64) (store.Batch, error) {
	b, err := s.batch(ctx, id)
	if err == nil {
		err = mine(b, by)
	}
	return b, err
}

// A Submission is what a measurer sends of an item.
type Submission struct {
	N int
	verify.Submission
}

// A Decline says why a submission changed nothing.
type Decline struct {
	N            int
	Code, Reason string
}

// The reasons of declining.
const (
	notAsked          = "not-asked"
	measuredOtherwise = "measured-otherwise"
	wrongShape        = "wrong-shape"
	incompleteFile    = "incomplete-file"
)

// Taken says what became of submissions.
type Taken struct {
	Taken, Known, Left int
	Declined           []Decline
}

// Take judges and records what a measurer has sent. What was sent before is known; the
// same item with another result is declined, and so is what nobody asked for.
func (s *Service) Take(ctx context.Context, by string, id int64, sent []Submission) (Taken, error) {
	out := Taken{Declined: []Decline{}}
	b, err := s.ofMeasurer(ctx, by, id)
	if err != nil {
		return out, err
	}
	switch {
	case b.State == state.BatchWaiting:
		return out, fault.New(
			fault.Conflict, fault.NotSurveyed, "Batch %d is not surveyed yet: nothing was asked for.", id,
		)
	case b.StopState != nil:
		return out, fault.New(fault.Conflict, fault.BatchEnding, "Batch %d is being ended.", id)
	}
	measurer, err := s.store.Measurer(ctx, id)
	if err != nil {
		return out, err
	}
	done, slice, err := s.usable(ctx, b, measurer, sent, &out)
	if err != nil {
		return out, err
	}
	if len(done) > 0 {
		if b.State.Ended() {
			return out, fault.New(fault.Conflict, fault.BatchEnded, "Batch %d has ended already, as %s.", id, b.State)
		}
		ring, err := s.ringOf(ctx, b)
		if err != nil {
			return out, err
		}
		session, err := s.heldSession(ctx, b, ring)
		if err != nil {
			return out, err
		}
		known := otherFiles{
			s.store, id, sync.OnceValues(func() (map[string]diagnose.StatedAt, error) { return s.stated(ctx, id) }),
		}
		if err := session.Settle(ctx, done, verify.Bytes{}, known); err != nil {
			return out, err
		}
		if out.Taken, err = s.keep(ctx, b, done, slice); err != nil {
			return out, err
		}
		out.Known += len(done) - out.Taken // another request was quicker
	}
	if out.Left, err = s.store.CountLeft(ctx, id); err != nil || out.Left > 0 || b.State.Ended() {
		return out, err
	}
	// A job is asked to close it in any case; its followers are told sooner this way.
	_, err = s.Finish(ctx, id)
	return out, err
}

// usable tells submissions that can be used from those that cannot. The first are in the
// order of their numbers, so that containers come before what they hold; slice says by
// number in which each of them is.
func (s *Service) usable(
	ctx context.Context, b store.Batch, measurer store.Measurer, sent []Submission, out *Taken,
) (done []verify.Item, slice map[int]int, err error) {
	decline := func(n int, code, format string, args ...any) {
		out.Declined = append(out.Declined, Decline{n, code, fmt.Sprintf(format, args...)})
	}
	sent = slices.Clone(sent)
	slices.SortStableFunc(sent, func(a, b Submission) int { return cmp.Compare(a.N, b.N) })
	ns := make([]int, len(sent))
	for i := range sent {
		ns[i] = sent[i].N
	}
	rows, err := s.store.ItemsOf(ctx, b.ID, slices.Compact(slices.Clone(ns)))
	if err != nil {
		return nil, nil, err
	}
	row := make(map[int]*store.Measured, len(rows))
	for i := range rows {
		row[rows[i].N] = &rows[i]
	}
	w := s.attributionOf(b, measurer)
	slice = make(map[int]int, len(rows))
	for i, a := range sent {
		r := row[a.N]
		if r == nil {
			decline(a.N, notAsked, "The batch has no item %d.", a.N)
			continue
		}
		if i > 0 && sent[i-1].N == a.N {
			decline(a.N, wrongShape, "It is in this request twice.")
			continue
		}
		var item survey.Item
		if err := json.Unmarshal(r.Survey, &item); err != nil {
			return nil, nil, err
		}
		target, _ := item.Target()
		if why := fits(target, &a.Reading); why != "" {
			decline(a.N, wrongShape, "%s", why)
			continue
		}
		m := verify.FromMeasurer(&item, a.Reading, w)
		if r.Position != nil {
			var before measure.Measurement
			if err := json.Unmarshal(r.Evidence.Measurement, &before); err != nil {
				return nil, nil, err
			}
			if sameBytes(&before, &m) {
				out.Known++
			} else {
				decline(
					a.N, measuredOtherwise, "%s was measured before, with another result, which is on record.",
					plain.Text(item.Path),
				)
			}
			continue
		}
		m.Diagnoses = believed(&item, a.Diagnoses)
		done = append(done, verify.Item{N: a.N, Planned: &item, Measurement: m})
		slice[a.N] = r.Slice
	}
	done, err = s.completeFiles(ctx, b.ID, done, decline)
	return done, slice, err
}

// completeFiles declines files that arrive without what is inside them, or the reverse: what
// lies inside a file rests on it, and is measured in the same read.
func (s *Service) completeFiles(
	ctx context.Context, batch int64, done []verify.Item, decline func(int, string, string, ...any),
) ([]verify.Item, error) {
	var files []string
	here := map[int]bool{}
	for i := range done {
		here[done[i].N] = true
		if done[i].Planned.Inside != nil || done[i].Planned.Holds != nil {
			files = append(files, container.Outermost(done[i].Planned.Path))
		}
	}
	if len(files) == 0 {
		return done, nil
	}
	inside, err := s.store.InsideOf(ctx, batch, files)
	if err != nil {
		return nil, err
	}
	whole := make(map[string]bool, len(inside))
	for i := range done {
		if members, ok := inside[done[i].Planned.Path]; ok {
			whole[done[i].Planned.Path] = !slices.ContainsFunc(members, func(n int) bool { return !here[n] })
		}
	}
	return slices.DeleteFunc(done, func(d verify.Item) bool {
		file := container.Outermost(d.Planned.Path)
		if _, holds := inside[file]; !holds || whole[file] {
			return false
		}
		decline(
			d.N, incompleteFile, "%s and what is inside it are measured in one read: send them together.",
			plain.Text(file),
		)
		return true
	}), nil
}

// fits says why a reading cannot be that of a target, or "".
func fits(target *measure.Target, r *measure.Reading) string {
	if r.Problem != nil {
		if err := checkProblem(r.Problem, "measured"); err != nil {
			return "No measurer can have that problem."
		}
		r.Results = nil
		return harmless(r)
	}
	if r.Size < 0 {
		return "A file cannot have a negative length."
	}
	if r.Size > survey.MaxFile {
		return fmt.Sprintf("No file is longer than %d bytes.", int64(survey.MaxFile))
	}
	if len(r.Results) != len(target.Tasks) {
		return fmt.Sprintf("It has %d results for %d tasks.", len(r.Results), len(target.Tasks))
	}
	for i, task := range target.Tasks {
		length := len(r.Results[i].Digest)
		if length == 0 && (task.Expanded != "" && r.Unexpanded != "" || target.Spared(i, r.Results)) {
			continue
		}
		if length != task.Algorithm.Size() {
			return fmt.Sprintf(
				"The result of task %d has %d bytes, and %s has %d.", i+1, length, task.Algorithm,
				task.Algorithm.Size(),
			)
		}
	}
	r.Unexpanded, r.Surplus = plain.Text(clipped(r.Unexpanded)), plain.Text(clipped(r.Surplus))
	return harmless(r)
}

// harmless says why the report of a medium that was read back cannot be, or "".
func harmless(r *measure.Reading) string {
	if r.Readback == nil {
		return ""
	}
	if err := r.Readback.Harmless(); err != nil {
		return fmt.Sprintf("Its account cannot be: %v.", err)
	}
	return ""
}

// sameBytes reports whether two measurements found the same.
func sameBytes(a, b *measure.Measurement) bool {
	if a.Problem != nil || b.Problem != nil {
		return a.Problem != nil && b.Problem != nil && a.Problem.Code == b.Problem.Code
	}
	for algorithm, value := range b.Digests {
		// Of second choices one of them may have computed none.
		if same, ok := a.Digests[algorithm]; (ok || algorithm == digest.SHA256) && !slices.Equal(same, value) {
			return false
		}
	}
	for _, h := range b.SignatureHashes {
		if !slices.ContainsFunc(a.SignatureHashes, func(o measure.SignatureHash) bool {
			return o.File == h.File && o.Index == h.Index && slices.Equal(o.Digest, h.Digest)
		}) {
			return false
		}
	}
	return a.Size == b.Size
}

// maxFindings bounds what a measurer says about one entry.
const maxFindings = 16

// believed returns those explanations that are of entries about the item, made safe to
// show. What takes knowing of other files the service finds itself.
func believed(item *survey.Item, given []diagnose.Diagnosis) []diagnose.Diagnosis {
	var out []diagnose.Diagnosis
	for _, d := range given[:min(len(given), len(item.Listed))] { // an entry has one
		if !slices.ContainsFunc(item.Listed, func(l survey.Entry) bool {
			return l.Manifest == d.Manifest && l.Line == d.Line && slices.Equal(l.Digest, d.Expected)
		}) {
			continue
		}
		kept := diagnose.Diagnosis{Manifest: d.Manifest, Line: d.Line, Expected: d.Expected}
		for _, f := range d.Causes[:min(len(d.Causes), maxFindings)] {
			if !slices.Contains(diagnose.Codes(), f.Code) || f.Code == diagnose.OtherEntry ||
				f.Code == diagnose.OtherRelease {
				continue
			}
			f.Sentence, f.Advice = plain.Text(clipped(f.Sentence)), plain.Text(clipped(f.Advice))
			f.Damage = f.Damage[:min(len(f.Damage), 10_000)]
			kept.Causes = append(kept.Causes, f)
		}
		if len(kept.Causes) > 0 {
			out = append(out, kept)
		}
	}
	return out
}

// attributionOf is who measures a batch that has a measurer.
func (s *Service) attributionOf(b store.Batch, m store.Measurer) measure.Attribution {
	source := sourceOf(b)
	return measure.Attribution{
		Maker: measure.Maker(source.Kind),
		Where: string(source.Kind) + " on " + plain.Text(source.Host()), By: b.AskedBy, At: s.now(),
		Software: plain.Text(m.Software),
	}
}

// keep stores outcomes and their records in one transaction, and returns how many were
// new. When nothing is left, the batch is asked to be closed in the same transaction.
func (s *Service) keep(
	ctx context.Context, b store.Batch, done []verify.Item, slice map[int]int,
) (taken int, err error) {
	bySlice := map[int][]verify.Item{}
	for _, d := range done {
		bySlice[slice[d.N]] = append(bySlice[slice[d.N]], d)
	}
	numbers := make([]int, 0, len(bySlice))
	for n := range bySlice {
		numbers = append(numbers, n)
	}
	slices.Sort(numbers) // slices are locked in this order everywhere
	var expected judge.Expectation
	if err := json.Unmarshal(b.Expected, &expected); err != nil {
		return 0, err
	}
	err = s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		taken = 0
		var unrecorded []verify.Item
		for _, n := range numbers {
			open, err := unsettled(ctx, tx, b.ID, n, bySlice[n])
			if err != nil {
				return err
			}
			unrecorded = append(unrecorded, open...)
		}
		if err := s.settle(ctx, tx, b, expected, unrecorded); err != nil {
			return err
		}
		for _, n := range numbers {
			if err := tx.SliceMoved(ctx, b.ID, n); err != nil {
				return err
			}
		}
		taken = len(unrecorded)
		left, err := tx.OpenSlices(ctx, b.ID)
		if err != nil {
			return err
		}
		if left == 0 {
			if err := s.jobs.Close(ctx, tx, b.ID, sources.Queue(sourceOf(b))); err != nil {
				return err
			}
		}
		return errors.Join(tx.Heard(ctx, b.ID, s.now()), tx.Announce(ctx, b.ID))
	})
	return taken, err
}

// Lapse has batches ended whose measurer was not heard from for so long.
func (s *Service) Lapse(ctx context.Context, after time.Duration) error {
	silent, err := s.store.Silent(ctx, s.now().Add(-after))
	if err != nil {
		return err
	}
	for _, id := range silent {
		if err := s.lapse(ctx, id); err != nil {
			return err
		}
	}
	return nil
}

func (s *Service) lapse(ctx context.Context, id int64) error {
	return s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		now, err := tx.LockBatch(ctx, id)
		if err != nil || now.Ended() {
			return err
		}
		b, err := tx.Tally(ctx, id)
		if err != nil || b.StopState != nil {
			return err
		}
		m, err := tx.LockMeasurer(ctx, id)
		if err != nil || m.Lapsed {
			return err
		}
		if err := tx.Lapse(ctx, id); err != nil {
			return err
		}
		if now == state.BatchWaiting {
			return s.stop(
				ctx, tx, b, state.BatchFailed, "",
				fmt.Sprintf(
					"The %s on %s never sent the whole list of its files.", sourceOf(b).Kind,
					plain.Text(sourceOf(b).Host()),
				),
			)
		}
		return s.jobs.End(ctx, tx, id)
	})
}
