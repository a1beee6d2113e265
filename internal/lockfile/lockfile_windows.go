// Package lockfile lets one process at a time do something.
package lockfile

import (
	"errors"
	"os"

	"golang.org/x/sys/windows"
)

// lockAt is where in the file the lock is: far behind what any file has, as a locked range
// cannot be read.
const lockAt = 1 << 62

// Take takes the lock of an opened file, or reports that another process has it. It is let go when the file is closed,
// and with the process, however that ends.
func Take(f *os.File) (taken bool, err error) {
	at := &windows.Overlapped{OffsetHigh: lockAt >> 32}
	err = windows.LockFileEx(windows.Handle(f.Fd()), windows.LOCKFILE_EXCLUSIVE_LOCK|windows.LOCKFILE_FAIL_IMMEDIATELY,
		0, 1, 0, at)
	if errors.Is(err, windows.ERROR_LOCK_VIOLATION) {
		return true, nil
	}
	return false, err
}
