// Package sources has the places where a batch's bytes are. What the batch is
// verified from is a [Source], a kind and a reference of that kind; the first
// kind is the folder of a depot.
package sources

import (
	"io/fs"
	"strings"

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
)

// Kinds lists every kind.
func Kinds() []Kind { return []Kind{Depot} }

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
	return nil, fault.New(fault.Conflict, "source-unreadable", "This service cannot read %s, which is a %s.", plain.Quoted(source.Reference), source.Kind).
		Advise("Ask the administrator which version of the service can.")
}

// Queue returns the name of the queue on which a source's jobs wait: whoever can
// read it works on that.
func Queue(source Source) string {
	depot, _ := source.Folder()
	return string(source.Kind) + "-" + depot
}

// Queues lists the queues of all sources that this process can read.
func (s *Sources) Queues() []string {
	var out []string
	for _, name := range s.depots.Names() {
		out = append(out, Queue(Source{Depot, name + ":"}))
	}
	return out
}
