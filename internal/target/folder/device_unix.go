//go:build unix

package folder

import (
	"os"
	"syscall"

	"golang.org/x/sys/unix"
)

// reserved is how many bytes behind a byte of a file have space already.
func reserved(info os.FileInfo, at int64) int64 {
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return 0
	}
	return max(0, st.Blocks*512-at)
}

// Device names the filesystem that a file of this computer is on.
func Device(name string) (id uint64, ok bool) {
	var st unix.Stat_t
	if unix.Stat(name, &st) != nil {
		return 0, false
	}
	return uint64(st.Dev), true
}

func deviceOf(f *os.File) (id uint64, ok bool) {
	var st unix.Stat_t
	if unix.Fstat(int(f.Fd()), &st) != nil {
		return 0, false
	}
	return uint64(st.Dev), true
}
