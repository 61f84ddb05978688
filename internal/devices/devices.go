// Package devices keeps the equipment that can hash what it holds: what it is called,
// how it is reached and by which kind, and asks it. Credentials and host keys stay in
// files that the configuration names; nothing of them is stored, logged or told.
package devices

import (
	"context"
	"errors"
	"log/slog"
	"maps"
	"net"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"endeixis/core/device"
	"endeixis/core/plain"
	"endeixis/internal/fault"
	"endeixis/internal/publishers"
	"endeixis/internal/recorded"
	"endeixis/internal/records"
	"endeixis/internal/store"
)

// Settings are what the configuration says of devices.
type Settings struct {
	// Kinds is the folder of descriptions, HostKeys the file of confirmed host keys, a
	// line for each: address, kind of key, key in base64. Either may be empty.
	Kinds, HostKeys string
	Credentials     map[string]Credential
}

// Details are what is known of a device.
type Details = recorded.Device

// A Device is one of them, as stored.
type Device struct {
	Details
	By       string
	At       time.Time
	Position int64
}

// Service keeps and asks devices.
type Service struct {
	store      *store.Store
	records    *records.Service
	publishers *publishers.Service
	settings   Settings
	kinds      map[string]Described
	log        *slog.Logger
	now        func() time.Time
}

// New returns a Service. It fails where a description of a kind cannot be used.
func New(
	s *store.Store, r *records.Service, p *publishers.Service, settings Settings, log *slog.Logger,
	now func() time.Time,
) (*Service, error) {
	kinds, err := Kinds(settings.Kinds)
	return &Service{s, r, p, settings, kinds, log, now}, err
}

// Credentials lists the names of the credentials.
func (s *Service) Credentials() []string { return slices.Sorted(maps.Keys(s.settings.Credentials)) }

var nameForm = regexp.MustCompile(`^[A-Za-z0-9]([A-Za-z0-9._-]{0,58}[A-Za-z0-9])?$`)

// Set adds a device, or changes what is known of it.
func (s *Service) Set(ctx context.Context, by string, d Details) (Device, error) {
	if err := s.check(ctx, d); err != nil {
		return Device{}, err
	}
	return s.keep(ctx, by, d.Name, func(was *Details) (Details, error) {
		if was != nil && *was == d {
			return d, fault.New(
				fault.Conflict, fault.DeviceUnchanged, "That is what is known about %s already.", plain.Text(d.Name),
			)
		}
		return d, nil
	})
}

// Retire has a device asked no more; what it said stays on record.
func (s *Service) Retire(ctx context.Context, by, name, reason string) (Device, error) {
	if strings.TrimSpace(reason) == "" || len(reason) > 1000 || strings.ContainsRune(reason, 0) {
		return Device{}, fault.New(
			fault.Invalid, fault.ReasonMissing, "Say why the device is retired, in at most 1,000 characters.",
		).
			At("reason")
	}
	return s.keep(ctx, by, name, func(was *Details) (Details, error) {
		if was == nil {
			return Details{}, unknown(name)
		}
		d := *was
		d.Retired = reason
		return d, nil
	})
}

// keep stores a decision about a device with its record.
func (s *Service) keep(
	ctx context.Context, by, name string, decide func(was *Details) (Details, error),
) (Device, error) {
	var out Device
	err := s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		var was *Details
		row, err := tx.LockDevice(ctx, name)
		switch {
		case err == nil:
			was = &deviceOf(row).Details
		case !errors.Is(err, store.ErrNotFound):
			return err
		}
		d, err := decide(was)
		if err != nil {
			return err
		}
		h, err := s.records.Decide(ctx, tx, by, d.Name, recorded.DeviceSet{Device: d, Before: was})
		out = Device{Details: d, By: by, At: h.At, Position: h.Position}
		return err
	})
	return out, err
}

func deviceOf(r store.Device) *Device {
	return &Device{Details: recorded.DeviceOf(r), By: r.By, At: r.At, Position: r.Position}
}

// check refuses details that make no sense.
func (s *Service) check(ctx context.Context, d Details) error {
	if !nameForm.MatchString(d.Name) {
		return fault.New(
			fault.Invalid, fault.BadName,
			"A device's name has at most 60 letters, digits, points, hyphens and underlines.",
		).
			At("name")
	}
	if len(d.Place) > 200 || strings.ContainsRune(d.Place, 0) {
		return fault.New(fault.Invalid, fault.BadPlace, "The place can have at most 200 characters.").At("place")
	}
	k, err := s.Kind(ctx, d.Kind)
	if err != nil {
		return err
	}
	if d.Publisher != "" {
		if _, err := s.publishers.Publisher(ctx, d.Publisher); err != nil {
			return err
		}
	}
	if k.Connection == device.Typed {
		if d.Address != "" || d.Credential != "" {
			return fault.New(
				fault.Invalid, fault.NotReached,
				"Only a person can reach a device of the kind %s; it has no address and no credential.", k.Name,
			).
				At("address")
		}
		return nil
	}
	host, port, err := net.SplitHostPort(d.Address)
	if n, wrong := strconv.ParseUint(
		port, 10, 16,
	); err != nil || host == "" || wrong != nil || n == 0 || len(d.Address) > 300 ||
		strings.ContainsFunc(d.Address, func(r rune) bool { return r <= ' ' || r > '~' }) {
		return fault.New(
			fault.Invalid, fault.BadAddress, "%s is no address with a port, such as 192.0.2.7:22.",
			plain.Quoted(d.Address),
		).
			At("address")
	}
	all, err := s.All(ctx)
	if err != nil {
		return err
	}
	if at := slices.IndexFunc(
		all, func(o Device) bool { return o.Address == d.Address && o.Name != d.Name && o.Retired == "" },
	); at >= 0 {
		return fault.New(
			fault.Conflict, fault.AddressTaken,
			"%s has the address %s already: what answers there can be one of the two alone.", plain.Text(all[at].Name),
			plain.Quoted(d.Address),
		).
			Advise("Correct the address, or retire the other device first.").
			At("address")
	}
	if _, ok := s.settings.Credentials[d.Credential]; !ok {
		return fault.New(fault.Invalid, fault.CredentialUnknown, "There is no credential %s.", plain.Quoted(d.Credential)).
			Advise(
				"The administrator names credentials in the service's configuration; there are: %s.",
				strings.Join(append(s.Credentials(), "none other"), ", "),
			).At("credential")
	}
	return nil
}

// All lists the devices by their names.
func (s *Service) All(ctx context.Context) ([]Device, error) {
	rows, err := s.store.Devices(ctx)
	out := make([]Device, len(rows))
	for i, r := range rows {
		out[i] = *deviceOf(r)
	}
	return out, err
}

// Device returns one device.
func (s *Service) Device(ctx context.Context, name string) (Device, error) {
	row, err := s.store.Device(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return Device{}, unknown(name)
	}
	return *deviceOf(row), err
}

func unknown(name string) error {
	return fault.New(fault.NotFound, fault.DeviceUnknown, "There is no device %s.", plain.Quoted(name)).
		Advise("“endeixis device list” shows which there are.").
		At("device")
}
