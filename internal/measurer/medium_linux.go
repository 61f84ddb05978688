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

// block is what places and lengths have to be a multiple of where the system's memory is
// gone past.
const block = 4096

// openPast opens a medium for reading, past the system's memory of it where that works.
func openPast(path string) (*os.File, readback.Cache, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|unix.O_DIRECT, 0)
	if err == nil {
		if _, err := unix.Pread(int(f.Fd()), alignedBuffer(block), 0); err == nil {
			return f, readback.Avoided, nil
		}
		f.Close()
	}
	// Some file systems cannot do that.
	if f, err = os.OpenFile(path, os.O_RDONLY, 0); err != nil {
		return nil, readback.NotAvoided, err
	}
	if unix.Fadvise(int(f.Fd()), 0, 0, unix.FADV_DONTNEED) == nil {
		return f, readback.Dropped, nil
	}
	return f, readback.NotAvoided, nil
}

func alignedBuffer(n int) []byte {
	raw := make([]byte, n+block)
	skip := block - int(uintptr(unsafe.Pointer(&raw[0]))%block) //nolint:gosec // only its place is asked for
	return raw[skip : skip+n]
}

// past reads a file that was opened past the system's memory: whole blocks into a buffer
// that is a multiple of them.
type past struct {
	f    *os.File
	size int64
	mu   sync.Mutex
	buf  []byte
}

func newPast(f *os.File, size int64) io.ReaderAt {
	return &past{f: f, size: size, buf: alignedBuffer(1<<20 + block)}
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
		start := at &^ (block - 1)
		want := min(int64(len(p.buf)), (at-start+int64(len(to)-done)+block-1)&^(block-1))
		n, err := unix.Pread(int(p.f.Fd()), p.buf[:want], start)
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
