package container

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"

	"endeixis/core/plain"
)

// directoryBytes bounds what is read of a zip archive's directory.
const directoryBytes = 32 << 20

var errDirectory = errors.New("its directory is longer than 32 MiB")

// A metered reader fails after so many bytes, so that a forged directory
// cannot fill the memory.
type metered struct {
	r    io.ReaderAt
	left int64
}

func (m *metered) ReadAt(p []byte, off int64) (int, error) {
	n, err := m.r.ReadAt(p, off)
	if m.left -= int64(n); m.left < 0 {
		return 0, errDirectory
	}
	return n, err
}

func (l *lister) zip() error {
	directory := &metered{l.r, directoryBytes}
	archive, err := zip.NewReader(directory, l.size)
	if err != nil {
		reason := "its directory at the end is missing or damaged; a download that was cut short looks like this"
		if directory.left < 0 {
			reason = errDirectory.Error()
		}
		return &FormatError{Zip, -1, reason}
	}
	directory.left = 64 * int64(len(archive.File)+1024) // the members' own headers
	for _, f := range archive.File {
		if l.ctx.Err() != nil {
			return l.ctx.Err()
		}
		switch mode := f.Mode(); {
		case strings.HasSuffix(f.Name, "/"):
			continue
		case mode&fs.ModeSymlink != 0:
			l.out.Links++
			continue
		case !mode.IsRegular():
			l.problem(f.Name, -1, "it is not a regular file")
			continue
		}
		at, err := f.DataOffset()
		if err != nil || f.CompressedSize64 > uint64(l.size) || at > l.size-int64(f.CompressedSize64) {
			l.problem(
				f.Name, -1, "the directory says that it lies beyond the end of the archive, or where no member begins",
			)
			continue
		}
		m := Member{Name: f.Name, Size: int64(f.UncompressedSize64), Extents: []Extent{{at, int64(f.CompressedSize64)}}}
		switch {
		case f.Flags&1 != 0:
			l.problem(f.Name, at, "it is encrypted")
			continue
		case m.Size < 0:
			l.problem(f.Name, at, "its stated size makes no sense")
			continue
		case f.Method == zip.Store && f.CompressedSize64 != f.UncompressedSize64:
			l.problem(f.Name, at, "it is stored as it is, and its two stated sizes differ")
			continue
		case f.Method == zip.Store:
		case f.Method == zip.Deflate:
			m.Packing = Deflate
		default:
			l.problem(f.Name, at, "it is packed in a way that is not read here (method %d)", f.Method)
			continue
		}
		if err := l.add(m); err != nil {
			return err
		}
	}
	return nil
}

// tarBlock is the unit of a tar archive, in bytes.
const tarBlock = 512

// isTar reports whether a block looks like the header of a tar member: it has
// the mark of POSIX or GNU tar.
func isTar(block []byte) bool {
	return len(block) == tarBlock && bytes.HasPrefix(block[257:], []byte("ustar"))
}

func (l *lister) tar() error {
	section := io.NewSectionReader(l.r, 0, l.size)
	return l.members(section, func() int64 {
		at, _ := section.Seek(0, io.SeekCurrent)
		return at
	}, false)
}

// members lists a tar archive. position tells how far r was read. A stream can
// be read only once, so that what is to be kept is kept in passing.
func (l *lister) members(r io.Reader, position func() int64, stream bool) error {
	archive := tar.NewReader(r)
	for {
		if l.ctx.Err() != nil {
			return l.ctx.Err()
		}
		h, err := archive.Next()
		if err == io.EOF {
			return nil
		}
		at := position()
		if err != nil {
			if l.ctx.Err() != nil {
				return l.ctx.Err()
			}
			var expansion *ExpansionError
			if errors.As(err, &expansion) {
				return err
			}
			l.problem("", at, "the archive is damaged or cut short from here on: %s", plain.Text(err.Error()))
			return nil
		}
		switch h.Typeflag {
		case tar.TypeReg, tar.TypeGNUSparse:
		case tar.TypeSymlink, tar.TypeLink:
			l.out.Links++
			continue
		case tar.TypeDir, tar.TypeXGlobalHeader:
			continue
		default:
			l.problem(h.Name, at, "it is not a regular file")
			continue
		}
		if h.Typeflag == tar.TypeGNUSparse || h.PAXRecords["GNU.sparse.major"] != "" ||
			h.PAXRecords["GNU.sparse.map"] != "" {
			l.problem(h.Name, at, "it is stored with holes, which is not read here")
			continue
		}
		if !stream && at+h.Size > l.size {
			l.problem(h.Name, at, "the archive ends before this member does")
			continue
		}
		m := Member{Name: h.Name, Size: h.Size, Extents: []Extent{{at, h.Size}}}
		if stream && l.wants(path.Clean(h.Name), h.Size) {
			content, err := io.ReadAll(archive)
			if err != nil {
				l.problem(h.Name, at, "the archive ends before this member does")
				continue
			}
			m.Content = content
			l.kept += int64(len(content))
		}
		if err := l.add(m); err != nil {
			return err
		}
	}
}

// compressed lists a compressed tar archive by reading it from end to end, or
// says that it is a single compressed file.
func (l *lister) compressed(name string) error {
	in, out := io.Pipe()
	done := make(chan error, 1)
	go func() {
		_, err := Decompress(l.ctx, l.out.Compression, io.NewSectionReader(l.r, 0, l.size), out)
		out.CloseWithError(err)
		done <- err
	}()
	stop := func() {
		in.Close() // ends the other side, if it is not at its end already
		<-done     //nolint:errcheck // it was told to end, and only that it did is wanted
	}
	defer stop()
	block := make([]byte, tarBlock)
	n, err := io.ReadFull(in, block)
	if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
		l.out.Format = Single
		return &FormatError{Single, 0, plain.Text(err.Error())}
	}
	if !isTar(block[:n]) {
		l.out.Format = Single
		_, stem, ok := OfName(name)
		if stem = path.Base(stem); !ok || stem == "." || stem == "/" {
			stem = "content"
		}
		return l.add(Member{Name: stem, Size: -1})
	}
	l.out.Format = Tar
	stream := &counter{r: io.MultiReader(bytes.NewReader(block), in)}
	return l.members(stream, func() int64 { return stream.n }, true)
}

// NewTarSplitter begins to take apart the tar archive that is written to it, of
// which nothing is known beforehand. visit is called with each regular file, in
// order, and returns where its content goes; what is written there must not
// fail. After damage, nothing more is handed on.
func NewTarSplitter(visit func(name string) io.Writer) *Branch {
	return newBranch(func(in io.Reader) error {
		archive := tar.NewReader(in)
		for {
			h, err := archive.Next()
			if err != nil {
				return err
			}
			if h.Typeflag != tar.TypeReg {
				continue
			}
			if _, err := io.Copy(visit(h.Name), archive); err != nil {
				return err
			}
		}
	})
}

// String describes a layout in a few words: “zip archive with 3 members”.
func (l *Layout) String() string { return Describe(l.Format, l.Compression, len(l.Members)) }

// Describe words what a container is and how many members it has.
func Describe(f Format, c Compression, members int) string {
	switch {
	case f == Single:
		return fmt.Sprintf("%s-compressed file", c)
	case c != "":
		return fmt.Sprintf("%s-compressed %s", c, Describe(f, "", members))
	case members == 1:
		return f.Noun() + " with one member"
	}
	return fmt.Sprintf("%s with %d members", f.Noun(), members)
}
