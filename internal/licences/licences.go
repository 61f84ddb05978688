// Package licences holds the licences of everything that the programs are made of. They are
// collected when the programs are built, by “make build”.
package licences

import (
	"embed"
	"errors"
	"io/fs"
)

//go:embed all:collected
var collected embed.FS

// ErrNotCollected reports that a program was built without “make build”.
var ErrNotCollected = errors.New("this program was built without “make build”, which collects the licences")

// Text returns the licences, each below the name and version of what it is for, or
// [ErrNotCollected].
func Text() (string, error) {
	text, err := collected.ReadFile("collected/licences.txt")
	if errors.Is(err, fs.ErrNotExist) {
		return "", ErrNotCollected
	}
	return string(text), err
}
