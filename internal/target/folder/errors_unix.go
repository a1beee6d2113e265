//go:build !windows

package folder

import (
	"errors"
	"syscall"

	"polytome/internal/target"
)

// classify finds the typed error for what the system said, or nil.
func classify(err error) error {
	var no syscall.Errno
	if !errors.As(err, &no) {
		return nil
	}
	switch no {
	case syscall.ENOSPC, syscall.EDQUOT:
		return target.ErrNoSpace
	case syscall.EROFS, syscall.EACCES, syscall.EPERM:
		return target.ErrReadOnly
	case syscall.EIO, syscall.ENODEV, syscall.ENXIO, syscall.ESTALE, syscall.ENOTCONN:
		return target.ErrGone
	}
	return nil
}
