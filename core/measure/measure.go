// Package measure computes, from one pass over a file's bytes, everything that
// a survey asks of it: each digest any manifest needs, and each hash that a
// signature over it needs.
package measure

import (
	"context"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"time"

	"endeixis/core/diagnose"
	"endeixis/core/digest"
	"endeixis/core/openpgp"
	"endeixis/core/plain"
	"endeixis/core/survey"
)

// ChangedWhileReading is the code of a file whose size or times moved between
// open and close.
const ChangedWhileReading survey.ProblemCode = "changed-while-reading"

// A SignatureHash is the finished hash for one signature over the item: its
// bytes, then the signature's trailer.
type SignatureHash struct {
	File   string       `json:"file"`
	Index  int          `json:"index"`
	Digest digest.Value `json:"digest"`
}

// A Measurement is what was computed from one item's bytes.
type Measurement struct {
	// Size is the number of bytes read.
	Size            int64                             `json:"size"`
	Digests         map[digest.Algorithm]digest.Value `json:"digests,omitempty"`
	SignatureHashes []SignatureHash                   `json:"signature_hashes,omitempty"`
	// Unexpanded says why the uncompressed form could not be read, where a
	// signature is over that.
	Unexpanded string `json:"unexpanded,omitempty"`
	// CollisionSuspected is set when SHA-1 was computed and the bytes show
	// the marks of a collision attack.
	CollisionSuspected bool `json:"collision_suspected,omitempty"`
	// Diagnoses explain why the item does not match an entry. They come from
	// a second read, after a mismatch only.
	Diagnoses []diagnose.Diagnosis `json:"diagnoses,omitempty"`
	// Problem is set when the item could not be measured.
	Problem *survey.Problem `json:"problem,omitempty"`
	// Where and By say which program on which host read the bytes, and for
	// whom.
	Where string    `json:"where"`
	By    string    `json:"by"`
	At    time.Time `json:"at"`
}

// A Witness signs measurements with where they were made, for whom and when.
type Witness struct {
	Where string
	By    string
	At    time.Time
}

// Open opens the item's file in fsys and measures it. The file is read once,
// from its start to its end. An error is returned only when ctx ends; trouble
// with the file becomes the measurement's Problem.
func Open(ctx context.Context, fsys fs.FS, item *survey.Item, w Witness, progress func(total int64)) (Measurement, error) {
	m := Measurement{Where: w.Where, By: w.By, At: w.At}
	if item.Problem != nil && !readsAnyway(item.Problem.Code) {
		m.Problem = item.Problem
		return m, nil
	}
	f, err := fsys.Open(item.Path)
	if err != nil {
		m.Problem = unreadable(err)
		return m, nil
	}
	defer f.Close()
	before, err := f.Stat()
	if err == nil && !before.Mode().IsRegular() {
		err = errors.New("it is no longer a regular file")
	}
	if err != nil {
		m.Problem = unreadable(err)
		return m, nil
	}
	if err := m.read(ctx, f, item, progress); err != nil {
		return m, err
	}
	if m.Problem != nil {
		return m, nil
	}
	after, err := f.Stat()
	if err != nil {
		m.Problem = unreadable(err)
		return m, nil
	}
	if m.Size != before.Size() || after.Size() != before.Size() || !after.ModTime().Equal(before.ModTime()) {
		m.Problem = &survey.Problem{Code: ChangedWhileReading, Message: fmt.Sprintf("it was %d bytes when opened, %d were read, and it was %d bytes at the end: something writes to it", before.Size(), m.Size, after.Size())}
	}
	return m, nil
}

// readsAnyway tells problems of understanding from problems of reading: a
// signature that does not parse, or a manifest too long to be read as one, is
// still a file with a digest.
func readsAnyway(code survey.ProblemCode) bool {
	return code == survey.Malformed || code == survey.TooLarge
}

// Bytes measures content that the survey has read already.
func Bytes(ctx context.Context, content io.Reader, item *survey.Item, w Witness) (Measurement, error) {
	m := Measurement{Where: w.Where, By: w.By, At: w.At}
	return m, m.read(ctx, content, item, nil)
}

// read streams r into one hash for each algorithm. A signature's hash is the
// same function over the same bytes as a digest, up to the trailer; where both
// are wanted, the state is copied at the end instead of hashing twice.
func (m *Measurement) read(ctx context.Context, r io.Reader, item *survey.Item, progress func(int64)) error {
	set := digest.NewSet(item.Digests)
	writers := set.Writers()
	var own []signed
	var expansion *expander
	for _, over := range item.Signatures {
		if over.Problem != nil {
			continue
		}
		sig, err := openpgp.ParseSignature(over.Raw)
		if err != nil {
			continue // the survey parsed it; judge will say what is wrong
		}
		s := signed{over: over, sig: sig}
		if over.Uncompressed != "" {
			if h, err := sig.NewHash(); err == nil {
				s.hash = h
				if expansion == nil {
					expansion = newExpander(ctx, over.Uncompressed)
					writers = append(writers, expansion)
				}
				expansion.add(h)
				own = append(own, s)
			}
			continue
		}
		if a, err := digest.Parse(sig.Hash.String()); err == nil {
			s.shared = set.Cloner(a)
		}
		if s.shared == nil {
			h, err := sig.NewHash()
			if err != nil {
				continue
			}
			s.hash = h
			writers = append(writers, h)
		} else if sig.Unsupported() != nil {
			continue
		}
		own = append(own, s)
	}
	if expansion != nil {
		expansion.start()
	}
	size, err := digest.Pump(ctx, r, writers, progress)
	m.Size = size
	if expansion != nil {
		if expandErr := expansion.finish(); expandErr != nil && ctx.Err() == nil {
			m.Unexpanded = plain.Text(expandErr.Error())
		}
	}
	if err != nil {
		if ctx.Err() != nil {
			return err
		}
		m.Problem = unreadable(err)
		return nil
	}
	m.Digests = set.Sums()
	m.CollisionSuspected = set.CollisionSuspected()
	for _, s := range own {
		if s.over.Uncompressed != "" && m.Unexpanded != "" {
			continue // its hash is of a part only
		}
		sum, err := s.sum()
		if err != nil {
			return err
		}
		m.SignatureHashes = append(m.SignatureHashes, SignatureHash{File: s.over.File, Index: s.over.Index, Digest: sum})
	}
	return nil
}

// signed is a signature waiting for its hash, its own or one shared with a
// digest.
type signed struct {
	over   survey.SignatureOver
	sig    *openpgp.Signature
	hash   hash.Hash
	shared hash.Cloner
}

func (s signed) sum() (digest.Value, error) {
	h := s.hash
	if s.shared != nil {
		clone, err := s.shared.Clone()
		if err != nil {
			return nil, fmt.Errorf("copying the state of a hash: %w", err)
		}
		h = clone
	}
	h.Write(s.sig.Trailer())
	return h.Sum(nil), nil
}

func unreadable(err error) *survey.Problem {
	message := err.Error()
	var pathErr *fs.PathError
	switch {
	case errors.Is(err, fs.ErrPermission):
		message = "the permissions do not allow reading it"
	case errors.Is(err, fs.ErrNotExist):
		message = "it was there when the folder was surveyed, and is no longer"
	case errors.As(err, &pathErr):
		message = pathErr.Err.Error()
	}
	return &survey.Problem{Code: survey.Unreadable, Message: plain.Text(message)}
}

// HashOf returns the measured hash for one signature, or nil.
func (m *Measurement) HashOf(file string, index int) digest.Value {
	for _, h := range m.SignatureHashes {
		if h.File == file && h.Index == index {
			return h.Digest
		}
	}
	return nil
}

// LookElsewhere keeps with the measurement of a file that nothing lists that
// its bytes are those of another entry, if they are. Nothing is read.
func (m *Measurement) LookElsewhere(item *survey.Item, known map[string]diagnose.Elsewhere) {
	if found := diagnose.UnderAnotherName(item.Path, m.Digests, known); found != nil {
		m.Diagnoses = append(m.Diagnoses, diagnose.Diagnosis{Findings: []diagnose.Finding{*found}})
	}
}

// Explain diagnoses why the item does not match an entry, and keeps the result
// with the measurement. r is the file from its beginning; it is read once. A
// file that cannot be read again is left unexplained.
func (m *Measurement) Explain(ctx context.Context, r io.Reader, item *survey.Item, entry *survey.Listing, known map[string]diagnose.Elsewhere) error {
	found, err := diagnose.Run(ctx, r, diagnose.Case{
		Name: item.Path, Size: m.Size, Computed: m.Digests, Expected: entry.Digest, Algorithms: entry.Algorithms,
		ExpectedSize: entry.Size, Pieces: entry.Pieces, Known: known,
	})
	if err != nil {
		if ctx.Err() != nil {
			return err
		}
		return nil
	}
	m.Diagnoses = append(m.Diagnoses, diagnose.Diagnosis{Manifest: entry.Manifest, Line: entry.Line, Expected: entry.Digest, Findings: found})
	return nil
}
