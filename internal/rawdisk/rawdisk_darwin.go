package rawdisk

import (
	"errors"
	"os"
	"strings"

	"golang.org/x/sys/unix"
)

// The controls of disks; see sys/disk.h.
const (
	blockSize  = 0x40046418 // DKIOCGETBLOCKSIZE, 32 bits
	blockCount = 0x40086419 // DKIOCGETBLOCKCOUNT, 64 bits
)

// raw is the device by which a disk is reached past the system's memory: /dev/rdisk2 for /dev/disk2.
func raw(path string) string {
	if rest, ok := strings.CutPrefix(path, "/dev/disk"); ok {
		return "/dev/rdisk" + rest
	}
	return path
}

// Open opens a disk such as /dev/disk2. One of which something is mounted is not opened for writing: [ErrBusy].
func Open(path string, write bool, _ []string) (*Disk, error) {
	flags := os.O_RDONLY
	if write {
		flags = os.O_RDWR | unix.O_EXLOCK | unix.O_NONBLOCK
	}
	f, err := os.OpenFile(raw(path), flags, 0)
	if errors.Is(err, unix.EBUSY) || errors.Is(err, unix.EWOULDBLOCK) {
		return nil, ErrBusy
	}
	if err != nil {
		return nil, err
	}
	d := &Disk{readOnly: !write, sync: f.Sync, close: f.Close}
	d.dev, d.sector = f, 512
	if n, err := unix.IoctlGetInt(int(f.Fd()), blockSize); err == nil && uint32(n) >= 512 && uint32(n) <= boundary {
		d.sector = int64(uint32(n))
	}
	if n, err := unix.IoctlGetInt(int(f.Fd()), blockCount); err == nil && n > 0 {
		d.size = int64(n) * d.sector
	} else {
		d.size = end(f, d.sector)
	}
	return d, nil
}
