package filecopy

import (
	"errors"
	"io"
	"os"

	"golang.org/x/sys/unix"
)

// Range copies n bytes of src at a byte to dst at a byte. The error is errors.ErrUnsupported, and nothing was copied,
// where the system cannot do that between these files.
func Range(dst *os.File, to int64, src *os.File, from, n int64) (done int64, err error) {
	for done < n {
		at, into := from+done, to+done
		k, err := unix.CopyFileRange(int(src.Fd()), &at, int(dst.Fd()), &into, int(min(n-done, 1<<30)), 0)
		switch {
		case errors.Is(err, unix.EINTR):
			continue
		case err != nil && done == 0 && (errors.Is(err, unix.EXDEV) || errors.Is(err, unix.ENOSYS) ||
			errors.Is(err, unix.EINVAL) || errors.Is(err, unix.EOPNOTSUPP) || errors.Is(err, unix.EPERM) ||
			errors.Is(err, unix.EBADF)):
			return 0, errors.ErrUnsupported
		case err != nil:
			return done, &os.PathError{Op: "copy", Path: dst.Name(), Err: err}
		case k == 0:
			return done, io.ErrUnexpectedEOF
		}
		done += int64(k)
	}
	return done, nil
}
