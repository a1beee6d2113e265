package folder

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// filesLeft is not reported on this system.
func filesLeft(string) (n uint64, known bool) { return 0, false }

// allocate asks for the file's space in advance, so that it is in as few pieces as the filesystem can manage; see
// fcntl(2), F_PREALLOCATE. Filesystems that cannot are left to their ways.
func allocate(f *os.File, size int64) error {
	if size == 0 {
		return nil
	}
	err := unix.FcntlFstore(f.Fd(), unix.F_PREALLOCATE, &unix.Fstore_t{Flags: unix.F_ALLOCATEALL,
		Posmode: unix.F_PEOFPOSMODE, Length: size})
	if errors.Is(err, unix.ENOSPC) {
		return err
	}
	return nil
}

// dropCache has what is read next not be kept in memory; what is there already may be served from it.
func dropCache(f *os.File) { _, _ = unix.FcntlInt(f.Fd(), unix.F_NOCACHE, 1) }

// readAhead does nothing: the system reads ahead by itself.
func readAhead(*os.File) {}
