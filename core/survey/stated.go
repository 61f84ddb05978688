package survey

import (
	"endeixis/core/digest"
	"endeixis/core/manifest"
)

// Stated is what a manifest states about a file, as a measurer is told it: so much of an [Entry]
// as it takes to explain a difference where the bytes are. Algorithms go by their labels, so that
// one that a measurer does not know keeps it from no other.
type Stated struct {
	Manifest   string           `json:"manifest"`
	Line       int              `json:"line"`
	Algorithms []string         `json:"algorithms" doc:"The candidates, of which one has to match."`
	Digest     digest.Value     `json:"digest" doc:"In hexadecimal."`
	Size       *int64           `json:"size,omitempty"`
	Pieces     *manifest.Pieces `json:"pieces,omitempty"`
	Doubtful   bool             `json:"doubtful,omitempty" doc:"Another file may be meant: the digest decides."`
}

// StatedIn returns what an entry states.
func StatedIn(e Entry) Stated {
	out := Stated{
		Manifest: e.Manifest, Line: e.Line, Algorithms: []string{}, Digest: e.Digest, Size: e.Size, Pieces: e.Pieces,
		Doubtful: e.Doubtful || e.Guessed,
	}
	for _, a := range e.Algorithms {
		out.Algorithms = append(out.Algorithms, a.String())
	}
	return out
}

// EntriesOf returns what is stated as entries. An algorithm that is not known here is left out.
func EntriesOf(stated []Stated) []Entry {
	var out []Entry
	for _, s := range stated {
		e := Entry{
			Manifest: s.Manifest, Line: s.Line, Digest: s.Digest, Size: s.Size, Pieces: s.Pieces, Doubtful: s.Doubtful,
		}
		for _, label := range s.Algorithms {
			if a, err := digest.Parse(label); err == nil {
				e.Algorithms = append(e.Algorithms, a)
			}
		}
		out = append(out, e)
	}
	return out
}
