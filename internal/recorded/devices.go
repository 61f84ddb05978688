package recorded

import (
	"context"

	"endeixis/core/digest"
	"endeixis/core/ledger"
	"endeixis/internal/store"
)

// Device is what is known of a device.
type Device struct {
	Name string `json:"name"`
	Kind string `json:"kind"`
	// Address is a host and a port, and Credential the name of one; both are empty where
	// only a person can reach the device.
	Address    string `json:"address"`
	Credential string `json:"credential"`
	Publisher  string `json:"publisher"`
	Place      string `json:"place"`
	// Retired says why it is not asked any more, or is empty.
	Retired string `json:"retired"`
}

// DeviceOf returns what a row holds about a device.
func DeviceOf(row store.Device) Device {
	return Device{
		Name: row.Name, Kind: row.Kind, Address: row.Address, Credential: row.Credential, Publisher: row.Publisher,
		Place: row.Place, Retired: row.Retired,
	}
}

// DeviceSet is a device as it is from then on.
type DeviceSet struct {
	statement
	Device Device  `json:"device"`
	Before *Device `json:"before,omitempty"`
}

// Kind is [ledger.DeviceSet].
func (DeviceSet) Kind() ledger.Kind { return ledger.DeviceSet }

// Follow stores the device.
func (b DeviceSet) Follow(ctx context.Context, tx *store.Tx, h Head) error {
	d := b.Device
	return tx.SetDevice(ctx, store.Device{
		Name:       d.Name,
		Kind:       d.Kind,
		Address:    d.Address,
		Credential: d.Credential,
		Publisher:  d.Publisher,
		Place:      d.Place,
		Retired:    d.Retired,
		By:         h.By,
		At:         h.At,
		Position:   h.Position,
	})
}

func (b DeviceSet) row(h Head) row {
	d := b.Device
	return row{
		key:      d.Name,
		position: h.Position,
		fields: []field{
			text(d.Kind), text(d.Address), text(d.Credential), text(d.Publisher), text(d.Place), text(d.Retired),
			text(h.By), nearly(h.At),
		},
	}
}

// DeviceKind is a kind of devices as a curator describes it.
type DeviceKind struct {
	Name    string `json:"name"`
	Content string `json:"content"`
	Retired string `json:"retired"`
}

// TriedAnswer is the answer that a description was tried with.
type TriedAnswer struct {
	Slot      string           `json:"slot"`
	Answer    string           `json:"answer"`
	Algorithm digest.Algorithm `json:"algorithm"`
	Value     digest.Value     `json:"value"`
}

// DeviceKindSet is a kind of devices as it is described from then on.
type DeviceKindSet struct {
	statement
	DeviceKind DeviceKind   `json:"device_kind"`
	Tried      *TriedAnswer `json:"tried,omitempty"`
}

// Kind is [ledger.DeviceKindSet].
func (DeviceKindSet) Kind() ledger.Kind { return ledger.DeviceKindSet }

// Follow stores the kind.
func (b DeviceKindSet) Follow(ctx context.Context, tx *store.Tx, h Head) error {
	k := b.DeviceKind
	return tx.SetDeviceKind(
		ctx,
		store.DeviceKind{
			Name: k.Name, Content: k.Content, Retired: k.Retired, By: h.By, At: h.At, Position: h.Position,
		},
	)
}

func (b DeviceKindSet) row(h Head) row {
	k := b.DeviceKind
	return row{
		key: k.Name, position: h.Position, fields: []field{text(k.Content), text(k.Retired), text(h.By), nearly(h.At)},
	}
}
