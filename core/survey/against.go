package survey

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"endeixis/core/digest"
	"endeixis/core/plain"
)

// An Against is what a medium is read back against: a file that was verified here, or a
// value that was given.
type Against struct {
	// Batch and N are the item that the file was, and Path its path there; they are
	// missing where nothing but a value is known.
	Batch int64  `json:"batch,omitempty"`
	N     int    `json:"n,omitempty"`
	Path  string `json:"path,omitempty"`
	// Size is how long the file is, in bytes, and Digests what it has. Of a value that
	// was given without its algorithm they are those that it can be of: one has to match.
	Size    int64                             `json:"size"`
	Digests map[digest.Algorithm]digest.Value `json:"digests"`
}

// Known reports whether the file was verified here.
func (a *Against) Known() bool { return a.Batch != 0 }

// ThisVisit stands for the batch of a file that was verified on site, where there are no
// batches.
const ThisVisit = -1

// Named returns what people call it.
func (a *Against) Named() string {
	switch {
	case !a.Known():
		return "what was given"
	case a.Batch == ThisVisit:
		return plain.Text(a.Path)
	default:
		return fmt.Sprintf("%s of batch %d", plain.Text(a.Path), a.Batch)
	}
}

// Algorithms returns those of which digests decide: of a file the strongest, of a value
// all that it can be of, and so of checksums, of which there are variants.
func (a *Against) Algorithms() []digest.Algorithm {
	all := slices.Sorted(maps.Keys(a.Digests))
	if strongest := digest.Strongest(all); a.Known() && strongest.Class() != digest.Checksum {
		return digest.Only(strongest)
	}
	return all
}

// Matches returns the algorithm by which digests are those of the file, or [digest.Unknown]
// where they are not.
func (a *Against) Matches(computed map[digest.Algorithm]digest.Value) digest.Algorithm {
	for _, algorithm := range a.Algorithms() {
		if want := a.Digests[algorithm]; len(want) > 0 && slices.Equal(want, computed[algorithm]) {
			return algorithm
		}
	}
	return digest.Unknown
}

// Variant returns the algorithm by which a value is that of the file: the one that was asked
// for or, of checksums and of what is not known, another of that length. It is
// [digest.Unknown] where there is none.
func (a *Against) Variant(asked digest.Algorithm, value digest.Value) digest.Algorithm {
	candidates := digest.Only(asked)
	if asked.Class() == digest.Checksum || !a.Known() {
		candidates = append(slices.Clone(candidates), digest.OfSize(asked.Size())...)
	}
	for _, algorithm := range candidates {
		if want := a.Digests[algorithm]; len(want) > 0 && slices.Equal(want, value) {
			return algorithm
		}
	}
	return digest.Unknown
}

// Medium plans the reading back of a medium: its first bytes are one artifact, and what
// vouches for that is what it is held against.
func Medium(name string, read time.Time, against Against) *Survey {
	item := Item{
		Path: name, Role: Artifact, Why: "a medium that is read back", Size: against.Size, ModTime: read, Against: &against,
		Digests: []digest.Algorithm{digest.SHA256},
	}
	for _, a := range against.Algorithms() {
		if a != digest.SHA256 {
			item.Digests = append(item.Digests, a)
		}
	}
	return &Survey{Items: []Item{item}, Absent: []Absent{}, Copies: []CopyRead{}, Contents: map[string][]byte{}}
}

// A SlotSaid is a slot of a device, with the value that the device gives of it.
type SlotSaid struct {
	// Path names the slot's item.
	Path      string
	At        time.Time
	Size      int64
	Algorithm digest.Algorithm
	// Against is what it is held against, or nil where nothing is known of its value.
	Against *Against
}

// Device plans the check of slots of a device: each is one artifact, of which the device
// says what it has.
func Device(slots []SlotSaid) *Survey {
	out := &Survey{Items: make([]Item, len(slots)), Absent: []Absent{}, Copies: []CopyRead{}, Contents: map[string][]byte{}}
	for i, s := range slots {
		out.Items[i] = Item{
			Path: s.Path, Role: Artifact, Why: "a slot of a device", Size: s.Size, ModTime: s.At, Against: s.Against, Digests: digest.Only(s.Algorithm),
		}
	}
	return out
}
