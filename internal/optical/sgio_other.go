//go:build !linux

package optical

import "errors"

// OpenDevice says that disc drives are not reached on this system.
func OpenDevice(string) (Transport, error) {
	return nil, errors.New("disc drives can be used on Linux only; image files can be used here")
}
