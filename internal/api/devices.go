package api

import (
	"cmp"
	"context"

	"endeixis/core/device"
	"endeixis/core/measure"
	"endeixis/core/plain"
	"endeixis/internal/batches"
	"endeixis/internal/devices"
	"endeixis/internal/fault"
	"endeixis/internal/query"
	"endeixis/internal/wire"
)

func (a *API) registerDevices() {
	handle(a, wire.ListDevices, a.listDevices)
	handle(a, wire.ShowDevice, a.showDevice)
	handle(a, wire.SetDevice, a.setDevice)
	handle(a, wire.RetireDevice, a.retireDevice)
	handle(a, wire.ListDeviceKinds, a.listDeviceKinds)
	handle(a, wire.TryDeviceKind, a.tryDeviceKind)
	handle(a, wire.SetDeviceKind, a.setDeviceKind)
	handle(a, wire.RetireDeviceKind, func(ctx context.Context, in *wire.RetireKindRequest) (*wire.Nothing, error) {
		p, _ := principal(ctx)
		return nil, a.Devices.RetireKind(ctx, p.Name, in.Name, in.Body.Reason)
	})
	handle(a, wire.CheckDevices, a.checkDevices)
}

func (a *API) listDevices(ctx context.Context, _ *wire.Nothing) (*wire.Page[wire.Device], error) {
	all, err := a.Devices.All(ctx)
	if err != nil {
		return nil, err
	}
	kinds, err := a.kinds(ctx)
	if err != nil {
		return nil, err
	}
	checks, err := a.Query.LastSlotChecks(ctx)
	return answer(
		wire.Page[wire.Device]{
			Items: convert(
				all, func(d devices.Device) wire.Device { return deviceOf(d, kinds[d.Kind], checks[d.Name]) },
			),
		},
		err,
	)
}

func (a *API) showDevice(ctx context.Context, in *wire.DeviceAt) (*wire.DeviceShown, error) {
	d, err := a.Devices.Device(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	kinds, err := a.kinds(ctx)
	if err != nil {
		return nil, err
	}
	checks, err := a.Query.SlotChecks(ctx, in.Name)
	return answer(
		wire.DeviceShown{Device: deviceOf(d, kinds[d.Kind], checks), History: convert(checks, slotCheckOf)}, err,
	)
}

func (a *API) setDevice(ctx context.Context, in *wire.SetDeviceRequest) (*wire.Device, error) {
	p, _ := principal(ctx)
	d, err := a.Devices.Set(ctx, p.Name, devices.Details{
		Name:       in.Name,
		Kind:       in.Body.Kind,
		Address:    in.Body.Address,
		Credential: in.Body.Credential,
		Publisher:  in.Body.Publisher,
		Place:      in.Body.Place,
	})
	if err != nil {
		return nil, err
	}
	kinds, err := a.kinds(ctx)
	return answer(deviceOf(d, kinds[d.Kind], nil), err)
}

func (a *API) retireDevice(ctx context.Context, in *wire.RetireDeviceRequest) (*wire.Device, error) {
	p, _ := principal(ctx)
	d, err := a.Devices.Retire(ctx, p.Name, in.Name, in.Body.Reason)
	if err != nil {
		return nil, err
	}
	kinds, err := a.kinds(ctx)
	return answer(deviceOf(d, kinds[d.Kind], nil), err)
}

func (a *API) listDeviceKinds(ctx context.Context, _ *wire.Nothing) (*wire.DeviceKinds, error) {
	kinds, err := a.Devices.Kinds(ctx)
	return answer(
		wire.DeviceKinds{
			Items: convert(kinds, kindOf), Credentials: append([]string{}, a.Devices.Credentials()...),
		},
		err,
	)
}

func (a *API) tryDeviceKind(_ context.Context, in *wire.TryKindRequest) (*wire.KindTried, error) {
	tried, err := a.Devices.Try(devices.Trial(in.Body))
	if err != nil {
		return nil, err
	}
	return answer(triedOf(tried, in.Body.Text), nil)
}

func (a *API) setDeviceKind(ctx context.Context, in *wire.TryKindRequest) (*wire.KindTried, error) {
	p, _ := principal(ctx)
	tried, err := a.Devices.SetKind(ctx, p.Name, devices.Trial(in.Body))
	if err != nil {
		return nil, err
	}
	return answer(triedOf(tried, in.Body.Text), nil)
}

func (a *API) checkDevices(ctx context.Context, in *wire.CheckDevicesRequest) (*wire.Page[wire.Batch], error) {
	names, err := a.toCheck(ctx, in.Body)
	if err != nil {
		return nil, err
	}
	p, _ := principal(ctx)
	out := wire.Page[wire.Batch]{Items: []wire.Batch{}}
	for _, name := range names {
		key := in.Key
		if key != "" && in.Body.All {
			key += " " + name
		}
		b, err := a.Batches.CheckDevice(ctx, p.Name, batches.DeviceCheck{
			Device: name, Slots: in.Body.Slots, Against: (*batches.GivenAgainst)(in.Body.Against),
			Printed: in.Body.Printed, Label: in.Body.Label, IdempotencyKey: key,
		})
		if err != nil {
			return nil, err
		}
		out.Items = append(out.Items, batchOf(b))
	}
	return &out, nil
}

// toCheck returns the names of the devices that are to be checked.
func (a *API) toCheck(ctx context.Context, in wire.NewDeviceCheck) ([]string, error) {
	if in.All == (in.Device != "") {
		return nil, fault.New(fault.Invalid, fault.WhichDevice, "Say which device is to be checked, or that all are.").
			At("device")
	}
	if !in.All {
		return []string{in.Device}, nil
	}
	if in.Printed != "" {
		return nil, fault.New(fault.Invalid, fault.WhichDevice, "What was copied is of one device; say of which.").
			At("device")
	}
	all, err := a.Devices.All(ctx)
	if err != nil {
		return nil, err
	}
	kinds, err := a.kinds(ctx)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, d := range all {
		k := kinds[d.Kind]
		if k == nil || d.Retired != "" || k.Connection == device.Typed {
			continue
		}
		// A fleet may be of several kinds; those without the slot are left out.
		has := true
		for _, slot := range in.Slots {
			has = has && k.Slot(slot) != nil
		}
		if has {
			out = append(out, d.Name)
		}
	}
	if len(out) == 0 {
		return nil, fault.New(fault.Conflict, fault.NoDevices, "There is no device that could be asked.").
			Advise("“endeixis device add” adds one.").
			At("all")
	}
	return out, nil
}

// kinds returns the kinds of devices by name.
func (a *API) kinds(ctx context.Context) (map[string]*device.Kind, error) {
	all, err := a.Devices.Kinds(ctx)
	out := make(map[string]*device.Kind, len(all))
	for _, k := range all {
		out[k.Name] = k.Kind
	}
	return out, err
}

// deviceOf tells of a device; k is its kind, or nil where its description is gone.
func deviceOf(d devices.Device, k *device.Kind, checks []query.SlotCheck) wire.Device {
	out := wire.Device{
		Name:       d.Name,
		Kind:       d.Kind,
		KindTitle:  d.Kind,
		Address:    d.Address,
		Credential: d.Credential,
		Publisher:  d.Publisher,
		Place:      plain.Text(d.Place),
		Retired:    plain.Text(d.Retired),
		By:         d.By,
		At:         d.At.UTC(),
		Record:     d.Position,
		Slots:      []wire.DeviceSlot{},
	}
	states := query.SlotStates(checks)
	if k == nil {
		return out // what it said is in the history
	}
	out.KindTitle, out.Connection = plain.Text(k.Title), k.Connection
	for _, slot := range k.Slots {
		shown := wire.DeviceSlot{Slot: slot.Name, Title: plain.Text(slot.Title)}
		if state, ok := states[slot.Name]; ok {
			last, since := slotCheckOf(state.Last), state.Since.UTC()
			shown.Checked, shown.Since = &last, &since
		}
		out.Slots = append(out.Slots, shown)
	}
	return out
}

func slotCheckOf(c query.SlotCheck) wire.SlotCheck {
	out := wire.SlotCheck{
		Batch:   c.Batch,
		N:       c.N,
		Slot:    c.Slot(),
		At:      c.At.UTC(),
		By:      c.By,
		Verdict: c.Verdict,
		Now:     c.Now,
		Holds:   againstOf(c.Against),
		Typed:   c.Measurement.MadeBy() == measure.Typed,
	}
	if algorithm, value := c.Value(); value != nil {
		out.Algorithm, out.Digest = algorithm.String(), value.String()
	}
	if c.Measurement.Device != nil {
		out.Cause = c.Measurement.Device.Cause
	}
	return out
}

func kindOf(k devices.Described) wire.DeviceKind {
	out := wire.DeviceKind{
		Name: k.Name, Title: plain.Text(k.Title), Connection: k.Connection, Covers: cmp.Or(k.Covers, device.Image),
		Algorithms: []string{}, Slots: []wire.DeviceSlot{}, Text: k.Text, Shipped: k.Shipped, By: k.By,
	}
	if k.By != "" {
		out.At = &k.At
	}
	for _, algorithm := range k.Algorithms() {
		out.Algorithms = append(out.Algorithms, algorithm.String())
	}
	for _, slot := range k.Slots {
		out.Slots = append(out.Slots, wire.DeviceSlot{Slot: slot.Name, Title: plain.Text(slot.Title)})
	}
	return out
}

// triedOf tells what came of the trial of a description.
func triedOf(t devices.Tried, text string) wire.KindTried {
	out := wire.KindTried{
		Kind: kindOf(devices.Described{Kind: t.Kind, Text: text}), Slot: t.Slot.Name, Value: t.Value,
		Cause: t.Cause,
	}
	asked := t.Algorithm
	if t.Cause != nil {
		asked = t.Kind.Algorithms()[0]
	} else {
		out.Algorithm = asked.String()
	}
	out.Question = plain.Text(t.Kind.Question(t.Slot, asked))
	return out
}
