package measurer

import (
	"os"

	"golang.org/x/sys/unix"
)

// forget asks the system to drop what it keeps of a file in memory, so that reading it
// reads the disk.
func forget(f *os.File) {
	unix.Fadvise(int(f.Fd()), 0, 0, unix.FADV_DONTNEED) //nolint:errcheck // it is read in any case
}
