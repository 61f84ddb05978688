package survey

import (
	"bufio"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"time"

	"endeixis/core/container"
	"endeixis/core/device"
	"endeixis/core/digest"
	"endeixis/core/plain"
	"endeixis/core/readback"
)

// An Against is what a medium is read back against: a file that was verified here, or a
// value that was given.
type Against struct {
	// Batch and N are the item that the file was, and Path its path there; they are
	// missing where nothing but a value is known.
	Batch int64  `json:"batch,omitempty"`
	N     int    `json:"n,omitempty"`
	Path  string `json:"path,omitempty"`
	// Inner is set where it is a file inside of that item, which nothing spoke of by itself,
	// and is its name there.
	Inner string `json:"inner,omitempty"`
	// Size is how long the file is, in bytes, and Digests what it has. Of a value that
	// was given without its algorithm they are those that it can be of: one has to match.
	Size    int64                             `json:"size"`
	Digests map[digest.Algorithm]digest.Value `json:"digests"`
	// Forms are what is in the file, where it is a wrapping: a medium that was written from
	// it has one of them.
	Forms []Form `json:"forms,omitempty"`
	// Covered is set where the digests are over something else than the kind of device says:
	// the whole slot, with Fill behind the image, or the image alone.
	Covered device.Covers `json:"covered,omitempty"`
	Fill    byte          `json:"fill,omitempty"`
	// as says which form of the file this is, in words that its name goes into.
	as string
}

// A Form is what is in a file that is a wrapping: the uncompressed form of a compressed one,
// or a part of what a file carries that gives bytes for addresses.
type Form struct {
	// Compression is set for an uncompressed form, and Format names a file that carries
	// bytes, of which this part begins at Address.
	Compression container.Compression `json:"compression,omitempty"`
	Format      string                `json:"format,omitempty"`
	Address     uint64                `json:"address,omitempty"`
	Size        int64                 `json:"size"`
	// Digest is by SHA-256.
	Digest digest.Value `json:"digest"`
}

// In returns what a medium is held against that is compared with a form of the file, by its
// number from 1. For 0, and a number that no form has, it is the file itself.
func (a *Against) In(form int) *Against {
	out := *a
	if form < 1 || form > len(a.Forms) {
		return &out
	}
	f := a.Forms[form-1]
	out.Size, out.Digests = f.Size, map[digest.Algorithm]digest.Value{digest.SHA256: f.Digest}
	out.as = "the uncompressed form of %s"
	if f.Compression == "" {
		out.as = fmt.Sprintf("what %%s carries from address 0x%x on", f.Address)
	}
	return &out
}

// Within reports whether it is what is in a file, as [Against.In] returns it.
func (a *Against) Within() bool { return a.as != "" }

// Said says for people which form it is.
func (f *Form) Said() string {
	if f.Compression != "" {
		return "the uncompressed form"
	}
	return fmt.Sprintf("what it carries from address 0x%x on", f.Address)
}

// MaxForms bounds the forms of one file.
const MaxForms = 64

// FormsCarried returns the parts that a file carries as forms of it. It fails where there are
// more than [MaxForms]: a part that is not compared could be altered.
func FormsCarried(format string, parts []readback.Part) ([]Form, error) {
	if len(parts) > MaxForms {
		return nil, fmt.Errorf(
			"it carries %d parts, and of more than %d none is compared by itself", len(parts), MaxForms,
		)
	}
	out := make([]Form, len(parts))
	for i, p := range parts {
		sum := sha256.Sum256(p.Content)
		out[i] = Form{Format: format, Address: p.Base, Size: int64(len(p.Content)), Digest: sum[:]}
	}
	return out, nil
}

// maxForm bounds an uncompressed form, in bytes.
const maxForm = 256 << 30

// FormsOf reads a file to its end and returns its forms: there are none of one that is no
// wrapping. It returns what expanding it does for one that is damaged; what stands behind the
// end of compressed data is no part of the form.
func FormsOf(ctx context.Context, name string, content io.Reader) ([]Form, error) {
	if c, _, ok := container.OfName(name); ok {
		sum := sha256.New()
		e, err := container.Decompress(ctx, c, content, &bounded{sum, maxForm})
		if err != nil {
			return nil, err
		}
		if e.Size == 0 {
			return nil, nil
		}
		return []Form{{Compression: c, Size: e.Size, Digest: sum.Sum(nil)}}, nil
	}
	head := bufio.NewReaderSize(content, 64)
	beginning, _ := head.Peek(64)
	if !readback.Carries(beginning) {
		return nil, nil
	}
	file, err := io.ReadAll(io.LimitReader(head, readback.MaxCarrier+1))
	if err != nil || len(file) > readback.MaxCarrier {
		return nil, err
	}
	c, _, err := readback.Expand(file)
	if err != nil {
		return nil, err
	}
	return FormsCarried(c.Format, c.Parts)
}

// bounded fails where more is written than it lets through.
type bounded struct {
	to   io.Writer
	left int64
}

func (b *bounded) Write(p []byte) (int, error) {
	if b.left -= int64(len(p)); b.left < 0 {
		return 0, errors.New("it expands to more than is compared")
	}
	return b.to.Write(p)
}

// Known reports whether the file was verified here.
func (a *Against) Known() bool { return a.Batch != 0 }

// ThisVisit stands for the batch of a file that was verified on site, where there are no
// batches.
const ThisVisit = -1

// Named returns what people call it.
func (a *Against) Named() string {
	if a.as != "" {
		return fmt.Sprintf(a.as, a.named())
	}
	return a.named()
}

func (a *Against) named() string {
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
		Path:    name,
		Role:    Artifact,
		Why:     "a medium that is read back",
		Size:    against.Size,
		ModTime: read,
		Against: &against,
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
	out := &Survey{
		Items: make([]Item, len(slots)), Absent: []Absent{}, Copies: []CopyRead{}, Contents: map[string][]byte{},
	}
	for i, s := range slots {
		out.Items[i] = Item{
			Path:    s.Path,
			Role:    Artifact,
			Why:     "a slot of a device",
			Size:    s.Size,
			ModTime: s.At,
			Against: s.Against,
			Digests: digest.Only(s.Algorithm),
		}
	}
	return out
}
