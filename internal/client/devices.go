package client

import (
	"context"

	"endeixis/internal/wire"
)

// Devices lists the devices.
func (c *Client) Devices(ctx context.Context) ([]wire.Device, error) {
	page, err := call(ctx, c, wire.ListDevices, wire.Nothing{})
	return page.Items, err
}

// Device returns a device with its history.
func (c *Client) Device(ctx context.Context, name string) (wire.DeviceShown, error) {
	return call(ctx, c, wire.ShowDevice, wire.DeviceAt{Name: name})
}

// SetDevice adds a device, or changes what is known of it.
func (c *Client) SetDevice(ctx context.Context, name string, d wire.DeviceDetails) (wire.Device, error) {
	return call(ctx, c, wire.SetDevice, wire.SetDeviceRequest{Name: name, Body: d})
}

// RetireDevice has a device asked no more.
func (c *Client) RetireDevice(ctx context.Context, name, reason string) (wire.Device, error) {
	return call(
		ctx, c, wire.RetireDevice, wire.RetireDeviceRequest{Name: name, Body: wire.RetireReason{Reason: reason}},
	)
}

// DeviceKinds lists the kinds of devices.
func (c *Client) DeviceKinds(ctx context.Context) (wire.DeviceKinds, error) {
	return call(ctx, c, wire.ListDeviceKinds, wire.Nothing{})
}

// CheckDevices asks devices what they hold. A request repeated with the same key asks
// nobody twice.
func (c *Client) CheckDevices(ctx context.Context, check wire.NewDeviceCheck, key string) ([]wire.Batch, error) {
	page, err := call(ctx, c, wire.CheckDevices, wire.CheckDevicesRequest{Key: key, Body: check})
	return page.Items, err
}

// TryDeviceKind tries a description of a kind with what was pasted from such a device.
func (c *Client) TryDeviceKind(ctx context.Context, trial wire.KindTrial) (wire.KindTried, error) {
	return call(ctx, c, wire.TryDeviceKind, wire.TryKindRequest{Body: trial})
}

// SetDeviceKind describes a kind of device, or changes it.
func (c *Client) SetDeviceKind(ctx context.Context, trial wire.KindTrial) (wire.KindTried, error) {
	return call(ctx, c, wire.SetDeviceKind, wire.TryKindRequest{Body: trial})
}

// RetireDeviceKind has a kind that a curator has described used no more.
func (c *Client) RetireDeviceKind(ctx context.Context, name, reason string) error {
	_, err := call(
		ctx, c, wire.RetireDeviceKind, wire.RetireKindRequest{Name: name, Body: wire.RetireReason{Reason: reason}},
	)
	return err
}
