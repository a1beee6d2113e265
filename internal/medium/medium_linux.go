package medium

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// zero punches a hole into an image. Of a device, bytes are written, as what it makes of a request to forget them
// differs.
func zero(f *os.File, device bool, off, n int64) error {
	if device {
		return errors.ErrUnsupported
	}
	err := unix.Fallocate(int(f.Fd()), unix.FALLOC_FL_PUNCH_HOLE|unix.FALLOC_FL_KEEP_SIZE, off, n)
	if errors.Is(err, unix.EOPNOTSUPP) || errors.Is(err, unix.ENOSYS) || errors.Is(err, unix.EINVAL) {
		return errors.ErrUnsupported
	}
	if err != nil {
		return &os.PathError{Op: "zero", Path: f.Name(), Err: err}
	}
	return nil
}

// drop brings bytes to the medium and forgets them.
func drop(f *os.File, off, n int64) error {
	fd := int(f.Fd())
	if err := unix.SyncFileRange(fd, off, n,
		unix.SYNC_FILE_RANGE_WAIT_BEFORE|unix.SYNC_FILE_RANGE_WRITE|unix.SYNC_FILE_RANGE_WAIT_AFTER); err != nil &&
		!errors.Is(err, unix.EINVAL) && !errors.Is(err, unix.ESPIPE) {
		return &os.PathError{Op: "flush", Path: f.Name(), Err: err}
	}
	_ = unix.Fadvise(fd, off, n, unix.FADV_DONTNEED)
	return nil
}

// aheadUnit is how much the system is asked for at once, in bytes: of more it takes only the beginning.
const aheadUnit = 1 << 20

func ahead(f *os.File, off, n int64) {
	for ; n > 0; off, n = off+aheadUnit, n-aheadUnit {
		_ = unix.Fadvise(int(f.Fd()), off, min(n, aheadUnit), unix.FADV_WILLNEED)
	}
}

// forget has the system drop what it read of a device, and read the partition table again. Where that is not possible,
// as with a device without partitions, nothing is lost.
func forget(f *os.File) {
	_ = unix.IoctlSetInt(int(f.Fd()), unix.BLKFLSBUF, 0)
	_ = unix.IoctlSetInt(int(f.Fd()), unix.BLKRRPART, 0)
}
