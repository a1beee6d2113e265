package folder

import (
	"errors"

	"golang.org/x/sys/windows"

	"polytome/internal/target"
)

// classify finds the typed error for what the system said, or nil.
func classify(err error) error {
	switch {
	case errors.Is(err, windows.ERROR_DISK_FULL), errors.Is(err, windows.ERROR_HANDLE_DISK_FULL):
		return target.ErrNoSpace
	case errors.Is(err, windows.ERROR_WRITE_PROTECT), errors.Is(err, windows.ERROR_ACCESS_DENIED):
		return target.ErrReadOnly
	case errors.Is(err, windows.ERROR_NOT_READY), errors.Is(err, windows.ERROR_DEV_NOT_EXIST):
		return target.ErrGone
	}
	return nil
}
