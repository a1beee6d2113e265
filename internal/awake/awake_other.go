//go:build !linux

package awake

// inhibit does nothing on this system.
func inhibit(string) func() { return nil }
