package publishers

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"endeixis/core/digest"
	"endeixis/core/keyring"
	"endeixis/core/plain"
	"endeixis/internal/fault"
	"endeixis/internal/recorded"
	"endeixis/internal/records"
	"endeixis/internal/store"
)

// A NewNote says which digests somebody has read, and where.
type NewNote struct {
	Publisher string
	Channel   keyring.Channel
	// Place is where exactly.
	Place string
	Note  string
	Files []NotedFile
}

// A NotedFile is a file with a digest that was read.
type NotedFile struct {
	Name   string
	Digest digest.Value
	// Algorithm is what was stated, or [digest.Unknown].
	Algorithm digest.Algorithm
	Size      *int64
}

// Bounds of a note.
const (
	MaxNotedFiles = 1000
	maxPlace      = 2000
	maxFileName   = 4096
)

// NoteReferences puts on record that digests of a publisher's files were read somewhere, each in a record, and
// returns the position of the first. They clear nothing.
func (s *Service) NoteReferences(ctx context.Context, by string, n NewNote) (int64, error) {
	if _, err := s.Publisher(ctx, n.Publisher); err != nil {
		return 0, err
	}
	if err := n.check(); err != nil {
		return 0, err
	}
	entries := make([]records.Entry, len(n.Files))
	for i, f := range n.Files {
		body := recorded.ReferenceNoted{
			Publisher: n.Publisher, Name: f.Name, Digest: f.Digest, Size: f.Size, Channel: n.Channel, Place: n.Place,
			Note: n.Note,
		}
		if f.Algorithm != digest.Unknown {
			body.Algorithm = f.Algorithm.String()
		}
		entries[i] = records.Entry{By: by, Subject: f.Name, Body: body}
	}
	var first int64
	err := s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) (err error) {
		first, err = s.records.Append(ctx, tx, entries...)
		return err
	})
	return first, err
}

func (n *NewNote) check() error {
	if !slices.Contains(keyring.Channels(), n.Channel) {
		return fault.New(fault.Invalid, fault.BadChannel, "There is no channel %s.", plain.Quoted(string(n.Channel))).
			At("channel")
	}
	if strings.TrimSpace(n.Place) == "" || len(n.Place)+len(n.Note) > maxPlace || strings.ContainsRune(n.Place+n.Note, 0) {
		return fault.New(
			fault.Invalid, fault.PlaceMissing, "A note says where exactly the digest was read, in at most %d characters.",
			maxPlace,
		).
			Advise("For example the letter and its date, or the page's address.").
			At("place")
	}
	if len(n.Files) == 0 || len(n.Files) > MaxNotedFiles {
		return fault.New(
			fault.Invalid, fault.BadDigest, "A note has from 1 to %d digests, and this one has %d.", MaxNotedFiles, len(n.Files),
		).
			At("files")
	}
	for i, f := range n.Files {
		at := fmt.Sprintf("files[%d]", i)
		if strings.TrimSpace(f.Name) == "" || len(f.Name) > maxFileName || strings.ContainsRune(f.Name, 0) ||
			strings.ToValidUTF8(f.Name, "") != f.Name {
			return fault.New(fault.Invalid, fault.BadName, "A digest is noted with the name of its file.").At(at + ".name")
		}
		if len(f.Digest) < digest.MD5.Size() || digest.OfSize(len(f.Digest)) == nil ||
			f.Algorithm != digest.Unknown && f.Algorithm.Size() != len(f.Digest) {
			return fault.New(
				fault.Invalid, fault.BadDigest, "The value for %s is no digest by which a file can be known.", plain.Quoted(f.Name),
			).
				Advise("Give the whole of it, as it was read.").
				At(at + ".digest")
		}
	}
	return nil
}
