//go:build !windows

package drive

import (
	"errors"
	"syscall"

	"polytome/internal/target"
)

// gone tells errors of a device that is no longer there.
func gone(err error) error {
	var no syscall.Errno
	if !errors.As(err, &no) {
		return nil
	}
	switch no {
	case syscall.EIO, syscall.ENODEV, syscall.ENXIO:
		return target.ErrGone
	case syscall.ENOSPC: // the disk that an image is on
		return target.ErrNoSpace
	case syscall.EROFS, syscall.EACCES, syscall.EPERM:
		return target.ErrReadOnly
	}
	return nil
}
