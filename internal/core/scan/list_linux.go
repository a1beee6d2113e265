package scan

import (
	"os"
	"syscall"

	"golang.org/x/sys/unix"
)

// list reads a folder's entries with what is known of them, sorted by name. Entries that
// vanish meanwhile are left out.
func list(dir string) ([]item, error) {
	f, err := os.Open(dir)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	names, err := f.Readdirnames(-1)
	out := make([]item, 0, len(names))
	var st unix.Stat_t
	fd := int(f.Fd())
	for _, name := range names {
		if unix.Fstatat(fd, name, &st, unix.AT_SYMLINK_NOFOLLOW) != nil {
			continue
		}
		it := item{name: name, size: st.Size, modified: st.Mtim.Sec*1e9 + st.Mtim.Nsec, inode: st.Ino,
			device: uint64(st.Dev)}
		switch st.Mode & unix.S_IFMT {
		case unix.S_IFREG:
			it.kind = isFile
		case unix.S_IFDIR:
			it.kind = isFolder
		case unix.S_IFLNK:
			it.kind = isLink
		}
		out = append(out, it)
	}
	sortItems(out)
	return out, err
}

// identity tells a file or folder from others, whatever path leads to it.
func identity(info os.FileInfo) (device, inode uint64) {
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return uint64(st.Dev), st.Ino
	}
	return 0, 0
}
