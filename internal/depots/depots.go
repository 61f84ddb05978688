// Package depots opens the directory trees that the service may read. All
// reading goes through [os.Root], so that no name, link or race leads out of
// them.
package depots

import (
	"errors"
	"io"
	"io/fs"
	"maps"
	"os"
	"path"
	"slices"
	"strings"
	"syscall"
	"time"

	"endeixis/core/plain"
	"endeixis/internal/fault"
)

// Depots is the set of configured depots.
type Depots struct {
	dirs map[string]string
}

// New makes the set from names and directories.
func New(dirs map[string]string) *Depots { return &Depots{dirs: dirs} }

// Names returns the names in order.
func (d *Depots) Names() []string { return slices.Sorted(maps.Keys(d.dirs)) }

// A Folder is one open folder of a depot. Close it after use.
type Folder struct {
	root *os.Root
}

// Open opens a folder of a depot. A path that leads out, by its words or by a
// symbolic link, that is not there, or that is not a folder, is a
// [*fault.Fault].
func (d *Depots) Open(depot, folder string) (*Folder, error) {
	dir, ok := d.dirs[depot]
	if !ok {
		return nil, fault.New(fault.NotFound, fault.DepotUnknown, "There is no depot called %s.", plain.Quoted(depot)).
			Advise("Depots here: %s.", strings.Join(d.Names(), ", ")).At("depot")
	}
	clean, err := Clean(folder)
	if err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, away(depot, err)
	}
	defer root.Close()
	// Opening a pipe would wait for somebody at its other end: a pipe, a device
	// or a file on the way is found out without opening it. What is put there
	// in this moment is not waited for either.
	if err := onlyFolders(root, clean); err != nil {
		return nil, explain(depot, clean, err)
	}
	sub, err := root.OpenRoot(clean)
	if err != nil {
		return nil, explain(depot, clean, err)
	}
	return &Folder{root: sub}, nil
}

// OpenHere opens a folder by its path on this machine, with everything below it. No
// link in it is followed out of it.
func OpenHere(dir string) (*Folder, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	return &Folder{root: root}, nil
}

// errNotFolder reports something on the way that is no folder.
var errNotFolder = errors.New("not a folder")

// onlyFolders looks at a folder and each one above it, from the top.
func onlyFolders(root *os.Root, folder string) error {
	for at := range len(folder) + 1 {
		if at < len(folder) && folder[at] != '/' {
			continue
		}
		info, err := root.Stat(folder[:at])
		if err != nil {
			return err
		}
		if !info.IsDir() {
			return errNotFolder
		}
	}
	return nil
}

// away reports a depot whose directory cannot be opened. The cause stays in it:
// some pass by themselves.
func away(depot string, cause error) error {
	return fault.New(fault.Unavailable, fault.DepotUnreadable, "The depot %s cannot be opened.", depot).
		Advise("Ask the administrator to check its directory.").
		Because(cause)
}

// Clean checks the words of a folder's path and returns it with slashes and
// without "." parts.
func Clean(folder string) (string, error) {
	if folder == "" {
		return ".", nil
	}
	if strings.ContainsRune(folder, 0) || path.IsAbs(folder) || slices.Contains(strings.Split(folder, "/"), "..") {
		return "", outside(folder)
	}
	return path.Clean(folder), nil
}

func outside(folder string) error {
	return fault.New(
		fault.Invalid, fault.FolderOutsideDepot, "The folder %s leads out of the depot.", plain.Quoted(folder),
	).
		Advise(
			"Only what lies in a depot is read. Move or copy the files into one, or ask the administrator to add a depot.",
		).
		At("path")
}

func explain(depot, folder string, err error) error {
	switch {
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, syscall.ENAMETOOLONG):
		return fault.New(
			fault.NotFound, fault.FolderUnknown, "There is no folder %s in the depot %s.", plain.Quoted(folder), depot,
		).
			Advise("Look at what is there, or check the spelling.").
			At("path")
	case errors.Is(err, fs.ErrPermission):
		return fault.New(
			fault.Invalid, fault.FolderUnreadable, "The service may not read the folder %s.", plain.Quoted(folder),
		).
			Advise("Ask the administrator to let the service's user read it.").
			At("path")
	case errors.Is(err, errNotFolder), errors.Is(err, syscall.ENOTDIR):
		return fault.New(fault.Invalid, fault.NotAFolder, "%s is not a folder.", plain.Quoted(folder)).
			Advise("Give the folder that holds it.").At("path")
	}
	// Only what os.Root itself refuses leads out; anything else is the host's
	// trouble, such as too many open files or a share that is away.
	var number syscall.Errno
	if errors.As(err, &number) && number != syscall.ELOOP {
		return away(depot, err)
	}
	return outside(folder)
}

// Close lets go of the folder.
func (f *Folder) Close() error { return f.root.Close() }

// FS returns the folder's files, for survey and measure.
func (f *Folder) FS() fs.FS { return folderFS{f.root, f.root.FS()} }

// folderFS opens files without waiting: a pipe put in a file's place between
// looking and opening must not hold a worker for ever.
type folderFS struct {
	root *os.Root
	fs.FS
}

func (f folderFS) Open(name string) (fs.File, error) {
	if !fs.ValidPath(name) {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrInvalid}
	}
	opened, err := f.root.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	return file{opened}, nil
}

// file tells when it was last changed in any way, too.
type file struct{ *os.File }

func (f file) Stat() (fs.FileInfo, error) {
	found, err := f.File.Stat()
	return info{found}, err
}

type info struct{ fs.FileInfo }

// ChangeTime returns the inode's, which no program can set; zero where the system
// has none.
func (i info) ChangeTime() time.Time {
	if stat, ok := i.Sys().(*syscall.Stat_t); ok {
		return time.Unix(stat.Ctim.Unix())
	}
	return time.Time{}
}

func (f folderFS) ReadDir(name string) ([]fs.DirEntry, error) {
	dir, err := f.root.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK|syscall.O_DIRECTORY, 0)
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	entries, err := dir.ReadDir(-1)
	slices.SortFunc(entries, func(a, b fs.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
	return entries, err
}

func (f folderFS) Stat(name string) (fs.FileInfo, error) {
	found, err := fs.Stat(f.FS, name)
	if err != nil {
		return nil, err
	}
	return info{found}, nil
}

// Empty reports whether nothing lies in the folder.
func (f *Folder) Empty() (bool, error) {
	dir, err := f.root.Open(".")
	if err != nil {
		return false, err
	}
	defer dir.Close()
	_, err = dir.ReadDir(1)
	if errors.Is(err, io.EOF) {
		return true, nil
	}
	return false, err
}

// An Entry is one name in a folder.
type Entry struct {
	Name   string `json:"name"`
	Folder bool   `json:"folder"`
	Size   int64  `json:"size"`
}

// maxEntries bounds what List returns.
const maxEntries = 2000

// List returns what lies directly in the folder, folders first.
func (f *Folder) List() ([]Entry, error) {
	found, err := fs.ReadDir(f.FS(), ".")
	if err != nil {
		return nil, err
	}
	out := make([]Entry, 0, min(len(found), maxEntries))
	for _, e := range found[:min(len(found), maxEntries)] {
		entry := Entry{Name: e.Name(), Folder: e.IsDir()}
		if info, err := e.Info(); err == nil && !entry.Folder {
			entry.Size = info.Size()
		}
		out = append(out, entry)
	}
	slices.SortStableFunc(out, func(a, b Entry) int {
		if a.Folder != b.Folder {
			if a.Folder {
				return -1
			}
			return 1
		}
		return strings.Compare(a.Name, b.Name)
	})
	return out, nil
}
