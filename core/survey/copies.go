package survey

import (
	"bytes"
	"crypto/sha256"
	"fmt"

	"endeixis/core/digest"
	"endeixis/core/manifest"
	"endeixis/core/openpgp"
	"endeixis/core/plain"
)

// A Channel is a kind of place from which a manifest can be had. Two of them
// support each other only when they differ.
type Channel string

// The channels of manifests.
const (
	VendorSite   Channel = "vendor-site"
	Mirror       Channel = "mirror"
	OtherNetwork Channel = "other-network"
	Paper        Channel = "paper"
)

// Channels lists every channel.
func Channels() []Channel { return []Channel{VendorSite, Mirror, OtherNetwork, Paper} }

// A Provenance says where a manifest comes from.
type Provenance struct {
	Channel Channel `json:"channel"`
	// Place is where exactly, such as an address.
	Place string `json:"place"`
}

// A Copy is another copy of a manifest of the folder, had from elsewhere.
type Copy struct {
	// Of is the path of the manifest.
	Of string `json:"of"`
	Provenance
	Content []byte `json:"-"`
	// Trouble says why the copy could not be had, or is empty.
	Trouble string `json:"trouble,omitempty"`
}

// A CopyEntry is what a copy of a manifest states about an item.
type CopyEntry struct {
	Of string `json:"of"`
	Provenance
	Line       int                `json:"line"`
	Algorithms []digest.Algorithm `json:"algorithms"`
	Digest     digest.Value       `json:"digest"`
}

// A CopyRead tells how a copy compares with the manifest of the folder.
type CopyRead struct {
	Of string `json:"of"`
	Provenance
	Size   int64        `json:"size"`
	SHA256 digest.Value `json:"sha256,omitempty"`
	// Identical is set when every byte is the same.
	Identical bool `json:"identical"`
	// Same counts the entries that agree. Differ are those that do not, and
	// More how many beyond the first hundred.
	Same   int               `json:"same"`
	Differ []manifest.Change `json:"differ"`
	More   int               `json:"more,omitempty"`
	// Trouble says why the copy could not be had or read, or is empty.
	Trouble string `json:"trouble,omitempty"`
}

// String says how the copy compares.
func (c *CopyRead) String() string {
	entries := func(n int) string { return "one entry" }
	if c.Same != 1 {
		entries = func(n int) string { return fmt.Sprintf("%d entries", n) }
	}
	differ := len(c.Differ) + c.More
	switch {
	case c.Trouble != "":
		return "It could not be compared: " + c.Trouble + "."
	case c.Identical:
		return fmt.Sprintf("It is the same, byte for byte, with %s.", entries(c.Same))
	case differ == 0:
		return fmt.Sprintf("It is written otherwise, and agrees in all its %s.", entries(c.Same))
	case c.Same == 0:
		return "It agrees in no entry."
	}
	return fmt.Sprintf("It agrees in %s, and differs in %d.", entries(c.Same), differ)
}

// An ProvenanceError reports an origin or a copy for something that is not a
// manifest of the folder.
type ProvenanceError struct{ Manifest string }

// Error names it.
func (e *ProvenanceError) Error() string {
	return fmt.Sprintf("%s is not a manifest in this folder", plain.Quoted(e.Manifest))
}

// maxDiffer bounds the differences that are kept of one copy.
const maxDiffer = 100

// readCopies holds every copy against the manifest that it is one of.
func (s *planner) readCopies(origins map[string]Provenance, copies []Copy) error {
	s.origins = origins
	if err := s.checkManifests(origins, copies); err != nil {
		return err
	}
	for _, c := range copies {
		read := CopyRead{
			Of: c.Of, Provenance: c.Provenance, Size: int64(len(c.Content)), Trouble: c.Trouble,
			Differ: []manifest.Change{},
		}
		if c.Trouble == "" {
			s.readCopy(&c, &read)
		}
		s.out.Copies = append(s.out.Copies, read)
	}
	return nil
}

// checkManifests refuses origins and copies of what is no manifest here.
func (s *planner) checkManifests(origins map[string]Provenance, copies []Copy) error {
	for of := range origins {
		if !s.isManifest(of) {
			return &ProvenanceError{of}
		}
	}
	for _, c := range copies {
		if !s.isManifest(c.Of) {
			return &ProvenanceError{c.Of}
		}
	}
	return nil
}

func (s *planner) isManifest(p string) bool {
	at, ok := s.index[p]
	return ok && s.out.Items[at].Role == Manifest
}

func (s *planner) readCopy(c *Copy, read *CopyRead) {
	sum := sha256.Sum256(c.Content)
	read.SHA256 = sum[:]
	read.Identical = bytes.Equal(c.Content, s.out.Contents[c.Of])
	var list *manifest.Manifest
	var err error
	if signed, frameErr := openpgp.ReadCleartext(c.Content); frameErr == nil {
		list, err = readSigned(signed, s.listOptions(c.Of, false))
	} else if openpgp.IsCleartext(c.Content) {
		read.Trouble = plain.Text(frameErr.Error())
		return
	} else {
		list, err = manifest.Parse(string(c.Content), s.listOptions(c.Of, false))
	}
	switch {
	case err != nil:
		read.Trouble = plain.Text(err.Error())
	case list.Entries.Len() == 0:
		read.Trouble = "it holds no entry that can be read"
	}
	if list.Entries.Len() == 0 {
		return
	}
	var own manifest.Entries
	if here := s.lists[c.Of]; here != nil {
		own = here.Entries
	}
	for _, change := range manifest.Compare(own, list.Entries) {
		switch {
		case change.Kind == "unchanged":
			read.Same++
		case len(read.Differ) < maxDiffer:
			read.Differ = append(read.Differ, change)
		default:
			read.More++
		}
	}
	for _, e := range list.Entries.All() {
		for _, at := range s.filesOf(c.Of, e.Name) {
			target := &s.out.Items[at]
			target.Sighted = append(
				target.Sighted,
				CopyEntry{
					Of: c.Of, Provenance: c.Provenance, Line: e.Line, Algorithms: e.Candidates(), Digest: e.Digest,
				},
			)
		}
	}
}
