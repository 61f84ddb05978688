// Package sources has the places where a batch's bytes are. What the batch is
// verified from is a [Source], a kind and a reference of that kind; the first
// kind is the folder of a depot.
package sources

import (
	"context"
	"io/fs"
	"strings"
	"time"

	"endeixis/core/container"
	"endeixis/core/plain"
	"endeixis/internal/depots"
	"endeixis/internal/fault"
)

// A Kind says what a reference refers to.
type Kind string

// The kinds.
const (
	// Depot is a folder of a depot; the reference is the depot's name, a
	// colon, and the folder's path in it.
	Depot Kind = "depot"
	// Client is a folder on a machine where a client reads it, and Console one that
	// was given to a browser; the reference is the host's name, a colon, and the
	// folder's path there. This process cannot read either.
	Client  Kind = "client"
	Console Kind = "console"
	// Device is equipment that hashes what it holds; the reference is its name.
	Device Kind = "device"
)

// Kinds lists every kind.
func Kinds() []Kind { return []Kind{Depot, Client, Console, Device} }

// A Source is where a batch's bytes are.
type Source struct {
	Kind      Kind   `json:"kind"`
	Reference string `json:"reference"`
}

// OfDepot returns the source that is a folder of a depot. It fails with a
// [*fault.Fault] for a path that leads out of one by its words.
func OfDepot(depot, folder string) (Source, error) {
	clean, err := depots.Clean(folder)
	return Source{Depot, depot + ":" + clean}, err
}

// OfMeasurer returns the source whose files a measurer reads: kind is Client or
// Console.
func OfMeasurer(kind Kind, host, folder string) (Source, error) {
	switch {
	case kind != Client && kind != Console:
		return Source{}, fault.New(
			fault.Invalid, fault.MeasurerUnknown, "Nobody of the kind %s measures for the service.",
			plain.Quoted(string(kind)),
		).
			At("measurer.kind")
	case host == "" || folder == "" || strings.ContainsAny(host, ":\x00") || strings.ContainsRune(folder, 0) || len(host)+len(folder) > 5000:
		return Source{}, fault.New(
			fault.Invalid, fault.BadMeasurer, "The measurer has to name its host, without a colon, and its folder.",
		).
			At("measurer.host")
	}
	return Source{kind, host + ":" + folder}, nil
}

// OfDevice returns the source that is a device.
func OfDevice(name string) Source { return Source{Device, name} }

// HasMeasurer reports whether a measurer reads the files, and not the service.
func (s Source) HasMeasurer() bool { return s.Kind == Client || s.Kind == Console }

// Host returns the machine of a measurer.
func (s Source) Host() string {
	host, _, _ := strings.Cut(s.Reference, ":")
	return host
}

// Folder splits the reference to a depot's folder. For other kinds both parts
// are empty.
func (s Source) Folder() (depot, folder string) {
	if s.Kind == Depot {
		depot, folder, _ = strings.Cut(s.Reference, ":")
	}
	return depot, folder
}

// A Folder is an opened source. Close it after use.
type Folder interface {
	// FS has the files, for survey and measure.
	FS() fs.FS
	// Empty reports whether nothing is in it.
	Empty() (bool, error)
	Close() error
}

// Sources opens what this process can read.
type Sources struct{ depots *depots.Depots }

// New returns the sources in some depots.
func New(d *depots.Depots) *Sources { return &Sources{d} }

// Open opens a source. One that cannot be opened is a [*fault.Fault].
func (s *Sources) Open(source Source) (Folder, error) {
	if source.Kind == Depot {
		return s.depots.Open(source.Folder())
	}
	return nil, fault.New(
		fault.Conflict, fault.SourceUnreadable, "This service cannot read %s, which is a %s.",
		plain.Quoted(source.Reference), source.Kind,
	).
		Advise("Ask the administrator which version of the service can.")
}

// Queue returns the name of the queue on which a source's jobs wait: a worker that can
// read it works on that.
func Queue(source Source) string {
	if source.HasMeasurer() {
		return measurerQueue
	}
	if source.Kind == Device {
		return Devices
	}
	depot, _ := source.Folder()
	return string(source.Kind) + "-" + depot
}

// measurerQueue is the queue of batches that have a measurer: surveying them takes no
// depot.
const measurerQueue = "measured-elsewhere"

// Devices is the queue of what is asked of devices, so that one that hangs keeps no folder
// waiting.
const Devices = "devices"

// Queues lists the queues of all sources that this process can read, and of those that
// none has to. That of devices is beside them.
func (s *Sources) Queues() []string {
	out := []string{measurerQueue}
	for _, name := range s.depots.Names() {
		out = append(out, Queue(Source{Depot, name + ":"}))
	}
	return out
}

// looking is how long one container is looked into.
const looking = 5 * time.Minute

// LookFor bounds the look into one container, wherever files are looked at.
func LookFor(ctx context.Context) (context.Context, context.CancelFunc) {
	return context.WithTimeoutCause(ctx, looking, &container.LimitError{What: looking.String() + " of reading"})
}
