package measurer

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"endeixis/core/container"
	"endeixis/core/digest"
	"endeixis/core/measure"
	"endeixis/core/plain"
	"endeixis/core/readback"
	"endeixis/core/survey"
	"endeixis/internal/wire"
)

// A Medium is what was written to, opened for reading and nothing else: a device node, a
// dump, a disc image. Close it after use.
type Medium struct {
	io.ReaderAt
	Info  readback.Medium
	Cache readback.Cache
	// Carried says what a file of addresses and bytes carries, or why that cannot be told,
	// and Parts are what it carries.
	Carried string
	Parts   []readback.Part
	// block is the size of the blocks in which it is read, or 0 where nothing says.
	block int64
	close func() error
}

// Close lets go of the medium.
func (m *Medium) Close() error { return m.close() }

// BlockSize implements [readback.Blocked].
func (m *Medium) BlockSize() int64 { return m.block }

// A MediumError says why a medium cannot be read, and what to do.
type MediumError struct {
	Path   string
	Reason string
	Advice string
	Err    error
}

// Error says it in words.
func (e *MediumError) Error() string {
	text := fmt.Sprintf("%s %s", plain.Quoted(e.Path), e.Reason)
	if e.Advice != "" {
		text += ". " + e.Advice
	}
	return text
}

// Unwrap returns what the system said.
func (e *MediumError) Unwrap() error { return e.Err }

// A readerAtCloser is what a medium is read through.
type readerAtCloser interface {
	io.ReaderAt
	io.Closer
}

// OpenMedium opens a medium past the system's memory of it, where that can be, and finds
// out what it is. It fails with a [*MediumError].
func OpenMedium(path string) (*Medium, error) {
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, &MediumError{path, "is not there", "Is the medium in, and is that its name?", err}
	case err != nil:
		return nil, &MediumError{path, "cannot be looked at", err.Error(), err}
	case info.IsDir():
		return nil, &MediumError{
			path, "is a folder",
			"A readback reads the medium itself: give its device node, such as /dev/sr0 or /dev/sdb, or a dump of it.",
			nil,
		}
	case !info.Mode().IsRegular() && (info.Mode()&fs.ModeDevice == 0 || info.Mode()&fs.ModeCharDevice != 0):
		return nil, &MediumError{
			path, "is no medium: it cannot be read from any place", "Give a block device or a file.", nil,
		}
	}
	f, cache, block, err := openPast(path)
	switch {
	case errors.Is(err, fs.ErrPermission):
		return nil, &MediumError{
			path,
			"may not be read by you",
			"Reading takes the right to read and nothing more: join the group that the device belongs to, often “disk” or “cdrom”, or run this one command with the rights of the administrator.",
			err,
		}
	case err != nil:
		return nil, &MediumError{path, "cannot be opened", err.Error(), err}
	}
	size, err := f.Seek(0, io.SeekEnd)
	if err != nil || size == 0 {
		f.Close()
		return nil, &MediumError{path, "has nothing on it to read", "Is the medium in?", err}
	}
	m := &Medium{ReaderAt: f, Cache: cache, Info: readback.Medium{Name: path, Size: size}, block: block, close: f.Close}
	if cache == readback.Avoided {
		direct := newPast(f, size, block)
		m.ReaderAt, m.close = direct, direct.Close
	}
	if info.Mode().IsRegular() {
		if err := m.expand(); err != nil {
			m.Close()
			return nil, err
		}
	} else {
		m.Info.Model, m.Info.Serial = identity(path)
	}
	return m, nil
}

// From has only a part of a medium be looked at, from an offset on; a length of 0 is all
// that follows.
func (m *Medium) From(offset, length int64) error {
	if offset < 0 || length < 0 || offset+length > m.Info.Size || offset >= m.Info.Size {
		return &MediumError{
			m.Info.Name, fmt.Sprintf("has %d bytes, and no part of %d from %d on", m.Info.Size, length, offset), "",
			nil,
		}
	}
	if length == 0 {
		length = m.Info.Size - offset
	}
	m.Info.From += offset
	m.ReaderAt, m.Info.Size, m.Parts, m.Carried = io.NewSectionReader(m.ReaderAt, offset, length), length, nil, ""
	if offset%max(m.block, 1) != 0 {
		m.block = 0 // its blocks are not the medium's
	}
	return nil
}

// Partition has only a partition be looked at, by its number in the table, from 1.
func (m *Medium) Partition(n int) error {
	parts := readback.Partitions(m)
	if n < 1 || n > len(parts) || parts[n-1].Length == 0 {
		var there []string
		for i, p := range parts {
			if p.Length > 0 {
				there = append(there, fmt.Sprintf("%d (%d bytes from %d on)", i+1, p.Length, p.Offset))
			}
		}
		if there == nil {
			return &MediumError{m.Info.Name, "has no partitions", "", nil}
		}
		return &MediumError{
			m.Info.Name, fmt.Sprintf("has no partition %d", n), "There are " + strings.Join(there, ", ") + ".", nil,
		}
	}
	return m.From(parts[n-1].Offset, parts[n-1].Length)
}

// expand finds out what a file carries that gives bytes for addresses. It stays a file, too.
func (m *Medium) expand() error {
	beginning := make([]byte, 64)
	n, _ := m.ReadAt(beginning, 0)
	if !readback.Carries(beginning[:n]) || m.Info.Size > readback.MaxCarrier {
		return nil
	}
	file := make([]byte, m.Info.Size)
	if n, err := m.ReadAt(file, 0); err != nil && n < len(file) {
		return &MediumError{m.Info.Name, "cannot be read", err.Error(), err}
	}
	c, _, err := readback.Expand(file)
	if err != nil {
		m.Carried = "It gives bytes for addresses and is damaged: " + err.Error() + ". It is compared as it stands."
		return nil
	}
	m.Parts = c.Parts
	m.Carried = fmt.Sprintf("It is %s, which carries %s.", c.Format, partsOf(c.Parts))
	return nil
}

// partsOf says what parts there are, the first few one by one.
func partsOf(parts []readback.Part) string {
	const few = 4
	var said []string
	for i := range parts[:min(len(parts), few)] {
		said = append(said, parts[i].Said())
	}
	if len(parts) > few {
		return fmt.Sprintf("%s, and %d parts more", strings.Join(said, ", "), len(parts)-few)
	}
	return strings.Join(said, ", and ")
}

// FormsOf returns what is in a file that is a wrapping: the uncompressed form, or the parts
// that it carries. It is nil for others, and for what cannot be expanded; why says why.
func FormsOf(ctx context.Context, name string, m *Medium) (forms []survey.Form, why string) {
	_, _, compressed := container.OfName(name)
	var err error
	switch {
	case m.Parts != nil:
		forms, err = survey.FormsCarried(m.Carried, m.Parts)
	case compressed:
		forms, err = survey.FormsOf(ctx, name, bufio.NewReaderSize(io.NewSectionReader(m, 0, m.Info.Size), 1<<20))
	}
	if err != nil {
		return nil, err.Error()
	}
	return forms, ""
}

// A Back is what a medium is read back against, as far as it can be asked where the medium
// is read.
type Back struct {
	Medium *Medium
	// LengthFrom says where the length is from.
	LengthFrom string
	// Original is the image, or nil where it cannot be had, and Carried what it carries, if
	// that is what a medium has.
	Original readback.Original
	Carried  []readback.Part
}

// originalOf returns what a form of the image has, by its number, or nil.
func (b *Back) originalOf(form int) readback.Original {
	switch {
	case form == 0:
		return b.Original
	case form <= len(b.Carried):
		content := b.Carried[form-1].Content
		return File{Image: bytes.NewReader(content), Length: int64(len(content))}
	}
	return nil
}

// ListMedium sends the list of files of a readback: the medium.
func ListMedium(ctx context.Context, to Service, batch int64, m *Medium) error {
	return List(
		ctx, to, batch,
		&survey.Findings{
			Files: []survey.Found{{Path: filepath.Base(m.Info.Name), Size: m.Info.Size, ModTime: time.Now().UTC()}},
		},
	)
}

// ReadBack reads a medium for a batch that is surveyed, finds out what follows the image and
// where the medium differs, and sends it. It returns the report, and nil when the batch
// asks for nothing any more. progress may be nil.
func ReadBack(
	ctx context.Context, service Service, batch wire.Batch, back Back, progress func(total int64),
) (*readback.Report, error) {
	left, err := service.Assignments(ctx, batch.ID)
	if err != nil || len(left) == 0 || batch.Against == nil {
		return nil, err
	}
	reading, err := ReadMedium(
		ctx, back, Sought{batch.Against.Size, batch.Against.Digests, batch.Against.Forms}, left[0].Target.Tasks,
		progress,
	)
	if err != nil {
		return nil, err
	}
	taken, err := service.SendMeasurements(ctx, batch.ID, []wire.Submission{{N: left[0].N, Reading: reading}})
	if err == nil && len(taken.Declined) > 0 {
		err = fmt.Errorf("the service did not use what was read: %s", taken.Declined[0].Reason)
	}
	return reading.Readback, err
}

// Sought is what should be on a medium: an image of a size, with digests in hexadecimal by
// algorithm, or one of the forms of what is in it.
type Sought struct {
	Size   int64
	Wanted map[string]string
	Forms  []survey.Form
}

// candidates returns the lengths and digests that a medium may have; the image itself is the
// first.
func (s *Sought) candidates() []candidate {
	out := []candidate{{size: s.Size, wanted: s.Wanted}}
	for i, f := range s.Forms {
		out = append(
			out,
			candidate{
				form: i + 1, size: f.Size, wanted: map[string]string{digest.SHA256.String(): f.Digest.String()},
				address: f.Address, carried: f.Compression == "",
			},
		)
	}
	return out
}

// A candidate is a form of the image, or the image itself, that a medium may hold.
type candidate struct {
	form    int
	size    int64
	wanted  map[string]string
	address uint64
	carried bool
}

// holds reports whether a reading is of exactly this.
func (c *candidate) holds(r *readback.Beginning) bool {
	if r.Size != c.size {
		return false
	}
	for a, value := range r.Digests {
		if want := c.wanted[a.String()]; want != "" && want == value.String() {
			return true
		}
	}
	return false
}

// A view is a medium as one can look at it: as it stands, or a part of what it carries.
type view struct {
	of      io.ReaderAt
	size    int64
	part    *readback.Part
	reading []readback.Beginning // by candidate
}

// looked reads a view up to the length of each candidate.
func (v *view) looked(ctx context.Context, all []candidate, algorithms []digest.Algorithm, progress func(int64)) error {
	var lengths []int64
	for i := range all {
		lengths = append(lengths, all[i].size)
	}
	slices.Sort(lengths)
	lengths = slices.Compact(lengths)
	readings, err := readback.ReadTo(ctx, v.of, lengths, algorithms, progress)
	if err != nil {
		return err
	}
	for i := range all {
		v.reading = append(v.reading, readings[slices.Index(lengths, all[i].size)])
	}
	return nil
}

// chosen returns which view of a medium is which candidate: the image itself, or the largest
// of what is in it. A smaller part says too little by itself: a medium that is erased begins
// with what options are that nobody has set. Of a medium that carries parts, every one that
// the image has for the same address has to be equal. Where none is, it is the view and the
// candidate that a person would compare.
func chosen(views []view, all []candidate) (at, which int) {
	largest := 0
	for c := 1; c < len(all); c++ {
		if largest == 0 || all[c].size > all[largest].size {
			largest = c
		}
	}
	part, of, differs := differing(views, all)
	for _, c := range []int{0, largest} {
		for i := range views {
			if all[c].holds(&views[i].reading[c]) && (views[i].part == nil || !differs) {
				return i, c
			}
		}
	}
	switch {
	case differs:
		return part, of
	case len(views) > 1:
		return 1, largest
	case views[0].size != all[0].size:
		return 0, largest
	}
	return 0, 0
}

// differing returns a part that a medium carries and what the image has for its address,
// where they differ.
func differing(views []view, all []candidate) (at, which int, ok bool) {
	for i := range views {
		for c := range all {
			if p := views[i].part; p != nil && all[c].carried && all[c].address == p.Base &&
				!all[c].holds(&views[i].reading[c]) {
				return i, c, true
			}
		}
	}
	return 0, 0, false
}

// others counts the parts of the image that a medium was not compared with: it carries nothing
// for their addresses, or is one part as it stands.
func others(views []view, all []candidate, which int) (n int) {
	for c := range all {
		if c == which || !all[c].carried || !all[which].carried {
			continue
		}
		if !slices.ContainsFunc(views, func(v view) bool { return v.part != nil && v.part.Base == all[c].address }) {
			n++
		}
	}
	return n
}

// ReadMedium reads as many bytes of a medium as the image has, or what is in it, and does
// tasks with them. It finds out what follows the image and, where the medium differs, where.
// progress may be nil.
func ReadMedium(
	ctx context.Context, back Back, sought Sought, tasks []measure.Task, progress func(total int64),
) (measure.Reading, error) {
	m := back.Medium
	none := measure.Reading{}
	var algorithms []digest.Algorithm
	for _, task := range tasks {
		algorithms = append(algorithms, task.Algorithm)
	}
	all := sought.candidates()
	views := []view{{of: m, size: m.Info.Size}}
	for i := range m.Parts {
		p := &m.Parts[i]
		views = append(views, view{of: bytes.NewReader(p.Content), size: int64(len(p.Content)), part: p})
	}
	for i := range views {
		if err := views[i].looked(ctx, all, algorithms, progress); err != nil {
			return none, err
		}
	}
	at, which := chosen(views, all)
	v, c := &views[at], &all[which]
	read := v.reading[which]
	report := &readback.Report{
		Medium:     m.Info,
		Length:     c.size,
		LengthFrom: back.LengthFrom,
		Form:       c.form,
		Structures: readback.Recognise(v.of),
		Cache:      m.Cache,
		Carried:    m.Carried,
		Unreadable: read.Unreadable,
		Steadied:   read.Steadied,
	}
	if v.part != nil {
		report.Gaps, report.Medium.Size = v.part.Gaps, v.size
		if len(m.Parts) > 1 {
			report.Carried += fmt.Sprintf(" Compared are the %s.", v.part.Said())
		}
	}
	if n := others(views, all, which); n > 0 {
		report.Carried = strings.TrimSpace(
			fmt.Sprintf(
				"%s Parts of the image that were not compared, as the medium has nothing for their addresses: %d.",
				report.Carried, n,
			),
		)
	}
	if c.form > 0 {
		report.LengthFrom = sought.Forms[c.form-1].Said() + ", of " + back.LengthFrom
	}
	if len(report.Structures) > 0 && report.Medium.Label == "" {
		report.Medium.Label = plain.Text(report.Structures[0].Label)
	}
	var err error
	if report.Tail, err = readback.Describe(ctx, v.of, c.size, v.size); err != nil {
		return none, err
	}
	reading := measure.Reading{Size: read.Size, Readback: report}
	if reading.Problem = unreadable(read.Unreadable); reading.Problem == nil {
		for _, task := range tasks {
			reading.Results = append(reading.Results, measure.Result{Digest: read.Digests[task.Algorithm]})
		}
	}
	if original := back.originalOf(c.form); original != nil && (reading.Problem != nil || !c.holds(&read)) {
		// That it cannot be had changes nothing of what was measured.
		if report.Damage, err = readback.Compare(ctx, v.of, c.size, original, progress); err != nil &&
			ctx.Err() != nil {
			return none, context.Cause(ctx)
		}
	}
	return reading, report.Harmless()
}

// unreadable says what of a medium could not be read, or is nil.
func unreadable(parts []readback.Range) *measure.Problem {
	switch len(parts) {
	case 0:
		return nil
	case 1:
		return &measure.Problem{
			Code: measure.Unreadable,
			Message: fmt.Sprintf(
				"%d bytes of the medium cannot be read, at offset %d", parts[0].Length, parts[0].Offset,
			),
		}
	}
	return &measure.Problem{
		Code: measure.Unreadable,
		Message: fmt.Sprintf(
			"%d parts of the medium cannot be read, the first at offset %d, %d bytes long", len(parts), parts[0].Offset,
			parts[0].Length,
		),
	}
}

// A File is an image that is a file here.
type File struct {
	Image  io.ReaderAt
	Length int64
}

// Bytes returns the image.
func (f File) Bytes() io.ReaderAt { return f.Image }

// Pieces hashes pieces of the image.
func (f File) Pieces(ctx context.Context, part readback.Range, size int64) ([]digest.Value, error) {
	var out []digest.Value
	for at := part.Offset; at < part.Offset+part.Length; at += size {
		set := digest.NewSet(digest.Only(digest.SHA256))
		if _, err := digest.Pump(
			ctx, io.NewSectionReader(f.Image, at, min(size, part.Offset+part.Length-at)), set.Writers(), nil,
		); err != nil {
			return nil, err
		}
		out = append(out, set.Sums()[digest.SHA256])
	}
	return out, nil
}
