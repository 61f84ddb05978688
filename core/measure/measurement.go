package measure

import (
	"time"

	"endeixis/core/device"
	"endeixis/core/diagnose"
	"endeixis/core/digest"
	"endeixis/core/readback"
)

// A SignatureHash is the finished hash for one signature over the item: its
// bytes, then the signature's trailer.
type SignatureHash struct {
	File   string       `json:"file"`
	Index  int          `json:"index"`
	Digest digest.Value `json:"digest"`
	// NotText is set for a signature over text when the bytes are no text.
	NotText bool `json:"not_text,omitempty"`
}

// A Measurement is what was computed from one item's bytes.
type Measurement struct {
	// Size is the number of bytes read.
	Size            int64                             `json:"size"`
	Digests         map[digest.Algorithm]digest.Value `json:"digests,omitempty"`
	SignatureHashes []SignatureHash                   `json:"signature_hashes,omitempty"`
	// Unexpanded says why the uncompressed form could not be read, where a
	// signature is over that.
	Unexpanded string `json:"unexpanded,omitempty"`
	// Surplus says what a compressed file has that is no part of its uncompressed
	// form, where a task asks for that.
	Surplus string `json:"surplus,omitempty"`
	// CollisionSuspected is set when SHA-1 was computed and the bytes show
	// the marks of a collision attack.
	CollisionSuspected bool `json:"collision_suspected,omitempty"`
	// Diagnoses explain why the item does not match an entry. They come from
	// a second read, after a mismatch only.
	Diagnoses []diagnose.Diagnosis `json:"diagnoses,omitempty"`
	// Readback is the report of a medium that was read back.
	Readback *readback.Report `json:"readback,omitempty"`
	// Device is the report of a slot that a device has hashed.
	Device *device.SlotReport `json:"device,omitempty"`
	// Problem is set when the item could not be measured.
	Problem *Problem `json:"problem,omitempty"`
	// Maker says what kind of program read the bytes. Measurements of before there
	// was more than one kind have none: the service made them.
	Maker Maker `json:"maker,omitempty"`
	// Where and By say which program on which host read the bytes, and for
	// whom; Software says which version of it, where that is known.
	Where    string    `json:"where"`
	By       string    `json:"by"`
	At       time.Time `json:"at"`
	Software string    `json:"software,omitempty"`
}

// MadeBy returns what kind of program made the measurement.
func (m *Measurement) MadeBy() Maker {
	if m.Maker == "" {
		return Service
	}
	return m.Maker
}

// Sign says of a measurement who made it.
func (m *Measurement) Sign(w Attribution) {
	m.Maker, m.Where, m.By, m.At, m.Software = w.Maker, w.Where, w.By, w.At, w.Software
}

// An Attribution says of measurements who made them, where, for whom, when and by which software.
type Attribution struct {
	Maker    Maker
	Where    string
	By       string
	At       time.Time
	Software string
}

// A Maker is a kind of program, or of equipment, that measures.
type Maker string

// The makers.
const (
	// Service reads what lies in its depots.
	Service Maker = "service"
	// Client reads files where it runs, and Console those of a browser.
	Client  Maker = "client"
	Console Maker = "console"
	// Device is equipment that hashes what it holds.
	Device Maker = "device"
	// Typed is a value that a person has read and typed in.
	Typed Maker = "typed"
)

// Makers lists every kind of maker.
func Makers() []Maker { return []Maker{Service, Client, Console, Device, Typed} }
