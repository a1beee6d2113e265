package drives

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// openExclusive opens a device so that it cannot be mounted meanwhile, and fails when it is; an image, so that no other
// Polytome opens it.
func openExclusive(name string, image bool) (*os.File, error) {
	flags := os.O_RDWR
	if !image {
		flags |= unix.O_EXCL
	}
	f, err := os.OpenFile(name, flags, 0)
	switch {
	case errors.Is(err, unix.EBUSY):
		return nil, errors.New("it is in use by another program or mounted")
	case err != nil:
		return nil, err
	}
	if image {
		if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
			_ = f.Close()
			if errors.Is(err, unix.EWOULDBLOCK) {
				return nil, errors.New("another Polytome is writing to it")
			}
			return nil, err
		}
	}
	return f, nil
}
