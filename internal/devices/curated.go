package devices

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strings"
	"time"

	"endeixis/core/device"
	"endeixis/core/diagnose"
	"endeixis/core/digest"
	"endeixis/core/plain"
	"endeixis/internal/fault"
	"endeixis/internal/recorded"
	"endeixis/internal/store"
)

// A Trial is a description of a kind, with what somebody has pasted from such a device.
type Trial struct {
	// Text is the description, in YAML.
	Text string
	// Slot is that which was asked about; where the kind has one alone, it may be empty.
	Slot string
	// Answer is what the device said.
	Answer string
}

// A Tried is what came of a trial.
type Tried struct {
	Kind      *device.Kind
	Slot      *device.Slot
	Algorithm digest.Algorithm
	Value     digest.Value
	// Cause says why what was pasted is no answer, or is nil.
	Cause *diagnose.Cause
}

// Try reads a description, and by it what was pasted. Nothing is kept.
func (s *Service) Try(t Trial) (Tried, error) {
	if strings.ContainsRune(t.Text, 0) {
		return Tried{}, fault.New(fault.Invalid, fault.BadKind, "The description has a character that no text has.").
			At("text")
	}
	k, err := device.ParseKind("the description", []byte(t.Text))
	if err != nil {
		return Tried{}, fault.New(fault.Invalid, fault.BadKind, "%s.", plain.Text(err.Error())).
			Advise("“endeixis device kinds harbour-gauge” prints one that works.").
			At("text")
	}
	if t.Slot == "" && len(k.Slots) == 1 {
		t.Slot = k.Slots[0].Name
	}
	slot := k.Slot(t.Slot)
	if slot == nil {
		names := make([]string, len(k.Slots))
		for i, tried := range k.Slots {
			names[i] = tried.Name
		}
		return Tried{}, fault.New(
			fault.Invalid, fault.BadSlot, "Say which slot the answer is of: %s.", strings.Join(names, ", "),
		).
			At("slot")
	}
	answer, cause := k.Try(slot, []byte(t.Answer))
	return Tried{Kind: k, Slot: slot, Algorithm: answer.Algorithm, Value: answer.Value, Cause: cause}, nil
}

// SetKind keeps a description of a kind, once an answer was read by it.
func (s *Service) SetKind(ctx context.Context, by string, t Trial) (Tried, error) {
	tried, err := s.Try(t)
	if err != nil {
		return tried, err
	}
	if tried.Cause != nil {
		return tried, fault.New(
			fault.Invalid, fault.KindNotTried, "By this description what was pasted is no answer: %s",
			tried.Cause.Sentence,
		).
			Advise("Paste what such a device says, from the question to the prompt, or change the description.").
			At("answer")
	}
	name := tried.Kind.Name
	if fixed, ok := s.kinds[name]; ok && !fixed.Shipped {
		return tried, fault.New(
			fault.Conflict, fault.KindConfigured, "The kind %s is described in the service's configuration.",
			plain.Text(name),
		).
			Advise("Give yours another name, or ask the administrator.").
			At("text")
	}
	return tried, s.keepKind(ctx, by, name, func(was *store.DeviceKind) (recorded.DeviceKindSet, error) {
		if was != nil && was.Content == t.Text && was.Retired == "" {
			return recorded.DeviceKindSet{}, fault.New(
				fault.Conflict, fault.KindUnchanged, "That is how the kind %s is described already.", plain.Text(name),
			)
		}
		return recorded.DeviceKindSet{
			DeviceKind: recorded.DeviceKind{Name: name, Content: t.Text},
			Tried: &recorded.TriedAnswer{
				Slot: tried.Slot.Name, Answer: t.Answer, Algorithm: tried.Algorithm, Value: tried.Value,
			},
		}, nil
	})
}

// RetireKind has a kind that a curator has described used no more. Devices of it have to be of
// another kind, or retired, first.
func (s *Service) RetireKind(ctx context.Context, by, name, reason string) error {
	if strings.TrimSpace(reason) == "" || len(reason) > 1000 || strings.ContainsRune(reason, 0) {
		return fault.New(fault.Invalid, fault.ReasonMissing, "Say why the kind is retired, in at most 1,000 characters.").
			At("reason")
	}
	all, err := s.All(ctx)
	if err != nil {
		return err
	}
	if at := slices.IndexFunc(all, func(d Device) bool { return d.Kind == name && d.Retired == "" }); at >= 0 {
		return fault.New(
			fault.Conflict, fault.KindInUse, "%s is of the kind %s.", plain.Text(all[at].Name), plain.Quoted(name),
		).
			Advise("Change or retire the devices of this kind first.")
	}
	return s.keepKind(ctx, by, name, func(was *store.DeviceKind) (recorded.DeviceKindSet, error) {
		if was == nil || was.Retired != "" {
			return recorded.DeviceKindSet{}, fault.New(
				fault.NotFound, fault.KindUnknown, "No curator has described a kind %s.", plain.Quoted(name),
			).
				Advise("“endeixis device kinds” shows which there are.")
		}
		return recorded.DeviceKindSet{
			DeviceKind: recorded.DeviceKind{Name: name, Content: was.Content, Retired: reason},
		}, nil
	})
}

// keepKind stores a decision about a kind with its record.
func (s *Service) keepKind(
	ctx context.Context, by, name string, decide func(was *store.DeviceKind) (recorded.DeviceKindSet, error),
) error {
	return s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		var was *store.DeviceKind
		row, err := tx.LockDeviceKind(ctx, name)
		switch {
		case err == nil:
			was = &row
		case !errors.Is(err, store.ErrNotFound):
			return err
		}
		body, err := decide(was)
		if err != nil {
			return err
		}
		_, err = s.records.Decide(ctx, tx, by, name, body)
		return err
	})
}

// Kinds lists the kinds by their names. What the configuration describes takes the place of
// what a curator has, and that of what came with the program.
func (s *Service) Kinds(ctx context.Context) ([]Described, error) {
	all := maps.Clone(s.kinds)
	rows, err := s.store.DeviceKinds(ctx)
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		if fixed, ok := all[row.Name]; ok && !fixed.Shipped || row.Retired != "" {
			continue
		}
		if all[row.Name], err = described(row); err != nil {
			return nil, err
		}
	}
	out := make([]Described, 0, len(all))
	for _, name := range slices.Sorted(maps.Keys(all)) {
		out = append(out, all[name])
	}
	return out, nil
}

func described(row store.DeviceKind) (Described, error) {
	k, err := device.ParseKind(row.Name, []byte(row.Content))
	return Described{Kind: k, Text: row.Content, By: row.By, At: row.At.UTC()}, err
}

// Kind returns a kind. One that is not there is a [*fault.Fault].
func (s *Service) Kind(ctx context.Context, name string) (*device.Kind, error) {
	if fixed, ok := s.kinds[name]; ok && !fixed.Shipped {
		return fixed.Kind, nil
	}
	row, err := s.store.DeviceKind(ctx, name)
	if err == nil && row.Retired == "" {
		d, err := described(row)
		return d.Kind, err
	}
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	if shipped, ok := s.kinds[name]; ok {
		return shipped.Kind, nil
	}
	return nil, fault.New(fault.Invalid, fault.KindUnknown, "No kind of device is called %s.", plain.Quoted(name)).
		Advise("“endeixis device kinds” shows which there are.").
		At("kind")
}

// A Described is a kind of device with the text that describes it.
type Described struct {
	*device.Kind
	// Text is the description, and Shipped whether it came with the program. By says which
	// curator has described it, if one has, and At when.
	Text    string
	Shipped bool
	By      string
	At      time.Time
}
