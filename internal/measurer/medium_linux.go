package measurer

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"unsafe"

	"golang.org/x/sys/unix"

	"endeixis/core/readback"
)

// alignment is what the places of buffers have to be a multiple of where the system's memory
// is gone past, whatever the medium is.
const alignment = 4096

// openPast opens a medium for reading, past the system's memory of it where that works, and
// says in which blocks it is read.
func openPast(path string) (*os.File, readback.Cache, int64, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|unix.O_DIRECT, 0)
	if err == nil {
		if block := blockOf(f); block > 0 {
			return f, readback.Avoided, block, nil
		}
		f.Close()
	}
	// Some file systems cannot do that.
	if f, err = os.OpenFile(path, os.O_RDONLY, 0); err != nil {
		return nil, readback.NotAvoided, 0, err
	}
	block, _ := unix.IoctlGetInt(int(f.Fd()), unix.BLKSSZGET)
	if unix.Fadvise(int(f.Fd()), 0, 0, unix.FADV_DONTNEED) == nil {
		return f, readback.Dropped, int64(block), nil
	}
	return f, readback.NotAvoided, int64(block), nil
}

// blockOf returns the size of the blocks in which a file is read that was opened past the
// system's memory: a device's own, or the smallest that its file system takes. It is 0 where
// none is.
func blockOf(f *os.File) int64 {
	if block, err := unix.IoctlGetInt(int(f.Fd()), unix.BLKSSZGET); err == nil && block > 0 {
		return int64(block)
	}
	for _, block := range []int{512, alignment} {
		if _, err := unix.Pread(int(f.Fd()), alignedBuffer(block), 0); err == nil {
			return int64(block)
		}
	}
	return 0
}

func alignedBuffer(n int) []byte {
	raw := make([]byte, n+alignment)
	skip := alignment - int(uintptr(unsafe.Pointer(&raw[0]))%alignment) //nolint:gosec // only its place is asked for
	return raw[skip : skip+n]
}

// past reads a file that was opened past the system's memory: whole blocks into a buffer
// that is a multiple of them. What the system refuses to read so is read as usual.
type past struct {
	f     *os.File
	size  int64
	block int64
	mu    sync.Mutex
	buf   []byte
	// plain is the file as it is usually opened, once that was needed.
	plain *os.File
}

func newPast(f *os.File, size, block int64) readerAtCloser {
	return &past{f: f, size: size, block: block, buf: alignedBuffer(1<<20 + alignment)}
}

// ReadAt implements [io.ReaderAt]. A medium that is gone is a [*readback.GoneError].
func (p *past) ReadAt(to []byte, off int64) (int, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	done := 0
	for done < len(to) {
		at := off + int64(done)
		if at >= p.size {
			return done, io.EOF
		}
		start := at / p.block * p.block
		end := (off + int64(len(to)) + p.block - 1) / p.block * p.block
		want := min(int64(len(p.buf))/p.block*p.block, end-start)
		n, err := unix.Pread(int(p.f.Fd()), p.buf[:want], start)
		if errors.Is(err, unix.EINVAL) {
			n, err = p.usual(p.buf[:want], start)
		}
		if err != nil {
			return done, goneOr(&os.PathError{Op: "read", Path: p.f.Name(), Err: err})
		}
		got := copy(to[done:], p.buf[min(at-start, int64(n)):n])
		if got == 0 {
			return done, io.EOF
		}
		done += got
	}
	return done, nil
}

// usual reads without going past the system's memory, which some media refuse in places,
// such as at an end that is in no whole block.
func (p *past) usual(to []byte, off int64) (int, error) {
	if p.plain == nil {
		plain, err := os.Open(p.f.Name())
		if err != nil {
			return 0, err
		}
		p.plain = plain
	}
	return unix.Pread(int(p.plain.Fd()), to, off)
}

// Close closes the file, and what was opened beside it.
func (p *past) Close() error {
	if p.plain == nil {
		return p.f.Close()
	}
	return errors.Join(p.plain.Close(), p.f.Close())
}

// goneOr tells a medium that is gone from one that cannot be read in a place.
func goneOr(err error) error {
	for _, gone := range []error{unix.ENODEV, unix.ENXIO, unix.ENOMEDIUM, unix.ESTALE, unix.ESHUTDOWN} {
		if errors.Is(err, gone) {
			return &readback.GoneError{Err: err}
		}
	}
	return err
}

// identity returns what the system knows of a device.
func identity(path string) (model, serial string) {
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return "", ""
	}
	dir, err := filepath.EvalSymlinks(filepath.Join("/sys/class/block", filepath.Base(real)))
	if err != nil {
		return "", ""
	}
	return identityIn(dir)
}

// identityIn returns what the system knows of a device by its folder.
func identityIn(dir string) (model, serial string) {
	if _, err := os.Stat(filepath.Join(dir, "partition")); err == nil {
		dir = filepath.Dir(dir)
	}
	read := func(names ...string) string {
		for _, name := range names {
			if b, err := os.ReadFile(filepath.Join(dir, name)); err == nil && len(b) < 4096 {
				if text := strings.TrimSpace(string(b)); text != "" {
					return text
				}
			}
		}
		return ""
	}
	model = strings.TrimSpace(read("device/vendor") + " " + read("device/model", "device/name"))
	return model, read("device/serial", "serial", "device/wwid", "wwid")
}
