package bench

import (
	"errors"
	"os"

	"golang.org/x/sys/windows"
)

// lockAt is where in the file the lock is: far behind what is written there, as a locked range
// cannot be read.
const lockAt = 1 << 20

// lock takes the lock of a file, or tells that another process has it.
func lock(f *os.File) (taken bool, err error) {
	at := &windows.Overlapped{Offset: lockAt}
	err = windows.LockFileEx(windows.Handle(f.Fd()), windows.LOCKFILE_EXCLUSIVE_LOCK|windows.LOCKFILE_FAIL_IMMEDIATELY, 0, 1, 0, at)
	if errors.Is(err, windows.ERROR_LOCK_VIOLATION) {
		return true, nil
	}
	return false, err
}
