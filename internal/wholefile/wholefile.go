// Package wholefile writes small files that are read again after a crash.
package wholefile

import (
	"errors"
	"os"
	"path/filepath"
)

// Write writes a file that only its owner may read, so that afterwards there is the old one or
// the new one, whatever happens, and on the disk.
func Write(path, text string) error {
	f, err := os.CreateTemp(filepath.Dir(path), "."+filepath.Base(path)+".*")
	if err != nil {
		return err
	}
	_, err = f.WriteString(text)
	if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
		err = os.Rename(f.Name(), path)
	}
	if err != nil {
		os.Remove(f.Name())
		return err
	}
	return SyncFolder(filepath.Dir(path))
}

// SyncFolder has the names in a folder written to its disk.
func SyncFolder(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}
