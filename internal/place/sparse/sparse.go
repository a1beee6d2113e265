// Package sparse finds the holes of files, runs of zeros that take no room on
// the disk, so that they need be neither read nor written.
package sparse

import "os"

// Data returns the first run of data in f at or after off, where f has size
// bytes. What lies between off and start is zeros. Past the last data it
// returns size twice. Where the system cannot tell, the rest of the file is one run.
func Data(f *os.File, off, size int64) (start, end int64) {
	if off >= size {
		return size, size
	}
	start, end, ok := seekData(f, off, size)
	if !ok {
		return off, size
	}
	return min(start, size), min(end, size)
}
