package writeback

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

func (f file) begin(from, n int64) {
	_ = unix.SyncFileRange(int(f.Fd()), from, n, unix.SYNC_FILE_RANGE_WRITE)
}

func (f file) await(from, n int64) error {
	err := unix.SyncFileRange(int(f.Fd()), from, n, unix.SYNC_FILE_RANGE_WAIT_BEFORE)
	if errors.Is(err, unix.EIO) || errors.Is(err, unix.ENOSPC) || errors.Is(err, unix.EDQUOT) {
		return &os.PathError{Op: "write", Path: f.Name(), Err: err}
	}
	return nil // some filesystems cannot
}
