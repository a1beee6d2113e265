//go:build unix

package movesources

import (
	"errors"
	"syscall"
)

// crosses reports whether a file cannot be renamed as its new path is on another disk.
func crosses(err error) bool { return errors.Is(err, syscall.EXDEV) }
