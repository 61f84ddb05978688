package batches

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"maps"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/singleflight"

	"endeixis/core/device"
	"endeixis/core/digest"
	"endeixis/core/judge"
	"endeixis/core/measure"
	"endeixis/core/plain"
	"endeixis/core/survey"
	"endeixis/internal/devices"
	"endeixis/internal/fault"
	"endeixis/internal/query"
	"endeixis/internal/sources"
	"endeixis/internal/store"
	"endeixis/internal/version"
)

// Devices knows equipment that can hash what it holds, and asks it.
type Devices interface {
	Device(ctx context.Context, name string) (devices.Device, error)
	Kind(ctx context.Context, name string) (*device.Kind, error)
	Ask(ctx context.Context, d devices.Details, k *device.Kind, questions []devices.Question) ([]devices.Reply, error)
}

// A DeviceCheck asks for the check of a device: a batch with an item for each slot, of
// which the device says what it has.
type DeviceCheck struct {
	Device string
	// Slots are those that are asked about; empty means all.
	Slots []string
	// Against is what the slots are held against; nil means whichever release is known to
	// have such a value.
	Against *GivenAgainst
	// Printed is what a person has copied from the device's console, of one slot.
	Printed        string
	Label          string
	IdempotencyKey string
}

// asked is a check as it is stored until it is carried out.
type asked struct {
	Device  devices.Details `json:"device"`
	Slots   []string        `json:"slots"`
	Against *survey.Against `json:"against,omitempty"`
	Printed string          `json:"printed,omitempty"`
}

// CheckDevice stores a new batch that checks a device.
func (s *Service) CheckDevice(ctx context.Context, by string, r DeviceCheck) (query.Batch, error) {
	d, err := s.devices.Device(ctx, r.Device)
	if err != nil {
		return query.Batch{}, err
	}
	if d.Retired != "" {
		return query.Batch{}, fault.New(
			fault.Conflict, fault.DeviceRetired, "%s is retired: %s", plain.Text(d.Name), plain.Text(d.Retired),
		).
			Advise("“endeixis device add” takes it into use again.").
			At("device")
	}
	kind, err := s.devices.Kind(ctx, d.Kind)
	if err != nil {
		return query.Batch{}, err
	}
	a := asked{Device: d.Details, Slots: r.Slots, Printed: r.Printed}
	if len(a.Slots) == 0 {
		for _, slot := range kind.Slots {
			a.Slots = append(a.Slots, slot.Name)
		}
	}
	slices.Sort(a.Slots)
	a.Slots = slices.Compact(a.Slots)
	if err := checkAsked(&a, kind); err != nil {
		return query.Batch{}, err
	}
	if r.Against != nil {
		if a.Against, err = s.against(ctx, *r.Against); err != nil {
			return query.Batch{}, err
		}
	}
	body, err := json.Marshal(a)
	if err != nil {
		return query.Batch{}, err
	}
	return s.create(ctx, by, Request{
		Source: sources.OfDevice(d.Name), Label: r.Label, Publisher: d.Publisher, IdempotencyKey: r.IdempotencyKey,
		Corrections: []survey.Correction{}, ComesFrom: map[string]survey.Provenance{},
	}, nil, func(ctx context.Context, tx *store.Tx, id int64) error {
		return errors.Join(
			tx.AddDeviceCheck(ctx, id, body), s.jobs.Survey(ctx, tx, id, sources.Queue(sources.OfDevice(d.Name))),
		)
	})
}

// checkAsked refuses slots that a device of a kind does not have, and what was copied from a
// console that has no value of the slot.
func checkAsked(a *asked, kind *device.Kind) error {
	for _, name := range a.Slots {
		if kind.Slot(name) == nil {
			return fault.New(
				fault.Invalid, fault.SlotUnknown, "A device of the kind %s has no slot %s.", kind.Name, plain.Quoted(name),
			).
				Advise("It has: %s.", slotNames(kind)).
				At("slot")
		}
	}
	switch {
	case len(a.Printed) > device.MaxAnswer || strings.ContainsRune(a.Printed, 0):
		return fault.New(
			fault.Invalid, fault.BadPrinted, "What was copied from a console is text of at most %d KiB.",
			device.MaxAnswer>>10,
		).
			At("printed")
	case a.Printed != "" && len(a.Slots) != 1:
		return fault.New(
			fault.Invalid, fault.SlotMissing, "Say of which slot of %s that is.", plain.Text(a.Device.Name),
		).
			Advise("It has: %s.", slotNames(kind)).
			At("slot")
	case a.Printed == "" && kind.Connection == device.Typed:
		return fault.New(fault.Invalid, fault.OnlyTyped, "Only a person can reach %s.", plain.Text(a.Device.Name)).
			Advise("Give what stands on its console, copied or typed.").
			At("printed")
	}
	if a.Printed != "" {
		if why := kind.Lacking(kind.Slot(a.Slots[0]), []byte(a.Printed)); why != "" {
			return fault.New(
				fault.Invalid, fault.NoValue, "In what was copied from %s there is %s.", plain.Text(a.Device.Name), why,
			).
				Advise(
					"Nothing was kept of it. Copy the line with the value from its console, whole; it gives %s.",
					device.Named(kind.Algorithms()),
				).
				At("printed")
		}
	}
	return nil
}

func slotNames(k *device.Kind) string {
	names := make([]string, len(k.Slots))
	for i, slot := range k.Slots {
		names[i] = slot.Name
	}
	return strings.Join(names, ", ")
}

// ask carries a check out: it asks the device, finds what each slot is held against, and
// returns what there is to judge.
func (s *Service) ask(ctx context.Context, b store.Batch) (*looked, error) {
	body, err := s.store.DeviceCheck(ctx, b.ID)
	if err != nil {
		return nil, err
	}
	var a asked
	if err := json.Unmarshal(body, &a); err != nil {
		return nil, err
	}
	kind, err := s.devices.Kind(ctx, a.Device.Kind)
	if err != nil {
		return nil, s.fail(ctx, b, err)
	}
	measured, err := s.said(ctx, b, kind, &a)
	if err != nil {
		return nil, err
	}
	slots := make([]survey.SlotSaid, len(measured))
	for i := range measured {
		m := &measured[i]
		slots[i] = survey.SlotSaid{Path: "slot " + m.Device.Slot, At: m.At, Algorithm: m.Device.Algorithm}
		if slots[i].Against, err = s.heldAgainst(ctx, kind, &a, m); err != nil {
			return nil, s.orFail(ctx, b, err)
		}
		if m.Size == 0 && slots[i].Against != nil {
			m.Size = slots[i].Against.Size
		}
		slots[i].Size = m.Size
	}
	byPath := make(map[string]measure.Measurement, len(measured))
	for i := range measured {
		byPath[slots[i].Path] = measured[i]
	}
	return &looked{
		plan: func(survey.Options) (*survey.Survey, error) { return survey.Device(slots), nil }, measured: byPath,
		witness: s.witness(b.AskedBy), close: func() {},
	}, nil
}

// orFail ends a batch for a reason that trying again does not mend.
func (s *Service) orFail(ctx context.Context, b store.Batch, err error) error {
	var f *fault.Fault
	if errors.As(err, &f) {
		return s.fail(ctx, b, err)
	}
	return err
}

// said returns what a device says of its slots, or what a person has copied.
func (s *Service) said(ctx context.Context, b store.Batch, kind *device.Kind, a *asked) ([]measure.Measurement, error) {
	algorithms := kind.Algorithms()
	out := make([]measure.Measurement, len(a.Slots))
	questions := make([]devices.Question, len(a.Slots))
	for i, name := range a.Slots {
		slot := kind.Slot(name)
		if slot == nil {
			return nil, s.fail(
				ctx, b,
				fault.New(
					fault.Conflict, fault.SlotUnknown, "A device of the kind %s has no slot %s any more.", kind.Name,
					plain.Quoted(name),
				),
			)
		}
		questions[i] = devices.Question{Slot: slot, Algorithms: algorithms}
		out[i] = measure.Measurement{Device: &device.SlotReport{
			Device:     a.Device.Name,
			Kind:       kind.Name,
			KindDigest: kind.Digest,
			Slot:       name,
			SlotTitle:  slot.Title,
			Connection: kind.Connection,
			Address:    a.Device.Address,
			Algorithm:  algorithms[0],
			Question:   kind.Question(slot, algorithms[0]),
			Covers:     kind.Covers,
		}}
	}
	w := measure.Attribution{
		Maker: measure.Device, Where: a.Device.Name, By: b.AskedBy, At: s.now(),
		Software: "endeixis " + version.Version,
	}
	replies := make([]devices.Reply, len(questions))
	if a.Printed != "" {
		w.Maker = measure.Typed
		report := out[0].Device
		report.Connection, report.Address, report.Question = device.Typed, "", ""
		replies[0].Said = []byte(a.Printed)
	} else {
		var err error
		if replies, err = s.devices.Ask(ctx, a.Device, kind, questions); err != nil {
			return nil, err
		}
	}
	for i := range out {
		m, reply := &out[i], replies[i]
		m.Sign(w)
		if reply.Algorithm != digest.Unknown {
			m.Device.Algorithm, m.Device.Question = reply.Algorithm, kind.Question(questions[i].Slot, reply.Algorithm)
		}
		m.Device.HostKey, m.Device.Said, m.Device.Milliseconds = reply.HostKey, device.Shown(
			[]byte(device.WithoutEcho(device.Printed(reply.Said), m.Device.Question)),
		), reply.Took.Milliseconds()
		cause := reply.Cause
		var answer device.Answer
		switch {
		case cause != nil:
		case a.Printed != "":
			answer, cause = kind.Copied(questions[i].Slot, algorithms, reply.Said)
		default:
			answer, cause = kind.Read(questions[i].Slot, m.Device.Algorithm, reply.Said)
		}
		if cause != nil {
			m.Device.Cause = cause
			m.Problem = &measure.Problem{Code: measure.NotMeasured, Message: cause.Sentence}
			continue
		}
		m.Device.Algorithm = answer.Algorithm
		m.Size, m.Digests = answer.Size, map[digest.Algorithm]digest.Value{answer.Algorithm: answer.Value}
		if kind.Covers == device.WholeSlot && m.Size == 0 {
			m.Size = questions[i].Slot.Bytes
		}
	}
	return out, nil
}

// heldAgainst returns what a slot is held against, with our own digests by what the
// device has computed: of what was given, or of a release that has the value. It is nil
// where there is none.
func (s *Service) heldAgainst(
	ctx context.Context, kind *device.Kind, a *asked, m *measure.Measurement,
) (*survey.Against, error) {
	if m.Problem != nil {
		return a.Against, nil
	}
	fill := filling{covers: kind.Covers, fill: kind.Fill, size: kind.Slot(m.Device.Slot).Bytes}
	algorithm, value := m.Device.Algorithm, m.Digests[m.Device.Algorithm]
	if a.Against != nil {
		against, err := s.computed(ctx, a.Against, algorithm, fill)
		if err != nil || against.Variant(algorithm, value) != digest.Unknown {
			return against, err
		}
		other, err := s.otherwise(ctx, a.Against, algorithm, value, fill)
		if other != nil || err != nil {
			return other, err
		}
		return against, nil
	}
	var found []store.Verified
	if len(value) >= digest.MD5.Size() {
		references, err := s.store.References(ctx, [][]byte{value}, 20)
		if err != nil {
			return nil, err
		}
		for _, r := range references {
			if r.Algorithm == algorithm.String() && (r.Now == nil || *r.Now == string(judge.Cleared)) {
				found = append(found, store.Verified{Batch: r.Batch, N: r.N})
			}
		}
	}
	known := len(found) // by the value itself
	if known == 0 && a.Device.Publisher != "" {
		var err error
		if found, err = s.candidates(ctx, a.Device.Publisher, m, fill); err != nil {
			return nil, err
		}
	}
	for i, v := range found {
		image, err := s.verified(ctx, v, nil)
		if err != nil {
			return nil, err
		}
		against, err := s.computed(ctx, image, algorithm, fill)
		var f *fault.Fault
		if errors.As(err, &f) {
			continue // its bytes cannot be had any more
		}
		if err != nil {
			return nil, err
		}
		if against.Variant(algorithm, value) != digest.Unknown {
			return against, nil
		}
		if i < known {
			other, err := s.otherwise(ctx, image, algorithm, value, fill)
			if other != nil || err != nil {
				return other, err
			}
		}
	}
	return nil, nil
}

// otherwise returns what a slot is held against where its value is not over what the kind says:
// over the whole slot instead of the image, the image instead of the slot, or with something
// else behind the image. It is nil where the value is none of these either.
func (s *Service) otherwise(
	ctx context.Context, image *survey.Against, algorithm digest.Algorithm, value digest.Value, as filling,
) (*survey.Against, error) {
	if !image.Known() || as.size > 0 && image.Size > as.size {
		return nil, nil // one that does not fit is not in the slot
	}
	ways := []filling{{covers: device.Image}}
	if as.size > 0 {
		ways = append(ways, filling{device.WholeSlot, 0xff, as.size}, filling{device.WholeSlot, 0, as.size})
	}
	for _, way := range ways {
		if way.covers == as.covers && (way.covers == device.Image || way.fill == as.fill) {
			continue
		}
		against, err := s.computed(ctx, image, algorithm, way)
		var f *fault.Fault
		if errors.As(err, &f) {
			continue // its bytes cannot be had any more
		}
		if err != nil {
			return nil, err
		}
		if against.Variant(algorithm, value) != digest.Unknown {
			against.Covered, against.Fill = way.covers, way.fill
			return against, nil
		}
	}
	return nil, nil
}

const (
	// maxCandidates bounds how many releases a value is looked for among, and
	// maxCandidateBytes what is read for that.
	maxCandidates     = 64
	maxCandidateBytes = 2 << 30
)

// candidates lists releases of a publisher that a slot may hold.
func (s *Service) candidates(
	ctx context.Context, publisher string, m *measure.Measurement, fill filling,
) ([]store.Verified, error) {
	size, atMost := int64(0), fill.size
	if fill.covers == device.Image {
		size = m.Size
	}
	if atMost == 0 {
		atMost = maxCandidateBytes
	}
	rows, err := s.store.CandidatesFor(ctx, publisher, size, atMost, maxCandidates)
	if err != nil {
		return nil, err
	}
	var out []store.Verified
	left := int64(maxCandidateBytes)
	for _, r := range rows {
		if left -= r.Size; left < 0 {
			break
		}
		out = append(out, store.Verified{Batch: r.Batch, N: r.N})
	}
	return out, nil
}

// filling is what a device hashes beside the image.
type filling struct {
	covers device.Covers
	fill   byte
	size   int64
}

// ours keeps digests of verified files by further algorithms, and with what fills a slot:
// they never change, and a fleet asks for the same again and again.
type ours struct {
	mu    sync.Mutex
	known map[string]map[digest.Algorithm]digest.Value
	// forms are what is in files that are wrappings.
	forms  map[string][]survey.Form
	flight singleflight.Group
}

// maxOurs bounds what is kept.
const maxOurs = 4096

// computed returns what a slot is held against with our own digests as the device computes
// them. What cannot be read any more is a [*fault.Fault].
func (s *Service) computed(
	ctx context.Context, against *survey.Against, algorithm digest.Algorithm, fill filling,
) (*survey.Against, error) {
	out := *against
	if fill.covers == device.WholeSlot && against.Size > fill.size {
		// The image does not fit, so that the slot cannot hold it.
		out.Digests = map[digest.Algorithm]digest.Value{}
		return &out, nil
	}
	whole := fill.covers == device.Image
	algorithms := digest.Only(algorithm)
	if algorithm.Class() == digest.Checksum {
		algorithms = digest.OfSize(algorithm.Size())
	}
	if !against.Known() {
		if !whole || len(against.Digests[algorithm]) == 0 {
			return nil, fault.New(
				fault.Conflict, fault.ImageUnknown,
				"Only a digest of the image is known, and the device computes another.",
			).
				Advise("Verify the image itself in a depot, then hold the slot against that.")
		}
		return &out, nil
	}
	if value := against.Digests[algorithm]; whole && len(value) > 0 && algorithm.Class() != digest.Checksum {
		out.Digests = map[digest.Algorithm]digest.Value{algorithm: value}
		return &out, nil
	}
	key := fmt.Sprintf("%d %d %v %+v", against.Batch, against.N, algorithms, fill)
	s.ours.mu.Lock()
	known := s.ours.known[key]
	s.ours.mu.Unlock()
	if known == nil {
		done := s.ours.flight.DoChan(key, func() (any, error) {
			return s.hashed(context.WithoutCancel(ctx), against, algorithms, fill)
		})
		select {
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		case r := <-done:
			if r.Err != nil {
				return nil, r.Err
			}
			known = r.Val.(map[digest.Algorithm]digest.Value)
		}
		s.ours.mu.Lock()
		if s.ours.known == nil || len(s.ours.known) >= maxOurs {
			s.ours.known = map[string]map[digest.Algorithm]digest.Value{}
		}
		s.ours.known[key] = known
		s.ours.mu.Unlock()
	}
	out.Digests = maps.Clone(known)
	return &out, nil
}

// hashed reads a verified file once more, sees that it is still that file, and computes
// further digests in the same read.
func (s *Service) hashed(
	ctx context.Context, against *survey.Against, algorithms []digest.Algorithm, fill filling,
) (map[digest.Algorithm]digest.Value, error) {
	gone := fault.New(
		fault.Conflict, fault.NoLongerThere,
		"%s of batch %d cannot be read any more, and its digest by %s was never computed.", plain.Text(against.Path),
		against.Batch, algorithms[0],
	).
		Advise("Verify it again where the service can read it, then check the slot again.")
	b, err := s.batch(ctx, against.Batch)
	if err != nil {
		return nil, err
	}
	found, err := s.stored(ctx, against.Batch, against.N)
	if err != nil {
		return nil, err
	}
	if sourceOf(b).Kind != sources.Depot {
		return nil, gone
	}
	folder, err := s.sources.Open(sourceOf(b))
	if err != nil {
		return nil, gone.Because(err)
	}
	defer folder.Close()
	content, err := s.content(ctx, folder.FS(), against.Batch, found.Planned)
	if err != nil {
		return nil, gone.Because(err)
	}
	defer content.Close()
	strongest := digest.Strongest(slices.Sorted(maps.Keys(found.Measurement.Digests)))
	proof := strongest.New()
	sums := make([]hash.Hash, len(algorithms))
	writers := []io.Writer{proof}
	for i, a := range algorithms {
		sums[i] = a.New()
		writers = append(writers, sums[i])
	}
	n, err := digest.Pump(ctx, content, writers, nil)
	if err != nil {
		return nil, gone.Because(err)
	}
	if n != found.Measurement.Size || !slices.Equal(proof.Sum(nil), found.Measurement.Digests[strongest]) {
		return nil, fault.New(
			fault.Conflict, fault.ChangedSince, "%s is not what was verified in batch %d any more.",
			plain.Text(against.Path), against.Batch,
		).
			Advise("Verify its folder again.")
	}
	out := map[digest.Algorithm]digest.Value{}
	for i, a := range algorithms {
		if fill.covers == device.WholeSlot {
			padding := slices.Repeat([]byte{fill.fill}, 64<<10)
			for left := fill.size - n; left > 0; left -= int64(len(padding)) {
				sums[i].Write(padding[:min(left, int64(len(padding)))])
			}
		}
		out[a] = sums[i].Sum(nil)
	}
	return out, nil
}
