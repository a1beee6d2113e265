//go:build unix

// Package lockfile lets one process at a time do something.
package lockfile

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// Take takes the lock of an opened file, or reports that another process has it. It is let go when the file is closed,
// and with the process, however that ends.
func Take(f *os.File) (taken bool, err error) {
	err = unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB)
	if errors.Is(err, unix.EWOULDBLOCK) {
		return true, nil
	}
	return false, err
}
