//go:build !windows

package scan

import (
	"errors"
	"syscall"
)

// goneErrno reports the errors of a disk or share that was taken away.
func goneErrno(err error) bool {
	for _, e := range []syscall.Errno{syscall.EIO, syscall.ENODEV, syscall.ENXIO, syscall.ESTALE, syscall.ENOTCONN,
		syscall.EHOSTDOWN} {
		if errors.Is(err, e) {
			return true
		}
	}
	return false
}
