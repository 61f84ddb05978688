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
	return call(ctx, c, wire.RetireDevice, wire.RetireDeviceRequest{Name: name, Body: wire.RetireReason{Reason: reason}})
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
