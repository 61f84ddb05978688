package wire

import (
	"time"

	"endeixis/core/device"
	"endeixis/core/diagnose"
	"endeixis/core/digest"
	"endeixis/core/judge"
)

// A Device is equipment that hashes what it holds.
type Device struct {
	Name       string            `json:"name"`
	Kind       string            `json:"kind"`
	KindTitle  string            `json:"kind_title"`
	Connection device.Connection `json:"reach" doc:"How it is asked; typed is by a person."`
	Address    string            `json:"address" doc:"Host and port; empty where only a person can reach it."`
	Credential string            `json:"credential" doc:"The name of a credential of the service's configuration."`
	Publisher  string            `json:"publisher" doc:"Whose releases it runs."`
	Place      string            `json:"place"`
	Retired    string            `json:"retired,omitempty" doc:"Why it is asked no more."`
	By         string            `json:"by"`
	At         time.Time         `json:"at" doc:"When this was set."`
	Record     int64             `json:"record"`
	Slots      []DeviceSlot      `json:"slots"`
}

// A DeviceSlot is a slot with what it was last found to hold.
type DeviceSlot struct {
	Slot  string `json:"slot"`
	Title string `json:"title"`
	// Checked is missing where the slot was never asked about.
	Checked *SlotCheck `json:"checked,omitempty"`
	Since   *time.Time `json:"since,omitempty" doc:"Since when every answer gave this value."`
}

// A SlotCheck is what a slot was found to hold at some time.
type SlotCheck struct {
	Batch     int64           `json:"batch"`
	N         int             `json:"n"`
	Slot      string          `json:"slot"`
	At        time.Time       `json:"at"`
	By        string          `json:"by"`
	Verdict   judge.Verdict   `json:"verdict"`
	Now       *judge.Verdict  `json:"now,omitempty" doc:"What a reassessment made of the verdict."`
	Algorithm string          `json:"algorithm,omitempty"`
	Digest    string          `json:"digest,omitempty" doc:"What the device gave, in hexadecimal."`
	Holds     *Against        `json:"holds,omitempty" doc:"What the value was held against; whether it is that, the verdict tells."`
	Typed     bool            `json:"typed,omitempty" doc:"Whether a person has copied it from the device's console."`
	Cause     *diagnose.Cause `json:"finding,omitempty" doc:"Why there is no value."`
}

// A DeviceShown is a device with its history.
type DeviceShown struct {
	Device
	History []SlotCheck `json:"history" doc:"The newest first, of the last 100 checks."`
}

// DeviceAt names a device.
type DeviceAt struct {
	Name string `path:"name" maxLength:"60"`
}

// SetDeviceRequest adds a device, or changes what is known of it.
type SetDeviceRequest struct {
	Name string `path:"name" maxLength:"60"`
	Body DeviceDetails
}

// DeviceDetails are what is known of a device.
type DeviceDetails struct {
	Kind       string `json:"kind" maxLength:"60"`
	Address    string `json:"address,omitempty" maxLength:"300" doc:"Host and port, such as 192.0.2.7:22."`
	Credential string `json:"credential,omitempty" maxLength:"100"`
	Publisher  string `json:"publisher,omitempty" maxLength:"64"`
	Place      string `json:"place,omitempty" maxLength:"200"`
}

// RetireDeviceRequest has a device asked no more.
type RetireDeviceRequest struct {
	Name string `path:"name" maxLength:"60"`
	Body RetireReason
}

// RetireReason says why.
type RetireReason struct {
	Reason string `json:"reason" maxLength:"1000"`
}

// A DeviceKind is a kind of device.
type DeviceKind struct {
	Name       string            `json:"name"`
	Title      string            `json:"title"`
	Connection device.Connection `json:"reach"`
	Covers     device.Covers     `json:"covers" doc:"Whether a digest is over the image or over all of the slot."`
	Algorithms []string          `json:"algorithms" doc:"What it can compute, the hardest to forge first."`
	Slots      []DeviceSlot      `json:"slots"`
	Text       string            `json:"text" doc:"The description, in YAML."`
	Shipped    bool              `json:"shipped" doc:"Whether it came with the program."`
	By         string            `json:"by,omitempty" doc:"The curator who has described it."`
	At         *time.Time        `json:"at,omitempty" doc:"When."`
}

// TryKindRequest tries a description of a kind.
type TryKindRequest struct{ Body KindTrial }

// KindTrial is a description of a kind, with what was pasted from such a device.
type KindTrial struct {
	Text   string `json:"text" maxLength:"16384" doc:"The description, in YAML."`
	Slot   string `json:"slot,omitempty" maxLength:"60" doc:"The slot that was asked about; it may be left out where there is one."`
	Answer string `json:"answer" maxLength:"1048576" doc:"What such a device said: of a console from the question to the prompt behind the answer."`
}

// KindTried is what came of a trial.
type KindTried struct {
	Kind      DeviceKind      `json:"kind"`
	Slot      string          `json:"slot"`
	Question  string          `json:"question" doc:"What it would be asked."`
	Algorithm string          `json:"algorithm,omitempty"`
	Value     digest.Value    `json:"value,omitempty" doc:"What was read."`
	Cause     *diagnose.Cause `json:"finding,omitempty" doc:"Why what was pasted is no answer."`
}

// RetireKindRequest has a kind used no more.
type RetireKindRequest struct {
	Name string `path:"name" maxLength:"60"`
	Body RetireReason
}

// DeviceKinds are all kinds, and what else is needed to add a device.
type DeviceKinds struct {
	Items       []DeviceKind `json:"items"`
	Credentials []string     `json:"credentials" doc:"The names of the credentials in the service's configuration."`
}

// CheckDevicesRequest asks devices what they hold.
type CheckDevicesRequest struct {
	Key  string `header:"Idempotency-Key" maxLength:"200" doc:"A request repeated with the same key asks nobody twice."`
	Body NewDeviceCheck
}

// NewDeviceCheck says which devices are asked, and what their slots are held against.
type NewDeviceCheck struct {
	Device  string      `json:"device,omitempty" maxLength:"60" doc:"Or all."`
	All     bool        `json:"all,omitempty" doc:"Every device that the service can reach and that is not retired."`
	Slots   []string    `json:"slots,omitempty" maxItems:"16" doc:"Missing means every slot."`
	Against *NewAgainst `json:"against,omitempty" doc:"Missing means whichever release is known to have the value."`
	Printed string      `json:"printed,omitempty" maxLength:"1048576" doc:"What a person has copied from the device's console, of one slot."`
	Label   string      `json:"label,omitempty" maxLength:"200"`
}
