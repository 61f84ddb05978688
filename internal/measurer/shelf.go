package measurer

import (
	"bytes"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"
	"unicode/utf8"

	"endeixis/core/ledger"
	"endeixis/core/survey"
	"endeixis/internal/depots"
)

// A Shelf is a folder put together from files of several places and from texts: the file
// that is asked about, what lies beside it, what was pasted. It is an [fs.FS] without
// folders in it.
type Shelf struct {
	files map[string]shelved
	order []string
	open  map[string]*depots.Folder
}

// shelved is one file: in a folder of this machine, or a text.
type shelved struct {
	folder *depots.Folder
	name   string
	text   []byte
}

// NewShelf returns an empty shelf. Close it after use.
func NewShelf() *Shelf {
	return &Shelf{files: map[string]shelved{}, open: map[string]*depots.Folder{}}
}

// Close lets go of the folders that the files are in.
func (s *Shelf) Close() {
	for _, f := range s.open {
		f.Close()
	}
}

// Put puts a file of this machine on the shelf, under the last part of its name, which it
// returns. A second one of that name is an error, except for the same file.
func (s *Shelf) Put(file string) (string, error) {
	path, err := filepath.Abs(file)
	if err != nil {
		return "", err
	}
	dir, own := filepath.Split(path)
	folder, err := s.folder(dir)
	if err != nil {
		return "", err
	}
	// One that is no UTF-8 has a name here in which it can be told.
	name := strings.ToValidUTF8(own, "\ufffd")
	if before, ok := s.files[name]; ok {
		if before.folder == folder && before.name == own {
			return name, nil
		}
		return "", fmt.Errorf("there are two files called %s; ask about one after the other", name)
	}
	if _, err := fs.Stat(folder.FS(), own); err != nil {
		return "", err
	}
	s.add(name, shelved{folder: folder, name: own})
	return name, nil
}

// PutText puts a text on the shelf, under a name that no file has.
func (s *Shelf) PutText(name string, text []byte) string {
	for try, given := 2, name; s.files[name].name != ""; try++ {
		name = fmt.Sprintf("%s %d", given, try)
	}
	s.add(name, shelved{name: name, text: text})
	return name
}

func (s *Shelf) add(name string, f shelved) {
	s.files[name] = f
	s.order = append(s.order, name)
	slices.Sort(s.order)
}

func (s *Shelf) folder(dir string) (*depots.Folder, error) {
	if f := s.open[dir]; f != nil {
		return f, nil
	}
	f, err := depots.OpenHere(dir)
	if err == nil {
		s.open[dir] = f
	}
	return f, err
}

// Beside puts the files of the folders on the shelf that lie beside those that are there:
// all whose names say that they can be wanted, and at most so many others that can, those
// first whose names begin like a file that is there. It returns how many it left.
func (s *Shelf) Beside(
	named func(name string) bool, wanted func(name string, size int64) bool, most int,
) (left int, err error) {
	var stems []string
	for _, name := range s.order {
		stem, _, _ := strings.Cut(name, ".")
		stems = append(stems, stem)
	}
	for dir, folder := range s.open {
		entries, err := fs.ReadDir(folder.FS(), ".")
		if err != nil {
			return left, err
		}
		slices.SortStableFunc(
			entries, func(a, b fs.DirEntry) int { return near(stems, a.Name()) - near(stems, b.Name()) },
		)
		taken := 0
		for _, e := range entries {
			if _, there := s.files[e.Name()]; there || !e.Type().IsRegular() || !utf8.ValidString(e.Name()) {
				continue
			}
			if !named(e.Name()) {
				info, err := e.Info()
				if err != nil || !wanted(e.Name(), info.Size()) {
					continue
				}
				if taken++; taken > most {
					left++
					continue
				}
			}
			if _, err := s.Put(filepath.Join(dir, e.Name())); err != nil {
				return left, err
			}
		}
	}
	return left, nil
}

// maxUp is how many folders up receipts are looked for.
const maxUp = 8

// Proofs puts the receipts on the shelf that lie in a folder of some name beside the files that
// are there or further up: those that went along when the files were handed on. At most so
// many files are looked at.
func (s *Shelf) Proofs(folder string, most int) error {
	looked := map[string]bool{}
	for _, dir := range slices.Sorted(maps.Keys(s.open)) {
		for up := 0; up <= maxUp && dir != filepath.Dir(dir); up++ {
			at := filepath.Join(dir, folder)
			entries, err := os.ReadDir(at)
			if err == nil && !looked[at] {
				looked[at] = true
				for _, e := range entries[:min(len(entries), most)] {
					if _, there := s.files[e.Name()]; there || !isReceipt(filepath.Join(at, e.Name()), e) {
						continue
					}
					if _, err := s.Put(filepath.Join(at, e.Name())); err != nil {
						return err
					}
				}
			}
			if err == nil {
				break
			}
			dir = filepath.Dir(dir)
		}
	}
	return nil
}

func isReceipt(path string, e fs.DirEntry) bool {
	if info, err := e.Info(); err != nil || !info.Mode().IsRegular() || info.Size() > survey.MaxReceipt {
		return false
	}
	text, err := os.ReadFile(path)
	return err == nil && ledger.ProofIn(text) == ledger.ReceiptProof
}

// near is 0 for a name that begins like one of the stems, and 1 for others.
func near(stems []string, name string) int {
	if slices.ContainsFunc(stems, func(stem string) bool { return stem != "" && strings.HasPrefix(name, stem) }) {
		return 0
	}
	return 1
}

// Open opens a file of the shelf, or the shelf itself.
func (s *Shelf) Open(name string) (fs.File, error) {
	if name == "." {
		return &shelfDir{s, 0}, nil
	}
	f, ok := s.files[name]
	switch {
	case !ok:
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	case f.folder != nil:
		return f.folder.FS().Open(f.name)
	}
	return &textFile{bytes.NewReader(f.text), textInfo{name, int64(len(f.text))}}, nil
}

// Stat tells about a file of the shelf.
func (s *Shelf) Stat(name string) (fs.FileInfo, error) {
	if f, ok := s.files[name]; ok && f.folder != nil {
		return fs.Stat(f.folder.FS(), f.name)
	}
	f, err := s.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return f.Stat()
}

// ReadDir lists the shelf.
func (s *Shelf) ReadDir(name string) ([]fs.DirEntry, error) {
	if name != "." {
		return nil, &fs.PathError{Op: "readdir", Path: name, Err: syscall.ENOTDIR}
	}
	out := make([]fs.DirEntry, 0, len(s.order))
	for _, n := range s.order {
		info, err := s.Stat(n)
		if err != nil {
			return nil, err
		}
		out = append(out, fs.FileInfoToDirEntry(named{info, n}))
	}
	return out, nil
}

// named is what is known of a file, under its name on the shelf.
type named struct {
	fs.FileInfo
	name string
}

func (n named) Name() string { return n.name }

type textInfo struct {
	name string
	size int64
}

func (i textInfo) Name() string     { return i.name }
func (i textInfo) Size() int64      { return i.size }
func (textInfo) Mode() fs.FileMode  { return 0o444 }
func (textInfo) ModTime() time.Time { return time.Time{} }
func (textInfo) IsDir() bool        { return false }
func (textInfo) Sys() any           { return nil }

type textFile struct {
	*bytes.Reader
	info textInfo
}

func (f *textFile) Stat() (fs.FileInfo, error) { return f.info, nil }
func (*textFile) Close() error                 { return nil }

type shelfDir struct {
	s  *Shelf
	at int
}

func (*shelfDir) Stat() (fs.FileInfo, error) { return dirInfo{}, nil }
func (*shelfDir) Read([]byte) (int, error) {
	return 0, &fs.PathError{Op: "read", Path: ".", Err: syscall.EISDIR}
}
func (*shelfDir) Close() error { return nil }

func (d *shelfDir) ReadDir(n int) ([]fs.DirEntry, error) {
	all, err := d.s.ReadDir(".")
	if err != nil {
		return nil, err
	}
	all = all[min(d.at, len(all)):]
	if n > 0 {
		if len(all) == 0 {
			return nil, io.EOF
		}
		all = all[:min(n, len(all))]
	}
	d.at += len(all)
	return all, nil
}

type dirInfo struct{ textInfo }

func (dirInfo) Name() string      { return "." }
func (dirInfo) Mode() fs.FileMode { return fs.ModeDir | 0o555 }
func (dirInfo) IsDir() bool       { return true }

var _ interface {
	fs.StatFS
	fs.ReadDirFS
} = (*Shelf)(nil)

var _ io.ReaderAt = (*textFile)(nil)

// Exists reports whether a file is there, for an error that says so early.
func Exists(file string) error {
	info, err := os.Stat(file)
	if err == nil && info.IsDir() {
		err = fmt.Errorf("%s is a folder; “endeixis batch run” verifies folders", file)
	}
	return err
}
