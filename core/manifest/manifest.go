// Package manifest reads checksum manifests into one model, whatever their
// format. A damaged line becomes a [Problem] that names it and never hides the
// good lines around it.
//
// The package touches no files: names in a manifest are text, and [SafeName]
// says which of them may be looked up below a folder.
package manifest

import (
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strconv"

	"endeixis/core/digest"
)

// A Format tells how an entry was written.
type Format string

// The formats that are read.
const (
	// DigestFirst is a digest, a mode mark and a name: "9f86…  gauge.bin".
	DigestFirst Format = "digest-first"
	// Tagged is an algorithm, a name in parentheses and a digest:
	// "SHA256 (gauge.bin) = 9f86…".
	Tagged Format = "tagged"
	// NameFirst is a name, a separator and a digest: "gauge.bin: 9F86…".
	NameFirst Format = "name-first"
	// Bare is one digest and nothing else.
	Bare Format = "bare-digest"
	// Sections are lines under a heading that names the algorithm, with
	// digest, size and name in any order.
	Sections Format = "sections"
	// Control is a text of fields of which some list files, such as the description of
	// a source package or the index of a release.
	Control Format = "control"
	// Table has a header row and a column for each algorithm.
	Table Format = "table"
	// Metalink is Metalink 4 (RFC 5854).
	Metalink Format = "metalink-4"
	// SPDX is a software bill of materials with file checksums, in JSON or
	// tag-value form.
	SPDX Format = "spdx"
	// CycloneDX is another, in JSON.
	CycloneDX Format = "cyclonedx"
	// Encoded are base64 and URI forms: W3C subresource integrity, RFC 9530
	// digest fields, RFC 6920 names.
	Encoded Format = "encoded"
	// Records are blocks of rows about one file each: its name, its size, its digests.
	Records Format = "records"
	// Document is a structured document, such as JSON or XML, of no format that is
	// known by name.
	Document Format = "document"
	// FreeText are digests found in prose. Treat them with doubt.
	FreeText Format = "free-text"
	// Mixed is a manifest with lines of more than one format.
	Mixed Format = "mixed"
	// None is a text in which no entry was found.
	None Format = "none"
)

// Formats lists every format.
func Formats() []Format {
	return []Format{
		DigestFirst, Tagged, NameFirst, Bare, Sections, Control, Table, Metalink, SPDX, CycloneDX, Encoded, Records,
		Document, FreeText, Mixed, None,
	}
}

// A formatCode is a Format in one byte: its place in [Formats].
type formatCode uint8

var formats = Formats()

func (c formatCode) name() Format { return formats[c] }

func codeOf(f Format) formatCode { return formatCode(max(0, slices.Index(formats, f))) }

// An Entry is one statement: this name has this digest. A list can have millions of them,
// so that what follows from the rest is not kept but worked out.
type Entry struct {
	// Name is the file name after escapes were undone, otherwise as written.
	// It is empty for a bare digest.
	Name string
	// Digest is the expected value.
	Digest digest.Value
	// Size is the length in bytes, or nil.
	Size *int64
	// Pieces are digests of consecutive parts of the file, or nil.
	Pieces *Pieces
	// Line says where the entry stands, from 1.
	Line int

	// Question says why the value may be of something else than the file, where it was
	// given on purpose all the same ([Options.Given]), or is empty.
	Question string

	span   Span
	column int32
	// Algorithm is what the text states, or [digest.Unknown].
	Algorithm digest.Algorithm
	// Guessed are the parts that the text does not state: their look alone says what they
	// are. A guess never speaks for a file or against it.
	Guessed Parts
	format  formatCode
	// within is set where more words stand with the name, as if of another file of its kind:
	// “gauge.img (debug symbols)”.
	within bool
}

// Parts are parts of an entry.
type Parts uint8

// The parts of an entry that can be guessed.
const (
	// DigestPart is a value that nothing calls a digest, of a length that many things have.
	DigestPart Parts = 1 << iota
	// SizePart is a number that nothing calls a size.
	SizePart
)

// Has reports whether p holds all parts of q.
func (p Parts) Has(q Parts) bool { return p&q == q }

// Names returns the parts by name, or nil for none.
func (p Parts) Names() []string {
	var out []string
	for part, name := range map[Parts]string{DigestPart: "digest", SizePart: "size"} {
		if p.Has(part) {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}

// take gives an entry its size.
func (e *Entry) take(s *size) {
	e.Guessed &^= SizePart
	if s == nil {
		e.Size = nil
		return
	}
	n := s.bytes
	e.Size = &n
	if !s.stated {
		e.Guessed |= SizePart
	}
}

// Candidates are the algorithms that the digest can be of, likeliest first: exactly
// Algorithm when that is known. The caller must not change the slice.
func (e Entry) Candidates() []digest.Algorithm {
	if e.Algorithm != digest.Unknown {
		return digest.Only(e.Algorithm)
	}
	return digest.OfSize(len(e.Digest))
}

// Recognised says what the digest is taken for, for people: "SHA-512, by its length",
// "SHA-256 or another of its length", or "SHA-256, as it says".
func (e Entry) Recognised() string {
	candidates := e.Candidates()
	switch {
	case e.Algorithm != digest.Unknown:
		return e.Algorithm.String() + ", as it says"
	case len(candidates) == 1:
		return candidates[0].String() + ", by its length"
	case len(candidates) == 0:
		return "of no algorithm that is known here"
	}
	return candidates[0].String() + " or another of its length"
}

// Column says where in its line the entry starts, in bytes from 1.
func (e Entry) Column() int { return int(e.column) }

// Format is how this entry was written.
func (e Entry) Format() Format { return e.format.name() }

// at notes where an entry stands.
func (e *Entry) at(line, column int) {
	e.Line, e.column = line, int32(max(1, min(column, math.MaxInt32)))
}

// entryJSON is an Entry as it is written.
type entryJSON struct {
	Name       string             `json:"name"`
	Algorithm  digest.Algorithm   `json:"algorithm"`
	Candidates []digest.Algorithm `json:"candidates"`
	Digest     digest.Value       `json:"digest"`
	Size       *int64             `json:"size"`
	Line       int                `json:"line"`
	Column     int                `json:"column"`
	Format     Format             `json:"format"`
	Guessed    []string           `json:"guessed,omitempty"`
	Question   string             `json:"question,omitempty"`
	Span       Span               `json:"span,omitzero"`
	Pieces     *Pieces            `json:"pieces,omitempty"`
}

// MarshalJSON writes an entry with what follows from it: what encoding/json makes of an
// entryJSON, member by member, for a list can have millions.
func (e Entry) MarshalJSON() ([]byte, error) {
	name, err := json.Marshal(e.Name)
	if err != nil {
		return nil, err
	}
	b := make([]byte, 0, len(name)+2*len(e.Digest)+256)
	b = append(append(b, `{"name":`...), name...)
	b = append(b, `,"algorithm":`...)
	if e.Algorithm == digest.Unknown {
		b = append(b, "null"...)
	} else {
		b = strconv.AppendQuote(b, e.Algorithm.String())
	}
	b = append(b, `,"candidates":[`...)
	for i, c := range e.Candidates() {
		if i > 0 {
			b = append(b, ',')
		}
		b = strconv.AppendQuote(b, c.String())
	}
	b = append(b, `],"digest":"`...)
	b = hex.AppendEncode(b, e.Digest)
	b = append(b, `","size":`...)
	if e.Size == nil {
		b = append(b, "null"...)
	} else {
		b = strconv.AppendInt(b, *e.Size, 10)
	}
	b = strconv.AppendInt(append(b, `,"line":`...), int64(e.Line), 10)
	b = strconv.AppendInt(append(b, `,"column":`...), int64(e.column), 10)
	b = strconv.AppendQuote(append(b, `,"format":`...), string(e.Format()))
	for _, part := range []struct {
		name  string
		value any
		there bool
	}{{"guessed", e.Guessed.Names(), e.Guessed != 0}, {"question", e.Question, e.Question != ""}, {"span", e.span, e.span != Span{}}} {
		if !part.there {
			continue
		}
		text, err := json.Marshal(part.value)
		if err != nil {
			return nil, err
		}
		b = append(append(b, `,"`+part.name+`":`...), text...)
	}
	if e.Pieces != nil {
		pieces, err := json.Marshal(e.Pieces)
		if err != nil {
			return nil, err
		}
		b = append(append(b, `,"pieces":`...), pieces...)
	}
	return append(b, '}'), nil
}

// UnmarshalJSON reads what MarshalJSON writes.
func (e *Entry) UnmarshalJSON(b []byte) error {
	var in entryJSON
	if err := json.Unmarshal(b, &in); err != nil {
		return err
	}
	*e = Entry{
		Name: in.Name, Digest: in.Digest, Size: in.Size, Pieces: in.Pieces, Algorithm: in.Algorithm,
		Question: in.Question, span: in.Span, format: codeOf(in.Format),
	}
	for _, name := range in.Guessed {
		switch name {
		case "digest":
			e.Guessed |= DigestPart
		case "size":
			e.Guessed |= SizePart
		}
	}
	e.at(in.Line, in.Column)
	return nil
}

// Pieces are digests of consecutive parts of a file (RFC 5854, section 4.2.9).
type Pieces struct {
	Algorithm digest.Algorithm `json:"algorithm"`
	// Length is that of every part but the last, in bytes.
	Length  int64          `json:"length"`
	Digests []digest.Value `json:"digests"`
}

// A Signature is one that a Metalink file holds of a file (RFC 5854, section
// 4.2.13).
type Signature struct {
	// Name is the file that it is over, as written.
	Name string `json:"name"`
	// Text is the signature with its armor.
	Text string `json:"text"`
	Line int    `json:"line"`
}

// A ProblemCode is a stable name for a kind of problem.
type ProblemCode string

// The problem codes.
const (
	// NotAnEntry is a line that is neither an entry nor a comment.
	NotAnEntry ProblemCode = "not-an-entry"
	// BadDigest is a line in the shape of an entry whose digest has a wrong
	// length or wrong characters.
	BadDigest ProblemCode = "bad-digest"
	// BadEscape is a name with an escape that means nothing.
	BadEscape ProblemCode = "bad-escape"
	// UnknownLabel is a tagged line with an algorithm we do not know.
	UnknownLabel ProblemCode = "unknown-algorithm"
	// UnsafeName is a name that leads out of the folder or to a device.
	UnsafeName ProblemCode = "unsafe-name"
	// LineTooLong is a line over the limit; the rest of it was passed over.
	LineTooLong ProblemCode = "line-too-long"
	// NoName is a digest without a file name among others.
	NoName ProblemCode = "no-name"
	// BadDocument is XML or JSON that ends early or is damaged.
	BadDocument ProblemCode = "bad-document"
	// BadEncoding is text in no encoding that we can read.
	BadEncoding ProblemCode = "bad-encoding"
	// SignedText is an OpenPGP cleartext frame. Nothing in it is taken for
	// an entry unless its signature has been verified first.
	SignedText ProblemCode = "signed-text"
	// OutsideText is text before or behind the frame of a signed text.
	OutsideText ProblemCode = "outside-text"
)

// ProblemCodes lists every kind of problem.
func ProblemCodes() []ProblemCode {
	return []ProblemCode{
		NotAnEntry,
		BadDigest,
		BadEscape,
		UnknownLabel,
		UnsafeName,
		LineTooLong,
		NoName,
		BadDocument,
		BadEncoding,
		SignedText,
		OutsideText,
	}
}

// A Problem is something in the manifest that could not be used.
type Problem struct {
	Line    int         `json:"line"`
	Code    ProblemCode `json:"code"`
	Message string      `json:"message"`
	// Span is the place of the line, once [Manifest.Locate] was called.
	Span Span `json:"span,omitzero"`
}

// String returns the message with its line, for people.
func (p Problem) String() string { return fmt.Sprintf("line %d: %s", p.Line, p.Message) }

// A Manifest is everything that was understood of one text, and everything
// that was not.
type Manifest struct {
	Format  Format  `json:"format"`
	Entries Entries `json:"entries"`
	// Signatures are those that a Metalink file holds of the files it lists.
	Signatures []Signature `json:"signatures,omitempty"`
	// Problems are kept up to the limit of Options.MaxProblems.
	Problems []Problem `json:"problems"`
	// MoreProblems counts those beyond the limit.
	MoreProblems int `json:"more_problems,omitempty"`
	// LeftAside are the parts of the text in the form of digests that are in no entry
	// and no problem, up to the limit of Options.MaxAsides.
	LeftAside []Aside `json:"left_aside"`
	// MoreLeftAside counts those beyond the limit.
	MoreLeftAside int `json:"more_left_aside,omitempty"`
	// Disagreements are where the list says two things of one file; only where the manifest
	// was read to be shown.
	Disagreements []Contradiction `json:"contradictions,omitempty"`
	// Lines counts the lines that hold something: no blanks, no comments.
	Lines int `json:"-"`
}

// Options bound the reading and add what is known from outside the text.
// The zero value means the defaults.
type Options struct {
	// MaxBytes bounds the whole text. Default 64 MiB.
	MaxBytes int64
	// MaxLine bounds one line in bytes. Default 64 KiB.
	MaxLine int
	// MaxEntries bounds the entries. Default 2 million.
	MaxEntries int
	// MaxProblems bounds the problems that are kept. Default 100.
	MaxProblems int
	// MaxAsides bounds the parts left aside that are kept. Default 100.
	MaxAsides int
	// Given is set for a text that somebody handed over on purpose: each value in it that
	// nothing ties to a name is an entry without one, with a Question where its label says
	// that it is of something else.
	Given bool
	// Beside are the names of the files that the text lies beside, or nil. A name of
	// them in the text is found, not guessed.
	Beside *Names
	// FileName is the manifest's own name. A name such as "SHA512SUMS" or
	// "gauge.bin.md5" settles which algorithm an unlabelled digest is of.
	FileName string

	// window is how many rows are laid out together, for tests.
	window int
}

func (o Options) withDefaults() Options {
	if o.MaxBytes == 0 {
		o.MaxBytes = 64 << 20
	}
	if o.MaxLine == 0 {
		o.MaxLine = 64 << 10
	}
	if o.MaxEntries == 0 {
		o.MaxEntries = 2_000_000
	}
	if o.MaxProblems == 0 {
		o.MaxProblems = 100
	}
	if o.MaxAsides == 0 {
		o.MaxAsides = 100
	}
	if o.window == 0 {
		o.window = window
	}
	return o
}

// A LimitError reports a text that exceeds a bound. What was read before it is
// still returned.
type LimitError struct {
	// What was exceeded: "bytes" or "entries".
	What string
	// Limit is the bound in force.
	Limit int64
	// Line is where reading stopped.
	Line int
}

// Error says which bound it was and what to do.
func (e *LimitError) Error() string {
	return fmt.Sprintf(
		"manifest has more than %d %s (reading stopped at line %d); split it, or raise the limit if you trust its source",
		e.Limit,
		e.What,
		e.Line,
	)
}

// ValueEntry is the entry of a value that names no file, in a line.
func ValueEntry(a digest.Algorithm, v digest.Value, line int) Entry {
	e := entryOf("", v, digest.Only(a), Bare)
	e.at(line, 1)
	return e
}
