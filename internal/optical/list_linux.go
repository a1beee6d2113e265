package optical

import (
	"path/filepath"
	"slices"
)

// Devices are the disc drives of this computer, as the system names them.
func Devices() []string {
	all, _ := filepath.Glob("/sys/class/block/sr*") // the pattern is sound
	for i := range all {
		all[i] = filepath.Join("/dev", filepath.Base(all[i]))
	}
	slices.Sort(all)
	return all
}
