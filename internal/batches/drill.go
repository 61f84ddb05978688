package batches

import (
	"context"
	"errors"
	"fmt"

	"endeixis/core/judge"
	"endeixis/core/measure"
	"endeixis/core/plain"
	"endeixis/core/survey"
	"endeixis/core/verify"
	"endeixis/internal/fault"
	"endeixis/internal/recorded"
	"endeixis/internal/records"
	"endeixis/internal/sources"
	"endeixis/internal/state"
	"endeixis/internal/store"
)

// A DrillItem is an item that is to be drilled. Readings are those of the alterations that
// [Service.DrillAssignment] names, sent by the measurer; without any the service reads the file
// itself.
type DrillItem struct {
	N        int
	Readings []measure.Reading
}

// A DrillAssignment is what is to be measured for the drill of an item.
type DrillAssignment struct {
	N           int
	Target      *measure.Target
	Alterations []verify.Alteration
}

// A Drill is the outcome of a drill.
type Drill struct {
	Record int64
	Passed bool
	Items  []recorded.DrilledItem
}

const (
	// maxDrillItems bounds the items of one drill, and drillBytes what the service
	// reads for it.
	maxDrillItems = 10
	drillBytes    = 4 << 30
)

// DrillAssignment tells what to measure for the drill of an item that a measurer has.
func (s *Service) DrillAssignment(ctx context.Context, id int64, n int) (DrillAssignment, error) {
	b, err := s.drilled(ctx, id)
	if err != nil {
		return DrillAssignment{}, err
	}
	item, m, err := s.drillable(ctx, b, n)
	if err != nil {
		return DrillAssignment{}, err
	}
	target, _ := item.Target()
	return DrillAssignment{N: n, Target: target, Alterations: alterations(id, n, m)}, nil
}

func alterations(batch int64, n int, m *measure.Measurement) []verify.Alteration {
	return verify.Alterations(m.Size, fmt.Appendf(nil, "batch %d, item %d", batch, n))
}

// drilled returns a batch that can be drilled.
func (s *Service) drilled(ctx context.Context, id int64) (store.Batch, error) {
	b, err := s.batch(ctx, id)
	if err == nil && b.State != state.BatchDone {
		err = fault.New(fault.Conflict, fault.BatchNotDone, "Batch %d is not done.", id).
			Advise("A drill takes files that are verified.")
	}
	return b, err
}

// drillable returns an item of a batch that is cleared.
func (s *Service) drillable(ctx context.Context, b store.Batch, n int) (*survey.Item, *measure.Measurement, error) {
	row, err := s.store.ItemAt(ctx, b.ID, n)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil, fault.New(fault.NotFound, fault.ItemUnknown, "Batch %d has no item %d.", b.ID, n)
	}
	if err != nil {
		return nil, nil, err
	}
	if row.Verdict == nil || *row.Verdict != string(judge.Cleared) {
		return nil, nil, fault.New(fault.Conflict, fault.NotCleared, "%s is not cleared.", plain.Text(row.Path)).
			Advise("That something else is not cleared either proves nothing; drill a file that is.")
	}
	held, err := s.held(ctx, row)
	if err != nil {
		return nil, nil, err
	}
	if held[0].Planned.Against != nil {
		return nil, nil, fault.New(fault.Conflict, fault.AMedium, "%s is a medium.", plain.Text(row.Path)).
			Advise("Drill the file that it was read back against.")
	}
	return held[0].Planned, &held[0].Measurement, nil
}

// Drill proves that the check of some items can fail, and records how it went. Without
// items it takes the first cleared artifacts of the batch. No verdict and no reference is
// touched by it.
func (s *Service) Drill(ctx context.Context, by string, id int64, items []DrillItem) (Drill, error) {
	b, err := s.drilled(ctx, id)
	if err != nil {
		return Drill{}, err
	}
	if sourceOf(b).Kind == sources.Device {
		return Drill{}, fault.New(
			fault.Conflict, fault.NoBytes,
			"Batch %d has asked a device, so that there are no bytes that could be altered.", id,
		).
			Advise("Drill the batch of the release that the device was held against.")
	}
	if items == nil {
		if items, err = s.firstCleared(ctx, id); err != nil {
			return Drill{}, err
		}
	}
	if len(items) == 0 || len(items) > maxDrillItems {
		return Drill{}, fault.New(
			fault.Invalid, fault.BadDrill, "A drill takes one to %d files that are cleared.", maxDrillItems,
		).
			At("items")
	}
	ring, err := s.ringOf(ctx, b)
	if err != nil {
		return Drill{}, err
	}
	session, manifests, err := s.sessionWith(ctx, b, ring)
	if err != nil {
		return Drill{}, err
	}
	out := Drill{Passed: true, Items: []recorded.DrilledItem{}}
	w := s.witness(by)
	if sourceOf(b).HasMeasurer() {
		w.Maker, w.Where = measure.Maker(b.SourceKind), string(sourceOf(b).Kind)+" on "+plain.Text(sourceOf(b).Host())
	}
	for _, asked := range items {
		item, m, err := s.drillable(ctx, b, asked.N)
		if err != nil {
			return Drill{}, err
		}
		planned := alterations(id, asked.N, m)
		readings, err := s.drillReadings(ctx, b, asked, item, m, planned)
		if err != nil {
			return Drill{}, err
		}
		outcome := session.Judge(item, m)
		outcome.Verdict = judge.Cleared // as it is on record
		done := recorded.DrilledItem{
			N: asked.N, Item: plain.Text(item.Path),
			Rows: session.Drill(item, m, &outcome, manifests, planned, readings, w),
		}
		for _, row := range done.Rows {
			out.Passed = out.Passed && !row.Alarm
		}
		out.Items = append(out.Items, done)
	}
	// A drill that raises the alarm is recorded as refused, so that lists of records show it.
	verdict := judge.Verdict("")
	if !out.Passed {
		verdict = judge.Refused
	}
	err = s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		out.Record, err = s.records.Append(
			ctx, tx,
			records.Entry{By: by, Subject: b.Source, Verdict: string(verdict), Batch: id, Body: recorded.Drilled{
				Batch: id, Source: sourceOf(b), Measured: w.Where, Passed: out.Passed, Verdict: verdict,
				Items: out.Items,
			}},
		)
		return err
	})
	return out, err
}

// firstCleared returns the first cleared artifacts of a batch.
func (s *Service) firstCleared(ctx context.Context, id int64) ([]DrillItem, error) {
	rows, err := s.store.ItemRows(ctx, id, store.ItemFilter{Verdict: string(judge.Cleared), Limit: maxDrillItems})
	out := make([]DrillItem, 0, len(rows))
	for _, r := range rows {
		out = append(out, DrillItem{N: r.N})
	}
	return out, err
}

// drillReadings returns the readings of an item with each alteration: those that the measurer has
// sent, or those that the service makes itself.
func (s *Service) drillReadings(
	ctx context.Context, b store.Batch, drilled DrillItem, item *survey.Item, m *measure.Measurement,
	planned []verify.Alteration,
) ([]measure.Reading, error) {
	target, _ := item.Target()
	readings := drilled.Readings
	switch {
	case len(readings) == 0:
		return s.altered(ctx, b, item, m, target, planned)
	case !sourceOf(b).HasMeasurer():
		return nil, fault.New(fault.Conflict, fault.MeasuredHere, "The files of batch %d are read by the service.", b.ID).
			Advise("Send no readings for it.")
	case len(readings) != len(planned):
		return nil, fault.New(
			fault.Invalid, fault.WrongShape, "There are %d readings for %d alterations.", len(readings), len(planned),
		).
			At("items")
	}
	for i := range readings {
		if why := fits(target, &readings[i]); why != "" {
			return nil, fault.New(fault.Invalid, fault.WrongShape, "Reading %d does not fit: %s", i+1, why).At("items")
		}
	}
	return readings, nil
}

// altered measures an item of a depot with each alteration.
func (s *Service) altered(
	ctx context.Context, b store.Batch, item *survey.Item, m *measure.Measurement, target *measure.Target,
	planned []verify.Alteration,
) ([]measure.Reading, error) {
	if sourceOf(b).HasMeasurer() {
		return nil, fault.New(
			fault.Conflict, fault.MeasuredElsewhere, "The files of batch %d are on %s.", b.ID,
			plain.Text(sourceOf(b).Host()),
		).
			Advise("Drill it there: “endeixis batch drill %d”.", b.ID)
	}
	if m.Size > drillBytes {
		return nil, fault.New(
			fault.Invalid, fault.TooLargeToDrill,
			"%s is longer than %d GiB, which is more than the service reads for a drill.", plain.Text(item.Path),
			drillBytes>>30,
		).
			Advise("Run “endeixis spot FILE --drill” on a machine that has it.")
	}
	folder, err := s.sources.Open(sourceOf(b))
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	content, err := s.content(ctx, folder.FS(), b.ID, item)
	if err != nil {
		return nil, fault.New(fault.Conflict, fault.Unreadable, "%s cannot be read any more.", plain.Text(item.Path)).
			Because(err)
	}
	defer content.Close()
	readings, err := verify.Alter(ctx, target, content, m.Size, planned)
	if err != nil && ctx.Err() == nil {
		err = fault.New(fault.Conflict, fault.Unreadable, "%s could not be read to its end.", plain.Text(item.Path)).
			Because(err)
	}
	return readings, err
}
