package query

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"time"

	"endeixis/core/digest"
	"endeixis/core/judge"
	"endeixis/core/measure"
	"endeixis/core/survey"
	"endeixis/internal/store"
)

// A SlotCheck is what a slot of a device was found to hold at some time.
type SlotCheck struct {
	Device string
	Batch  int64
	N      int
	At     time.Time
	By     string
	// Now is the verdict that the newest reassessment made of it, or nil.
	Verdict     judge.Verdict
	Now         *judge.Verdict
	Against     *survey.Against
	Measurement measure.Measurement
}

// Value returns what the device gave, if it did.
func (c *SlotCheck) Value() (digest.Algorithm, digest.Value) {
	d := c.Measurement.Device
	if d == nil {
		return digest.Unknown, nil
	}
	return d.Algorithm, c.Measurement.Digests[d.Algorithm]
}

// A SlotState is what a slot was last found to hold, and since when.
type SlotState struct {
	Last  SlotCheck
	Since time.Time
}

// maxChecks bounds how many checks of one device are looked at.
const maxChecks = 100

// SlotChecks lists what the slots of a device were found to hold, the newest first.
func (s *Service) SlotChecks(ctx context.Context, device string) ([]SlotCheck, error) {
	rows, err := s.store.SlotsSeen(ctx, device, maxChecks)
	if err != nil {
		return nil, err
	}
	return slotChecks(rows)
}

// LastSlotChecks lists what the slots of all devices were found to hold by their last
// checks, by device, the newest first.
func (s *Service) LastSlotChecks(ctx context.Context) (map[string][]SlotCheck, error) {
	rows, err := s.store.SlotsSeen(ctx, "", 8)
	if err != nil {
		return nil, err
	}
	all, err := slotChecks(rows)
	out := map[string][]SlotCheck{}
	for _, c := range all {
		out[c.Device] = append(out[c.Device], c)
	}
	return out, err
}

func slotChecks(rows []store.SlotSeen) ([]SlotCheck, error) {
	out := make([]SlotCheck, len(rows))
	for i, r := range rows {
		var item survey.Item
		out[i] = SlotCheck{
			Device: r.Device, Batch: r.Batch, N: r.N, At: r.At, By: r.By, Verdict: judge.Verdict(r.Verdict),
			Now: verdictOf(r.Now),
		}
		if err := errors.Join(
			json.Unmarshal(r.Evidence.Survey, &item), json.Unmarshal(r.Evidence.Measurement, &out[i].Measurement),
		); err != nil {
			return nil, err
		}
		out[i].Against = item.Against
	}
	return out, nil
}

// Slot returns the name of the slot.
func (c *SlotCheck) Slot() string {
	if c.Measurement.Device == nil {
		return ""
	}
	return c.Measurement.Device.Slot
}

// SlotStates tells of each slot what it was last found to hold, from checks of which the
// newest come first. A check without an answer ends nothing: what the slot holds is not
// known to have changed.
func SlotStates(checks []SlotCheck) map[string]SlotState {
	out := map[string]SlotState{}
	other := map[string]bool{} // an earlier check gave another value
	for _, c := range checks {
		slot := c.Slot()
		state, seen := out[slot]
		if !seen {
			out[slot] = SlotState{Last: c, Since: c.At}
			continue
		}
		_, last := state.Last.Value()
		_, value := c.Value()
		switch {
		case other[slot] || value == nil:
		case last != nil && bytes.Equal(value, last):
			state.Since = c.At
			out[slot] = state
		default:
			other[slot] = true
		}
	}
	return out
}
