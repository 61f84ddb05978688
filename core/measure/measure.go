// Package measure computes, from one pass over a file's bytes, everything that
// a survey asks of it: each digest any manifest needs, and each hash that a
// signature over it needs.
package measure

import (
	"context"
	"errors"
	"fmt"
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
	// NotText is set for a signature over text when the bytes are no text.
	NotText bool `json:"not_text,omitempty"`
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

// Open opens the file at path in fsys and measures items: the file's own, and
// those inside it. The file is read once, from its start to its end. Every item
// gets a measurement, by path. An error is returned only when ctx ends; trouble
// with the file becomes the measurements' Problem.
func Open(ctx context.Context, fsys fs.FS, path string, items []*survey.Item, w Witness, progress func(total int64)) (map[string]Measurement, error) {
	return open(ctx, fsys, path, items, w, progress, nil)
}

func open(ctx context.Context, fsys fs.FS, path string, items []*survey.Item, w Witness, progress func(total int64), streams *digest.Streams) (map[string]Measurement, error) {
	template := Measurement{Where: w.Where, By: w.By, At: w.At}
	out := make(map[string]Measurement, len(items))
	all := func(p *survey.Problem) map[string]Measurement {
		for _, item := range items {
			m, ok := out[item.Path]
			if !ok {
				m = template
			}
			m.Problem = p
			out[item.Path] = m
		}
		return out
	}
	var own *survey.Item
	for _, item := range items {
		if item.Path == path {
			own = item
		}
	}
	if own != nil && own.Problem != nil && !readsAnyway(own.Problem.Code) {
		return all(own.Problem), nil
	}
	f, err := fsys.Open(path)
	if err != nil {
		return all(unreadable(err)), nil
	}
	defer f.Close()
	before, err := f.Stat()
	if err == nil && !before.Mode().IsRegular() {
		err = errors.New("it is no longer a regular file")
	}
	if err != nil {
		return all(unreadable(err)), nil
	}
	top := nestOf(path, items)
	top.streams = streams
	size, problem, err := read(ctx, f, top, template, progress, out)
	if err != nil {
		return out, err
	}
	if problem != nil {
		return all(problem), nil
	}
	after, err := f.Stat()
	if err != nil {
		return all(unreadable(err)), nil
	}
	if size != before.Size() || after.Size() != before.Size() || !after.ModTime().Equal(before.ModTime()) {
		return all(&survey.Problem{Code: ChangedWhileReading, Message: fmt.Sprintf("it was %d bytes when opened, %d were read, and it was %d bytes at the end: something writes to it", before.Size(), size, after.Size())}), nil
	}
	for _, item := range items {
		m, ok := out[item.Path]
		switch {
		case !ok:
			m = template
			m.Problem = &survey.Problem{Code: survey.Unreadable, Message: "what holds it was measured without it"}
		case item.Inside != nil && own != nil && (own.Size != before.Size() || !own.ModTime.Equal(before.ModTime())):
			m.Problem = &survey.Problem{Code: ChangedWhileReading, Message: "the file that holds it has changed since it was looked into"}
		}
		out[item.Path] = m
	}
	return out, nil
}

// readsAnyway tells problems of understanding from problems of reading: a
// signature that does not parse, or a manifest too long to be read as one, is
// still a file with a digest.
func readsAnyway(code survey.ProblemCode) bool {
	return code == survey.Malformed || code == survey.TooLarge
}

// Bytes measures content that the survey has read already.
func Bytes(ctx context.Context, content io.Reader, item *survey.Item, w Witness) (Measurement, error) {
	out := map[string]Measurement{}
	_, problem, err := read(ctx, content, &nest{item: item}, Measurement{Where: w.Where, By: w.By, At: w.At}, nil, out)
	m := out[item.Path]
	m.Problem = problem
	return m, err
}

// read streams r into everything that the nest needs, and puts measurements
// into out.
func read(ctx context.Context, r io.Reader, n *nest, template Measurement, progress func(int64), out map[string]Measurement) (int64, *survey.Problem, error) {
	size, err := digest.Pump(ctx, r, n.writers(ctx), progress)
	defer n.set.Close()
	expandErr := n.finish()
	if ctx.Err() != nil {
		n.finishAll()
		return size, nil, context.Cause(ctx)
	}
	m := template
	m.Size = size
	if expandErr != nil {
		m.Unexpanded = plain.Text(expandErr.Error())
	}
	if err != nil {
		n.finishAll()
		if n.item != nil {
			out[n.item.Path] = m
		}
		return size, unreadable(err), nil
	}
	if err := n.conclude(&m); err != nil {
		return size, nil, err
	}
	if n.item != nil {
		out[n.item.Path] = m
	}
	return size, nil, n.collect(ctx, template, nil, expandErr, out)
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

// HashOf returns the measured hash for one signature, or an empty document.
func (m *Measurement) HashOf(file string, index int) openpgp.Document {
	for _, h := range m.SignatureHashes {
		if h.File == file && h.Index == index {
			return openpgp.Document{Digest: h.Digest, NotText: h.NotText}
		}
	}
	return openpgp.Document{}
}
