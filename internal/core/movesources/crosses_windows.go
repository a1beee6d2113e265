package movesources

import (
	"errors"

	"golang.org/x/sys/windows"
)

// crosses reports whether a file cannot be renamed as its new path is on another disk.
func crosses(err error) bool { return errors.Is(err, windows.ERROR_NOT_SAME_DEVICE) }
