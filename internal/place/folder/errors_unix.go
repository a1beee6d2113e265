//go:build !windows

package folder

import (
	"errors"
	"syscall"

	"polytome/internal/place"
)

// classify finds the typed error for what the system said, or nil.
func classify(err error) error {
	var no syscall.Errno
	if !errors.As(err, &no) {
		return nil
	}
	switch no {
	case syscall.ENOSPC, syscall.EDQUOT:
		return place.ErrNoRoom
	case syscall.EROFS, syscall.EACCES, syscall.EPERM:
		return place.ErrReadOnly
	case syscall.EIO, syscall.ENODEV, syscall.ENXIO, syscall.ESTALE, syscall.ENOTCONN:
		return place.ErrGone
	}
	return nil
}
