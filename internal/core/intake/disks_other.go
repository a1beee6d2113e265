//go:build !linux

package intake

// turns is not known on this system.
func turns(uint64) bool { return false }
