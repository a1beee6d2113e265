//go:build !linux

package scan

// turns is not known on this system.
func turns(uint64) bool { return false }
