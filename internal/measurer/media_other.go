//go:build !linux

package measurer

import (
	"errors"

	"endeixis/core/readback"
)

// Media lists the media of this machine, where that can be told.
func Media(string) ([]readback.Medium, error) {
	return nil, errors.New("media cannot be listed on this system")
}
