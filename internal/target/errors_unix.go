//go:build !windows

package target

import (
	"errors"
	"syscall"
)

// Classify finds the typed error for what the system said about a file or device; nil for none.
func Classify(err error) error {
	var no syscall.Errno
	if !errors.As(err, &no) {
		return nil
	}
	switch no {
	case syscall.ENOSPC, syscall.EDQUOT:
		return ErrNoSpace
	case syscall.EROFS, syscall.EACCES, syscall.EPERM:
		return ErrReadOnly
	case syscall.EIO, syscall.ENODEV, syscall.ENXIO, syscall.ESTALE, syscall.ENOTCONN:
		return ErrGone
	}
	return nil
}
