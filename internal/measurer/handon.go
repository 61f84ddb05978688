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
}

// HandOn copies files from one folder to another. Each is hashed while it is copied, and
// again as it lies on the disk then, and has its name there only when both are what was
// measured. What is there already is never written over; what is there with exactly its
// bytes need not be copied again. Why is set in those that were not copied. It fails only when ctx ends.
func HandOn(ctx context.Context, from fs.FS, to *os.Root, files []Handed, progress func(bytes int64)) error {
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

func handOn(ctx context.Context, from fs.FS, to *os.Root, f *Handed, progress func(int64)) error {
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
	if dir := path.Dir(f.Path); dir != "." {
		if err := to.MkdirAll(dir, 0o755); err != nil {
			return err
		}
	}
	// Under its own name it is there only when it is whole and right.
	part := f.Path + ".part"
	out, err := to.OpenFile(part, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return err
	}
	defer to.Remove(part) //nolint:errcheck // it may be gone
	defer out.Close()
	in, err := from.Open(f.Path)
	if err != nil {
		return err
	}
	defer in.Close()
	if err := copied(ctx, in, out, algorithm, want, "it is not what was verified any more, and was not copied", progress); err != nil {
		return err
	}
	if err := errors.Join(out.Sync(), out.Close()); err != nil {
		return err
	}
	if err := holds(ctx, to, part, algorithm, want, progress); err != nil {
		return err
	}
	return settle(to, part, f.Path)
}

// holds reads a file from the disk, and fails where it has not the bytes that are wanted.
func holds(ctx context.Context, in *os.Root, name string, a digest.Algorithm, want digest.Value, progress func(int64)) error {
	there, err := in.Open(name)
	if err != nil {
		return err
	}
	defer there.Close()
	forget(there) // so that it is read from the disk
	return copied(ctx, there, io.Discard, a, want, "what is on the disk after copying is not what was written: the disk may be failing", progress)
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

func copied(ctx context.Context, in io.Reader, out io.Writer, a digest.Algorithm, want digest.Value, otherwise string, progress func(int64)) error {
	set := digest.NewSet(digest.Only(a))
	before := int64(0)
	_, err := digest.Pump(ctx, in, append(set.Writers(), out), func(total int64) {
		if progress != nil {
			progress(total - before)
			before = total
		}
	})
	if err != nil {
		return err
	}
	if !bytes.Equal(set.Sums()[a], want) {
		return errors.New(otherwise)
	}
	return nil
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
