//go:build !linux

package optical

// Devices are the disc drives of this computer; none are found on this system.
func Devices() []string { return nil }
