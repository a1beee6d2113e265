//go:build !linux && !windows

package optical

import "errors"

// Reached reports whether disc drives are reached on this system.
const Reached = false

// Devices are the disc drives of this computer; none are found on this system.
func Devices() []string { return nil }

// OpenDevice says that disc drives are not reached on this system.
func OpenDevice(string) (Transport, error) {
	return nil, errors.New("disc drives can be used on Linux and Windows only; image files can be used here")
}
