//go:build !linux

package drives

import (
	"errors"
	"os"
)

// openExclusive opens images; devices are left alone on these systems, as nothing here can report whether they are in
// use.
func openExclusive(name string, image bool) (*os.File, error) {
	if !image {
		return nil, errors.New("devices are written to on Linux only; an image file works here, and so does a folder " +
			"of the mounted drive")
	}
	return os.OpenFile(name, os.O_RDWR, 0)
}
