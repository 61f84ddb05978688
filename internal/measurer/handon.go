package measurer

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"sync/atomic"

	"endeixis/core/digest"
	"endeixis/core/survey"
)

// A Handed is a file that is copied to where it will be used, or why it is not.
type Handed struct {
	// Path is relative to both folders.
	Path string `json:"path"`
	Size int64  `json:"size"`
	// Digests are what was measured when it was verified. The strongest is compared.
	Digests map[digest.Algorithm]digest.Value `json:"-"`
	// Role is what a file is that goes along with others, such as their list; it is empty
	// for those that are handed on.
	Role survey.Role `json:"role,omitempty"`
	// Why says why it was not handed on; it is empty for one that was. Uncleared is set
	// where the reason is its verdict. There is set for one that was there before, with
	// exactly its bytes.
	Why       string `json:"why,omitempty"`
	Uncleared bool   `json:"uncleared,omitempty"`
	There     bool   `json:"there,omitempty"`
	// Companion is set for one that is not cleared and needs not be.
	Companion bool `json:"companion,omitempty"`
}

// An Opener opens the files that are handed on.
type Opener interface {
	// OpenAt opens a file from an offset on.
	OpenAt(ctx context.Context, path string, offset int64) (io.ReadCloser, error)
}

// InFolder opens the files of a folder.
type InFolder struct{ FS fs.FS }

// OpenAt opens a file from an offset on.
func (f InFolder) OpenAt(_ context.Context, name string, offset int64) (io.ReadCloser, error) {
	file, err := f.FS.Open(name)
	if err != nil || offset == 0 {
		return file, err
	}
	if s, ok := file.(io.Seeker); ok {
		_, err = s.Seek(offset, io.SeekStart)
	} else {
		_, err = io.CopyN(io.Discard, file, offset)
	}
	if err != nil {
		file.Close()
		return nil, err
	}
	return file, nil
}

// HandOn copies files into a folder. Each is hashed while it is copied, and again as it lies
// on the disk then, and has its name there only when both are what was measured. What is there
// already is never written over; what is there with exactly its bytes need not be copied
// again, and where copying was interrupted it goes on. Why is set in those that were not
// copied. It fails only when ctx ends.
func HandOn(ctx context.Context, from Opener, to *os.Root, files []Handed, progress func(bytes int64)) error {
	for i := range files {
		f := &files[i]
		if f.Why != "" {
			continue
		}
		if err := handOn(ctx, from, to, f, progress); err != nil {
			if ctx.Err() != nil {
				return context.Cause(ctx)
			}
			f.Why = said(err)
		}
	}
	return nil
}

// said words an error of a file without the name, which stands beside it.
func said(err error) string {
	var at *fs.PathError
	var link *os.LinkError
	switch {
	case errors.Is(err, fs.ErrExist):
		return "there is a file of this name already, and nothing is written over"
	case errors.As(err, &at):
		return at.Err.Error()
	case errors.As(err, &link):
		return link.Err.Error()
	}
	return err.Error()
}

// errOther says that a file has not the bytes that were verified.
var errOther = errors.New("it is not what was verified any more, and was not copied")

func handOn(ctx context.Context, from Opener, to *os.Root, f *Handed, progress func(int64)) error {
	algorithm, want := strongest(f.Digests)
	if want == nil {
		return errors.New("nothing was measured of it")
	}
	if info, err := to.Lstat(f.Path); err == nil {
		if f.There = info.Mode().IsRegular() && holds(ctx, to, f.Path, algorithm, want, progress) == nil; !f.There {
			return fs.ErrExist
		}
		return nil
	}
	for _, dir := range []string{path.Dir(f.Path), survey.ProofsFolder} {
		if err := to.MkdirAll(dir, 0o755); err != nil {
			return err
		}
	}
	// Under its own name it is there only when it is whole and right. The name until then is
	// that of its bytes: who comes again goes on.
	part := fmt.Sprintf("%s/%s.part", survey.ProofsFolder, want.String()[:min(16, 2*len(want))])
	again, err := fill(ctx, from, to, part, f, algorithm, want, progress)
	if again && errors.Is(err, errOther) { // what was there before may have been damaged
		_, err = fill(ctx, from, to, part, f, algorithm, want, progress)
	}
	if err != nil {
		return err
	}
	if err := holds(ctx, to, part, algorithm, want, progress); err != nil {
		return errors.Join(err, to.Remove(part))
	}
	err = settle(to, part, f.Path)
	to.Remove(part) //nolint:errcheck // a link of it may be left, or nothing
	return err
}

// fill copies a file to where it is until it is whole, from where an earlier try stopped. It
// reports whether there was one. What is of no use is not left behind.
func fill(
	ctx context.Context, from Opener, to *os.Root, part string, f *Handed, a digest.Algorithm, want digest.Value,
	progress func(int64),
) (again bool, err error) {
	out, err := to.OpenFile(part, os.O_RDWR|os.O_CREATE, 0o644)
	if err != nil {
		return false, err
	}
	defer out.Close()
	set := digest.NewSet(digest.Only(a))
	at, err := pump(ctx, out, set.Writers(), progress)
	if err != nil {
		return false, err
	}
	disk := &disk{out: out}
	copied := int64(0)
	in, err := from.OpenAt(ctx, f.Path, min(at, f.Size))
	if err == nil {
		copied, err = pump(ctx, disk.before(in), append(set.Writers(), disk), progress)
		in.Close()
	}
	failed := disk.failure()
	switch {
	case failed != nil:
		err = failed
	case err != nil && at+copied > 0 && !errors.Is(err, fs.ErrNotExist):
		return at > 0, err // what was copied is kept
	case err == nil && !bytes.Equal(set.Sums()[a], want):
		err = errOther
	case err == nil:
		err = errors.Join(out.Sync(), out.Close())
	}
	if err != nil {
		out.Close()
		to.Remove(part) //nolint:errcheck // there may be nothing to remove it from
	}
	return at > 0, err
}

// A disk is written to until that fails.
type disk struct {
	out    io.Writer
	failed atomic.Pointer[error]
}

// Write writes what it can. That it failed stops the reading.
func (d *disk) Write(p []byte) (int, error) {
	if d.failure() == nil {
		if _, err := d.out.Write(p); err != nil {
			d.failed.Store(&err)
		}
	}
	return len(p), nil
}

func (d *disk) failure() error {
	if err := d.failed.Load(); err != nil {
		return *err
	}
	return nil
}

// before returns a reader that ends where the disk fails.
func (d *disk) before(in io.Reader) io.Reader { return &guardedReader{in, d} }

type guardedReader struct {
	in io.Reader
	to *disk
}

// Read reads what is to be written.
func (r *guardedReader) Read(p []byte) (int, error) {
	if err := r.to.failure(); err != nil {
		return 0, err
	}
	return r.in.Read(p)
}

// holds reads a file from the disk, and fails where it has not the bytes that are wanted.
func holds(
	ctx context.Context, in *os.Root, name string, a digest.Algorithm, want digest.Value, progress func(int64),
) error {
	there, err := in.Open(name)
	if err != nil {
		return err
	}
	defer there.Close()
	forget(there) // so that it is read from the disk
	set := digest.NewSet(digest.Only(a))
	if _, err := pump(ctx, there, set.Writers(), progress); err != nil {
		return err
	}
	if !bytes.Equal(set.Sums()[a], want) {
		return errors.New("what is on the disk after copying is not what was written: the disk may be failing")
	}
	return nil
}

// settle gives a file its name, unless there is one of that name.
func settle(r *os.Root, part, name string) error {
	err := r.Link(part, name)
	if err == nil || errors.Is(err, fs.ErrExist) {
		return err
	}
	// A file system without links, as on sticks.
	if _, there := r.Lstat(name); there == nil {
		return fs.ErrExist
	}
	return r.Rename(part, name)
}

// pump reads to the end, and returns how much that was.
func pump(ctx context.Context, in io.Reader, out []io.Writer, progress func(int64)) (int64, error) {
	before := int64(0)
	return digest.Pump(ctx, in, out, func(total int64) {
		if progress != nil {
			progress(total - before)
			before = total
		}
	})
}

func strongest(digests map[digest.Algorithm]digest.Value) (digest.Algorithm, digest.Value) {
	var all []digest.Algorithm
	for a := range digests {
		all = append(all, a)
	}
	if len(all) == 0 {
		return digest.Unknown, nil
	}
	slices.Sort(all)
	a := digest.Strongest(all)
	return a, digests[a]
}

// Write writes a new file into a folder, and not over one that is there. One with exactly
// the content may be.
func Write(to *os.Root, name string, content []byte) error {
	if there, err := to.ReadFile(name); err == nil && bytes.Equal(there, content) {
		return nil
	}
	if dir := path.Dir(name); dir != "." {
		if err := to.MkdirAll(dir, 0o755); err != nil {
			return err
		}
	}
	f, err := to.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return err
	}
	if _, err := f.Write(content); err != nil {
		f.Close()
		return err
	}
	if err := errors.Join(f.Sync(), f.Close()); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	return nil
}
