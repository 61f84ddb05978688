package measurer

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

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
	// Carried says what a file of addresses and bytes was expanded from, and Gaps what
	// it leaves out.
	Carried string
	Gaps    []readback.Range
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
		return nil, &MediumError{path, "is a folder", "A readback reads the medium itself: give its device node, such as /dev/sr0 or /dev/sdb, or a dump of it.", nil}
	case !info.Mode().IsRegular() && (info.Mode()&fs.ModeDevice == 0 || info.Mode()&fs.ModeCharDevice != 0):
		return nil, &MediumError{path, "is no medium: it cannot be read from any place", "Give a block device or a file.", nil}
	}
	f, cache, block, err := openPast(path)
	switch {
	case errors.Is(err, fs.ErrPermission):
		return nil, &MediumError{path, "may not be read by you", "Reading takes the right to read and nothing more: join the group that the device belongs to, often “disk” or “cdrom”, or run this one command with the rights of the administrator.", err}
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

// expand takes a file that carries bytes for addresses for these bytes.
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
		return &MediumError{m.Info.Name, "carries bytes for addresses and is damaged", err.Error(), err}
	}
	m.ReaderAt, m.Info.Size, m.Gaps = bytes.NewReader(c.Content), int64(len(c.Content)), c.Gaps
	m.Carried = fmt.Sprintf("It is %s, which carries %d bytes from address 0x%x on.", c.Format, len(c.Content), c.Base)
	return nil
}

// A Back is what a medium is read back against, as far as it can be asked where the medium
// is read.
type Back struct {
	Medium *Medium
	// LengthFrom says where the length is from.
	LengthFrom string
	// Original is the image, or nil where it cannot be had.
	Original readback.Original
}

// ListMedium sends the list of files of a readback: the medium.
func ListMedium(ctx context.Context, to Service, batch int64, m *Medium) error {
	return List(ctx, to, batch, &survey.Findings{Files: []survey.Found{{Path: filepath.Base(m.Info.Name), Size: m.Info.Size, ModTime: time.Now().UTC()}}})
}

// ReadBack reads a medium for a batch that is surveyed, finds out what follows the image and
// where the medium differs, and sends it. It returns the account, and nil when the batch
// asks for nothing any more. progress may be nil.
func ReadBack(ctx context.Context, with Service, batch wire.Batch, back Back, progress func(total int64)) (*readback.Report, error) {
	left, err := with.Chores(ctx, batch.ID)
	if err != nil || len(left) == 0 || batch.Against == nil {
		return nil, err
	}
	reading, err := ReadMedium(ctx, back, batch.Against.Size, left[0].Target.Tasks, batch.Against.Digests, progress)
	if err != nil {
		return nil, err
	}
	taken, err := with.SendMeasurements(ctx, batch.ID, []wire.Measured{{N: left[0].N, Reading: reading}})
	if err == nil && len(taken.Declined) > 0 {
		err = fmt.Errorf("the service did not use what was read: %s", taken.Declined[0].Reason)
	}
	return reading.Readback, err
}

// ReadMedium reads as many bytes of a medium as the image has, and does tasks with them;
// wanted has the image's digests, in hexadecimal by algorithm. It finds out what follows
// the image and, where the medium differs, where. progress may be nil.
func ReadMedium(ctx context.Context, back Back, length int64, tasks []measure.Task, wanted map[string]string, progress func(total int64)) (measure.Reading, error) {
	m := back.Medium
	account := &readback.Report{
		Medium: m.Info, Length: length, LengthFrom: back.LengthFrom, Structures: readback.Recognise(m), Cache: m.Cache, Carried: m.Carried, Gaps: m.Gaps,
	}
	if len(account.Structures) > 0 && account.Medium.Label == "" {
		account.Medium.Label = plain.Text(account.Structures[0].Label)
	}
	var algorithms []digest.Algorithm
	for _, task := range tasks {
		algorithms = append(algorithms, task.Algorithm)
	}
	none := measure.Reading{}
	read, err := readback.Read(ctx, m, length, algorithms, progress)
	if err != nil {
		return none, err
	}
	account.Unreadable, account.Steadied = read.Unreadable, read.Steadied
	if account.Tail, err = readback.Describe(ctx, m, length, account.Medium.Size); err != nil {
		return none, err
	}
	reading := measure.Reading{Size: read.Size, Readback: account}
	differs := read.Size < length
	if len(read.Unreadable) > 0 {
		differs = true
		first := read.Unreadable[0]
		reading.Problem = &measure.Problem{Code: measure.Unreadable, Message: fmt.Sprintf("%d parts of the medium cannot be read, the first at offset %d, %d bytes long", len(read.Unreadable), first.Offset, first.Length)}
		if len(read.Unreadable) == 1 {
			reading.Problem.Message = fmt.Sprintf("%d bytes of the medium cannot be read, at offset %d", first.Length, first.Offset)
		}
	} else {
		same := false
		for _, task := range tasks {
			value := read.Digests[task.Algorithm]
			reading.Results = append(reading.Results, measure.Result{Digest: value})
			same = same || wanted[task.Algorithm.String()] == value.String()
		}
		differs = differs || !same
	}
	if differs && back.Original != nil {
		// That it cannot be had changes nothing of what was measured.
		if account.Damage, err = readback.Compare(ctx, m, length, back.Original, progress); err != nil && ctx.Err() != nil {
			return none, context.Cause(ctx)
		}
	}
	return reading, account.Harmless()
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
		if _, err := digest.Pump(ctx, io.NewSectionReader(f.Image, at, min(size, part.Offset+part.Length-at)), set.Writers(), nil); err != nil {
			return nil, err
		}
		out = append(out, set.Sums()[digest.SHA256])
	}
	return out, nil
}
