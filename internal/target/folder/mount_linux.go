package folder

import (
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"

	"polytome/internal/drives"
	"polytome/internal/target"
)

// mount is what the system knows of the filesystem under a folder.
type mount struct {
	filesystem              target.Filesystem
	capacity, free, cluster int64 // bytes
	label                   string
	network                 string // the kind of network filesystem, "" for none
	syncs                   bool   // all of it can be flushed at once
}

func mountOf(dir string) (mount, error) {
	var st unix.Statfs_t
	if err := unix.Statfs(dir, &st); err != nil {
		return mount{}, err
	}
	unit := st.Frsize
	if unit == 0 {
		unit = st.Bsize
	}
	m := mount{capacity: int64(st.Blocks) * unit, free: int64(st.Bavail) * unit, cluster: unit}
	kind, source, _ := mountedKind(dir)
	if slices.Contains(networks, kind) {
		m.network = strings.TrimPrefix(kind, "fuse.")
	}
	// which would have nothing flushed, and report no error
	m.syncs = !strings.HasPrefix(kind, "fuse") && m.network == ""
	if strings.HasPrefix(kind, "fuse") {
		kind = probe(source, kind)
	}
	m.filesystem = filesystemOf(kind, int64(st.Blocks))
	if m.filesystem.Windows { // of the system's own disks, the label is no matter
		m.label = labelOf(source)
	}
	return m, nil
}

// filesLeft is how many more files the filesystem under a folder can hold, where it has a limit.
func filesLeft(dir string) (n uint64, known bool) {
	var st unix.Statfs_t
	if err := unix.Statfs(dir, &st); err != nil {
		return 0, false
	}
	return st.Ffree, st.Files > 0
}

// networks are the kinds of mounts behind which there is another computer.
var networks = []string{"cifs", "smb3", "nfs", "nfs4", "ceph", "9p", "afs", "fuse.sshfs", "fuse.davfs"}

// filesystemOf matches the kernel's name for a filesystem to the facts about it.
func filesystemOf(kind string, clusters int64) target.Filesystem {
	named := func(name string) target.Filesystem {
		f, _ := target.FilesystemNamed(name)
		return f
	}
	switch kind {
	case "vfat", "msdos":
		if clusters < 65525 { // fewer clusters than that make it FAT12 or FAT16
			return named("fat16")
		}
		return named("fat32")
	case "fat32", "exfat":
		return named(kind)
	case "ntfs", "ntfs3":
		return named("ntfs")
	case "ext2", "ext3", "ext4":
		return named("ext4")
	}
	f := target.UnknownFilesystem(kind)
	f.Holes = slices.Contains([]string{"tmpfs", "xfs", "btrfs", "overlay", "zfs", "f2fs"}, kind)
	return f
}

// mountedKind finds the mount that a folder is on in mountinfo(5), and returns
// its type and source, and the folder at which it begins.
func mountedKind(dir string) (kind, source, at string) {
	real, err := filepath.EvalSymlinks(dir)
	if err == nil {
		real, err = filepath.Abs(real)
	}
	if err != nil {
		return "unknown", "", ""
	}
	kind, best := "unknown", ""
	for _, m := range drives.Here.Mounts() {
		under := real == m.At || strings.HasPrefix(real, strings.TrimSuffix(m.At, "/")+"/")
		if under && len(m.At) >= len(best) { // a later mount covers an earlier one
			best, kind, source = m.At, m.Kind, m.Source
		}
	}
	return kind, source, best
}

// probe looks at the boot sector of what is mounted through FUSE, whose type
// name does not say what it is.
func probe(source, otherwise string) string {
	f, err := os.Open(source)
	if err != nil {
		return otherwise
	}
	defer f.Close()
	b := make([]byte, 512)
	if _, err := f.ReadAt(b, 0); err != nil {
		return otherwise
	}
	switch {
	case string(b[3:11]) == "EXFAT   ":
		return "exfat"
	case string(b[3:11]) == "NTFS    ":
		return "ntfs"
	case string(b[82:90]) == "FAT32   ":
		return "fat32"
	}
	return otherwise
}

// labelOf finds the label of the volume on a device: where udev has noted it, or in the
// boot sector of FAT32 (BS_VolLab, 11 bytes at 71).
func labelOf(device string) string {
	if label := linked("/dev/disk/by-label", device); label != "" {
		return label
	}
	f, err := os.Open(device)
	if err != nil {
		return ""
	}
	defer f.Close()
	b := make([]byte, 512)
	if _, err := f.ReadAt(b, 0); err != nil || string(b[82:90]) != "FAT32   " {
		return ""
	}
	if label := strings.TrimRight(string(b[71:82]), " "); label != "NO NAME" {
		return label
	}
	return ""
}

// linked is the name under which udev links to a device from a folder; "" for none.
func linked(dir, device string) string {
	real, err := filepath.EvalSymlinks(device)
	if err != nil || !filepath.IsAbs(device) {
		return ""
	}
	links, _ := os.ReadDir(dir)
	for _, l := range links {
		if to, err := filepath.EvalSymlinks(filepath.Join(dir, l.Name())); err == nil && to == real {
			return unhex(l.Name())
		}
	}
	return ""
}

// unhex undoes the escapes that udev writes into names: \x20 is a space.
func unhex(s string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if i+4 <= len(s) && s[i] == '\\' && s[i+1] == 'x' {
			if n, err := strconv.ParseUint(s[i+2:i+4], 16, 8); err == nil {
				b.WriteByte(byte(n))
				i += 3
				continue
			}
		}
		b.WriteByte(s[i])
	}
	return b.String()
}

// allocate asks for the file's space in advance, so that it is in as few pieces
// as the filesystem can manage. Filesystems that cannot are left to their ways.
func allocate(f *os.File, size int64) error {
	if size == 0 {
		return nil
	}
	err := unix.Fallocate(int(f.Fd()), unix.FALLOC_FL_KEEP_SIZE, 0, size)
	if err == syscall.ENOSPC {
		return err
	}
	return nil
}

// dropCache has the next read come from the medium.
func dropCache(f *os.File) {
	_ = unix.Fadvise(int(f.Fd()), 0, 0, unix.FADV_DONTNEED)
}

// readAhead has a file be read before anyone waits for it.
func readAhead(f *os.File) { _ = unix.Fadvise(int(f.Fd()), 0, 0, unix.FADV_WILLNEED) }
