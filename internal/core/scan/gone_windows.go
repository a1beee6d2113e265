package scan

import (
	"errors"
	"syscall"
)

// goneErrno reports the errors of a disk or share that was taken away: ERROR_NOT_READY,
// ERROR_CRC, ERROR_DEV_NOT_EXIST, ERROR_NO_SUCH_DEVICE.
func goneErrno(err error) bool {
	for _, e := range []syscall.Errno{21, 23, 55, 433} {
		if errors.Is(err, e) {
			return true
		}
	}
	return false
}
