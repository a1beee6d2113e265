package drives

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"

	"polytome/internal/medium"
)

var here = System{Sys: "/sys", Proc: "/proc", Dev: "/dev", Udev: "/run/udev/data"}

// permission is how to get it, in one sentence.
const permission = "Run Polytome with sudo, or add yourself to the group disk and log in again."

// openDevice opens a device; for writing, so that it cannot be mounted meanwhile, and fails when it is.
func openDevice(d *Drive, write bool) (*medium.File, error) {
	flags := os.O_RDONLY
	if write {
		flags = os.O_RDWR | unix.O_EXCL
	}
	f, err := os.OpenFile(d.Path, flags, 0)
	if errors.Is(err, unix.EBUSY) {
		return nil, errors.New("it is in use by another program or mounted")
	}
	if err != nil {
		return nil, err
	}
	return of(f)
}
