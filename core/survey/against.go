package survey

import (
	"slices"
	"time"

	"endeixis/core/digest"
)

// An Against is what a medium is read back against: a file that was verified here, or a
// value that was given.
type Against struct {
	// Batch and N are the item that the file was, and Path its path there; they are
	// missing where nothing but a value is known.
	Batch int64  `json:"batch,omitempty"`
	N     int    `json:"n,omitempty"`
	Path  string `json:"path,omitempty"`
	// Size is how long the file is, in bytes, and Digests what it has.
	Size    int64                             `json:"size"`
	Digests map[digest.Algorithm]digest.Value `json:"digests"`
}

// Known reports whether the file was verified here.
func (a *Against) Known() bool { return a.Batch != 0 }

// Algorithm returns the strongest algorithm that its digests are of.
func (a *Against) Algorithm() digest.Algorithm {
	var all []digest.Algorithm
	for algorithm := range a.Digests {
		all = append(all, algorithm)
	}
	slices.Sort(all)
	return digest.Strongest(all)
}

// Medium plans the reading back of a medium: its first bytes are one artifact, and what
// vouches for that is what it is held against.
func Medium(name string, read time.Time, against Against) *Survey {
	item := Item{
		Path: name, Role: Artifact, Why: "a medium that is read back", Size: against.Size, ModTime: read, Against: &against,
		Digests: []digest.Algorithm{digest.SHA256},
	}
	if a := against.Algorithm(); a != digest.SHA256 && a != digest.Unknown {
		item.Digests = append(item.Digests, a)
	}
	return &Survey{Items: []Item{item}, Absent: []Absent{}, Copies: []CopyRead{}, Contents: map[string][]byte{}}
}
