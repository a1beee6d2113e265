package target

import (
	"errors"

	"golang.org/x/sys/windows"
)

// Classify finds the typed error for what the system said about a file or device; nil for none.
func Classify(err error) error {
	switch {
	case errors.Is(err, windows.ERROR_DISK_FULL), errors.Is(err, windows.ERROR_HANDLE_DISK_FULL):
		return ErrNoSpace
	case errors.Is(err, windows.ERROR_WRITE_PROTECT), errors.Is(err, windows.ERROR_ACCESS_DENIED):
		return ErrReadOnly
	case errors.Is(err, windows.ERROR_NOT_READY), errors.Is(err, windows.ERROR_DEV_NOT_EXIST):
		return ErrGone
	}
	return nil
}
