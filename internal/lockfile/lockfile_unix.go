//go:build unix

package bench

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// lock takes the lock of a file, or tells that another process has it.
func lock(f *os.File) (taken bool, err error) {
	err = unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB)
	if errors.Is(err, unix.EWOULDBLOCK) {
		return true, nil
	}
	return false, err
}
