package container

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"unicode/utf8"

	"endeixis/core/manifest"
	"endeixis/core/plain"
)

// A Format is a way of keeping files inside one file.
type Format string

// The formats that are read.
const (
	Zip     Format = "zip"
	Tar     Format = "tar"
	ISO9660 Format = "iso-9660" // ECMA-119, with Rock Ridge and Joliet names
	// Single is one file, compressed.
	Single Format = "compressed-file"
)

// ErrNotContainer is returned for a file that is none of the formats.
var ErrNotContainer = errors.New("it is not an archive, a compressed file or a disc image")

// A FormatError reports a container whose structure cannot be relied upon.
type FormatError struct {
	Format Format
	// Offset is where in the container the trouble is, in bytes, or -1.
	Offset int64
	Reason string
}

// Error says what is wrong and where.
func (e *FormatError) Error() string {
	if e.Offset < 0 {
		return fmt.Sprintf("this %s cannot be looked into: %s", e.Format.Noun(), e.Reason)
	}
	return fmt.Sprintf("this %s cannot be looked into: %s (at byte %d)", e.Format.Noun(), e.Reason, e.Offset)
}

// Noun returns what a file of this format is called.
func (f Format) Noun() string {
	switch f {
	case Zip:
		return "zip archive"
	case Tar:
		return "tar archive"
	case ISO9660:
		return "disc image"
	case Single:
	}
	return "compressed file"
}

// A LimitError reports a container that holds more than is looked at.
type LimitError struct {
	// What is exceeded, such as "100000 members".
	What string
}

// Error says what the limit is.
func (e *LimitError) Error() string { return "it was not looked into further than " + e.What }

// Limits bound what is looked at. The zero value means the defaults.
type Limits struct {
	// Members bounds the members of one container. Default 100,000.
	Members int
	// Kept bounds one member whose content is kept. Default 64 MiB.
	Kept int64
	// KeptTotal bounds the content that is kept of one container. Default
	// 256 MiB.
	KeptTotal int64
}

// A Bound limits the time that something may take, with the cause that its end
// is to have, such as a [*LimitError]. nil is no bound.
type Bound func(ctx context.Context) (context.Context, context.CancelFunc)

// Of returns the bounded context, which has to be cancelled.
func (b Bound) Of(ctx context.Context) (context.Context, context.CancelFunc) {
	if b == nil {
		return ctx, func() {}
	}
	return b(ctx)
}

func (l Limits) withDefaults() Limits {
	if l.Members == 0 {
		l.Members = 100_000
	}
	if l.Kept == 0 {
		l.Kept = 64 << 20
	}
	if l.KeptTotal == 0 {
		l.KeptTotal = 256 << 20
	}
	return l
}

// Options say how to list a container. The zero value means the defaults.
type Options struct {
	Limits Limits
	// Keep chooses the members whose content is wanted at once; nil keeps
	// none. A size of -1 is not known.
	Keep func(name string, size int64) bool
}

// An Extent is a part of a container, in bytes; for a compressed tar archive,
// of its uncompressed form.
type Extent struct {
	Offset int64 `json:"offset"`
	Length int64 `json:"length"`
}

// A Member is one file inside a container.
type Member struct {
	// Name is clean, with slashes, and never leads out of the container.
	Name string `json:"name"`
	// Size is the length of the content, or -1 where the container does not
	// state it.
	Size int64 `json:"size"`
	// Packing is how the content is compressed by itself, or empty.
	Packing Compression `json:"packing,omitempty"`
	// Extents are where it lies, in rising order. None means the whole.
	Extents []Extent `json:"extents,omitempty"`
	// Content is set for members that were to be kept.
	Content []byte `json:"-"`
}

// A Problem is a member that is not looked at, or a part that is not what it
// should be.
type Problem struct {
	// Name is the member's as written, safe to show.
	Name string `json:"name"`
	// Offset is where it stands in the container, in bytes, or -1.
	Offset  int64  `json:"offset"`
	Message string `json:"message"`
}

// maxProblems bounds the problems that are kept of one container.
const maxProblems = 100

// A Layout tells what a container holds and where.
type Layout struct {
	Format Format `json:"format"`
	// Compression is how the whole is compressed, or empty.
	Compression Compression `json:"compression,omitempty"`
	// Members are in the order in which they begin.
	Members []Member `json:"members,omitempty"`
	// Links counts symbolic and hard links, which are not followed.
	Links int `json:"links,omitempty"`
	// Problems are members that cannot be used; MoreProblems counts those
	// beyond the first hundred.
	Problems     []Problem `json:"problems,omitempty"`
	MoreProblems int       `json:"more_problems,omitempty"`
}

// Containers are looked for under these names; the content decides. Those that
// are compressed have no directory to read.
var (
	withDirectory  = []string{".zip", ".tar", ".iso", ".img", ".udf", ".cdr"}
	compressedTars = []string{".tgz", ".tbz2", ".tbz", ".txz", ".tzst"}
)

// Named reports whether a file's name is that of a possible container, and
// whether telling what it holds takes reading it from end to end.
func Named(name string) (possible, wholeRead bool) {
	ext := strings.ToLower(path.Ext(name))
	if _, ok := endings[ext]; ok || slices.Contains(compressedTars, ext) {
		return true, true
	}
	return slices.Contains(withDirectory, ext), false
}

// NamesAround returns the usual names of containers that hold a file of the
// given name: "x.img.gz" and "x.zip" for "x.img".
func NamesAround(name string) []string {
	var out []string
	for _, ending := range Endings() {
		out = append(out, name+ending)
	}
	stem := strings.TrimSuffix(name, path.Ext(name))
	for _, ending := range []string{".zip", ".tar", ".tar.gz", ".tgz", ".tar.xz", ".tar.bz2", ".tar.zst", ".iso"} {
		if stem+ending != name {
			out = append(out, stem+ending)
		}
	}
	return out
}

// magics are the first bytes of compressed files.
var magics = []struct {
	magic string
	is    Compression
}{{"\x1f\x8b", Gzip}, {"BZh", Bzip2}, {"\xfd7zXZ\x00", XZ}, {"\x28\xb5\x2f\xfd", Zstd}}

// List tells what the container r of the given size holds. The content says
// what it is; name is used for the member of a single compressed file.
//
// It returns [ErrNotContainer], a [*FormatError], a [*LimitError], an
// [*ExpansionError], an error of r, or the context's cause. Trouble with one
// member becomes a [Problem] and does not hide the others.
func List(ctx context.Context, r io.ReaderAt, size int64, name string, opts Options) (*Layout, error) {
	limits := opts.Limits.withDefaults()
	l := &lister{ctx: ctx, r: r, size: size, limits: limits, keep: opts.Keep, out: &Layout{}, seen: map[string]int{}}
	head := make([]byte, max(0, min(size, isoStart+6)))
	n, err := r.ReadAt(head, 0)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	head = head[:n]
	err = l.list(head, name)
	if err != nil {
		if cause := context.Cause(ctx); cause != nil {
			err = cause
		}
		return nil, err
	}
	l.dropRepeated()
	slices.SortStableFunc(l.out.Members, func(a, b Member) int { return cmp.Compare(a.start(), b.start()) })
	if err := l.checkExtents(); err != nil {
		return nil, err
	}
	return l.out, l.keepContents()
}

func (m *Member) start() int64 {
	if len(m.Extents) == 0 {
		return 0
	}
	return m.Extents[0].Offset
}

type lister struct {
	ctx    context.Context
	r      io.ReaderAt
	size   int64
	limits Limits
	keep   func(string, int64) bool
	kept   int64
	out    *Layout
	// seen counts the members of each name.
	seen map[string]int
}

// Recognise tells a container by its first bytes. A compressed file has a
// compression and no format: what it holds is not known yet. Disc images are
// told by their first 33 KiB.
func Recognise(head []byte) (Format, Compression) {
	for _, m := range magics {
		if bytes.HasPrefix(head, []byte(m.magic)) {
			return "", m.is
		}
	}
	switch {
	case bytes.HasPrefix(head, []byte("PK\x03\x04")), bytes.HasPrefix(head, []byte("PK\x05\x06")):
		return Zip, ""
	case len(head) >= tarBlock && isTar(head[:tarBlock]):
		return Tar, ""
	case len(head) >= isoStart+6 && string(head[isoStart+1:isoStart+6]) == "CD001":
		return ISO9660, ""
	}
	return "", ""
}

func (l *lister) list(head []byte, name string) error {
	l.out.Format, l.out.Compression = Recognise(head)
	switch l.out.Format {
	case Zip:
		return l.zip()
	case Tar:
		return l.tar()
	case ISO9660:
		return l.iso()
	case Single:
	}
	if l.out.Compression != "" {
		return l.compressed(name)
	}
	return ErrNotContainer
}

// add takes a member, unless its name is not to be used.
func (l *lister) add(m Member) error {
	if !utf8.ValidString(m.Name) {
		l.problem(m.Name, m.start(), "its name is not valid UTF-8")
		return nil
	}
	clean, why, ok := manifest.SafeName(m.Name)
	if !ok {
		l.problem(m.Name, m.start(), "%s", why)
		return nil
	}
	if len(l.out.Members) >= l.limits.Members {
		return &LimitError{What: fmt.Sprintf("%d members", l.limits.Members)}
	}
	m.Name = clean
	l.seen[clean]++
	l.out.Members = append(l.out.Members, m)
	return nil
}

func (l *lister) problem(name string, offset int64, format string, args ...any) {
	if len(l.out.Problems) >= maxProblems {
		l.out.MoreProblems++
		return
	}
	l.out.Problems = append(
		l.out.Problems, Problem{Name: plain.Text(name), Offset: offset, Message: fmt.Sprintf(format, args...)},
	)
}

// dropRepeated leaves out members of the same name: which of them a program
// unpacks is not certain, so that none can be vouched for.
func (l *lister) dropRepeated() {
	for _, m := range l.out.Members {
		if n := l.seen[m.Name]; n > 1 {
			l.problem(
				m.Name, m.start(),
				"there are %d members of this name, and programs differ in which of them they unpack", n,
			)
			l.seen[m.Name] = -1
		}
	}
	l.out.Members = slices.DeleteFunc(l.out.Members, func(m Member) bool { return l.seen[m.Name] != 1 })
}

// checkExtents refuses containers whose members overlap, or that would expand
// beyond all measure. Two names for the same extents are allowed on a disc.
func (l *lister) checkExtents() error {
	type at struct {
		Extent
		name string
	}
	var all []at
	expanded := int64(0)
	for i := range l.out.Members {
		m := &l.out.Members[i]
		expanded += max(m.Size, 0)
		if expanded > freely && expanded > ratio*l.size {
			return &ExpansionError{In: l.size, Out: expanded}
		}
		for _, e := range m.Extents {
			if e.Length > 0 {
				all = append(all, at{e, m.Name})
			}
		}
	}
	slices.SortFunc(all, func(a, b at) int {
		return cmp.Or(cmp.Compare(a.Offset, b.Offset), cmp.Compare(a.Length, b.Length))
	})
	for i := 1; i < len(all); i++ {
		before, this := all[i-1], all[i]
		if this.Offset < before.Offset+before.Length && (l.out.Format != ISO9660 || this.Extent != before.Extent) {
			return &FormatError{
				l.out.Format, this.Offset,
				fmt.Sprintf("its members %s and %s overlap", plain.Quoted(before.name), plain.Quoted(this.name)),
			}
		}
	}
	return nil
}

// wants reports whether the content of a member is to be kept.
func (l *lister) wants(name string, size int64) bool {
	return l.keep != nil && size <= l.limits.Kept && l.kept+max(size, 0) <= l.limits.KeptTotal && l.keep(name, size)
}

// keepContents reads the members that are wanted and were not met in passing.
func (l *lister) keepContents() error {
	if l.out.Compression != "" || l.keep == nil {
		return nil
	}
	for i := range l.out.Members {
		m := &l.out.Members[i]
		if !l.wants(m.Name, m.Size) {
			continue
		}
		content, err := m.read(l.ctx, l.r)
		if cause := context.Cause(l.ctx); cause != nil {
			return cause
		}
		if err != nil {
			l.problem(m.Name, m.start(), "it cannot be read: %s", plain.Text(err.Error()))
			continue
		}
		m.Content = content
		l.kept += int64(len(content))
	}
	return nil
}

// errLonger stops an expansion at the size that was stated.
var errLonger = errors.New("it expands to more than is stated")

// read returns the whole content, which is to be as long as stated.
func (m *Member) read(ctx context.Context, r io.ReaderAt) ([]byte, error) {
	var parts []io.Reader
	for _, e := range m.Extents {
		parts = append(parts, io.NewSectionReader(r, e.Offset, e.Length))
	}
	var out bytes.Buffer
	var err error
	if m.Packing == "" {
		_, err = io.Copy(&out, io.MultiReader(parts...))
	} else {
		_, err = Decompress(ctx, m.Packing, io.MultiReader(parts...), &bounded{w: &out, left: m.Size})
	}
	if err == nil && int64(out.Len()) != m.Size {
		err = fmt.Errorf("it holds %d bytes, and %d are stated", out.Len(), m.Size)
	}
	return out.Bytes(), err
}

// bounded passes on so many bytes and fails beyond.
type bounded struct {
	w    io.Writer
	left int64
}

func (b *bounded) Write(p []byte) (int, error) {
	if int64(len(p)) > b.left {
		return 0, errLonger
	}
	b.left -= int64(len(p))
	return b.w.Write(p)
}
