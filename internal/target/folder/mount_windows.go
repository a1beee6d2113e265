package folder

import (
	"fmt"
	"path/filepath"
	"strings"
	"unsafe"

	"golang.org/x/sys/windows"

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

// volume is what GetVolumeInformationW and GetDriveTypeW say of one.
type volume struct {
	root   string // with a backslash at its end, such as E:\
	serial uint32
	label  string
	kind   string // of the filesystem, such as FAT32
	remote bool
}

// longest is how many characters a path has at most, with the zero behind it.
const longest = 1 << 15

// volumeAt finds the volume that a folder is on: by its letter, or by the folder in which it is mounted.
func volumeAt(dir string) (v volume, full string, err error) {
	if full, err = filepath.Abs(dir); err != nil {
		return v, "", err
	}
	if real, err := filepath.EvalSymlinks(full); err == nil {
		full = real
	}
	name, err := windows.UTF16PtrFromString(full)
	if err != nil {
		return v, "", err
	}
	root := make([]uint16, longest)
	if err := windows.GetVolumePathName(name, &root[0], longest); err != nil {
		return v, "", fmt.Errorf("finding the volume of %s: %w", dir, err)
	}
	v, err = volumeNamed(windows.UTF16ToString(root))
	return v, full, err
}

// volumeNamed asks for what is known of a volume by its root.
func volumeNamed(root string) (v volume, err error) {
	if !strings.HasSuffix(root, `\`) {
		root += `\`
	}
	v.root = root
	name, err := windows.UTF16PtrFromString(root)
	if err != nil {
		return v, err
	}
	v.remote = windows.GetDriveType(name) == windows.DRIVE_REMOTE
	label, kind := make([]uint16, windows.MAX_PATH+1), make([]uint16, windows.MAX_PATH+1)
	var longestName, flags uint32
	if err := windows.GetVolumeInformation(name, &label[0], uint32(len(label)), &v.serial, &longestName, &flags,
		&kind[0], uint32(len(kind))); err != nil {
		return v, fmt.Errorf("asking for the volume %s: %w", root, err)
	}
	v.label, v.kind = windows.UTF16ToString(label), windows.UTF16ToString(kind)
	return v, nil
}

// getDiskFreeSpace tells how large clusters are, which no call of the library does.
var getDiskFreeSpace = windows.NewLazySystemDLL("kernel32.dll").NewProc("GetDiskFreeSpaceW")

// clusterOf is how many bytes a cluster of a volume has, 0 where that is not reported.
func clusterOf(root string) int64 {
	name, err := windows.UTF16PtrFromString(root)
	if err != nil {
		return 0
	}
	var sectors, bytes, free, all uint32
	ok, _, _ := getDiskFreeSpace.Call(uintptr(unsafe.Pointer(name)), uintptr(unsafe.Pointer(&sectors)),
		uintptr(unsafe.Pointer(&bytes)), uintptr(unsafe.Pointer(&free)), uintptr(unsafe.Pointer(&all)))
	if ok == 0 {
		return 0
	}
	return int64(sectors) * int64(bytes)
}

func mountOf(dir string) (mount, error) {
	v, _, err := volumeAt(dir)
	if err != nil {
		return mount{}, err
	}
	name, err := windows.UTF16PtrFromString(v.root)
	if err != nil {
		return mount{}, err
	}
	var mine, all, free uint64
	if err := windows.GetDiskFreeSpaceEx(name, &mine, &all, &free); err != nil {
		return mount{}, fmt.Errorf("asking how much is free on %s: %w", v.root, err)
	}
	m := mount{capacity: int64(all), free: int64(mine), label: v.label, filesystem: filesystemOf(v.kind)}
	if m.cluster = clusterOf(v.root); m.cluster == 0 {
		m.cluster = m.filesystem.Cluster(m.capacity)
	}
	if v.remote {
		m.network = "smb"
	}
	return m, nil
}

// filesystemOf matches the system's name for a filesystem to the facts about it.
func filesystemOf(kind string) target.Filesystem {
	name := strings.ToLower(kind)
	if name == "fat" { // FAT12 and FAT16 have one name here
		name = "fat16"
	}
	if f, err := target.FilesystemNamed(name); err == nil {
		return f
	}
	return target.UnknownFilesystem(kind)
}

// volumeOf is what the volume under a folder is known by; see [target.Facts].
func volumeOf(dir string) string {
	v, full, err := volumeAt(dir)
	switch {
	case err != nil:
		return ""
	case v.remote || v.serial == 0:
		return target.Fixed
	}
	id := fmt.Sprintf("%08x", v.serial)
	rel, err := filepath.Rel(v.root, full)
	if err != nil {
		return ""
	}
	if rel == "." {
		return id
	}
	return id + target.Inside + filepath.ToSlash(rel)
}

// Plugged finds the letter under which a volume is mounted now: where it was, if it is still there. Where several have
// its number, as copies of sectors do, none of them is taken for it.
func Plugged(id, was string) (dir string, ok bool) {
	if was != "" && volumeOf(was) == id {
		return was, true
	}
	letters, err := windows.GetLogicalDrives()
	if err != nil {
		return "", false
	}
	// a card reader without a card is no reason for a window that asks for one
	before := windows.SetErrorMode(windows.SEM_FAILCRITICALERRORS)
	defer windows.SetErrorMode(before)
	for n := range 26 {
		if letters&(1<<n) == 0 {
			continue
		}
		v, err := volumeNamed(string(rune('A'+n)) + `:\`)
		if err == nil && !v.remote && v.serial != 0 && fmt.Sprintf("%08x", v.serial) == id {
			if ok {
				return "", false
			}
			dir, ok = v.root, true
		}
	}
	return dir, ok
}
