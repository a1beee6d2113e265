package drives

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"golang.org/x/sys/windows"
)

// The controls that are asked with; see winioctl.h.
const (
	ioctlStorageQueryProperty = 0x2D1400
	ioctlDiskGeometryEx       = 0x700A0
	ioctlDiskLayoutEx         = 0x70050
	ioctlDiskIsWritable       = 0x70024
	ioctlVolumeDiskExtents    = 0x560000
)

// mostDisks is how many numbers of physical drives are tried.
const mostDisks = 64

// ask asks Windows which drives and volumes there are. No right is needed for that: devices are opened for neither
// reading nor writing. A card reader without a card is no reason for a window that asks for one.
func ask(ctx context.Context) (a answers, err error) {
	before := windows.SetErrorMode(windows.SEM_FAILCRITICALERRORS)
	defer windows.SetErrorMode(before)
	for n := range mostDisks {
		if ctx.Err() != nil {
			return a, ctx.Err()
		}
		h, err := openAsked(physical(n))
		if err != nil {
			continue
		}
		x := diskAnswer{Number: n}
		// a STORAGE_PROPERTY_QUERY of zeros is the standard query for StorageDeviceProperty
		x.descriptor(control(h, ioctlStorageQueryProperty, make([]byte, 12)))
		x.geometry(control(h, ioctlDiskGeometryEx, nil))
		x.layout(control(h, ioctlDiskLayoutEx, nil))
		var got uint32
		err = windows.DeviceIoControl(h, ioctlDiskIsWritable, nil, 0, nil, 0, &got, nil)
		x.ReadOnly = err == windows.ERROR_WRITE_PROTECT //nolint:errorlint // a number of the system's
		_ = windows.CloseHandle(h)
		a.Disks = append(a.Disks, x)
	}
	a.Volumes = volumes()
	a.Volumes = append(a.Volumes, letters(a.Volumes)...)
	if dir, err := windows.GetSystemWindowsDirectory(); err == nil && len(dir) >= 2 {
		a.Runs = append(a.Runs, dir[:2]+`\`)
	}
	return a, nil
}

// openAsked opens a device to ask it something.
func openAsked(path string) (windows.Handle, error) {
	name, err := windows.UTF16PtrFromString(path)
	if err != nil {
		return 0, err
	}
	return windows.CreateFile(
		name,
		0,
		windows.FILE_SHARE_READ|windows.FILE_SHARE_WRITE,
		nil,
		windows.OPEN_EXISTING,
		0,
		0,
	)
}

// control is the answer to a control; nil for none.
func control(h windows.Handle, code uint32, in []byte) []byte {
	out := make([]byte, 64<<10)
	var first *byte
	if len(in) > 0 {
		first = &in[0]
	}
	var got uint32
	err := windows.DeviceIoControl(h, code, first, uint32(len(in)), &out[0], uint32(len(out)), &got, nil)
	if err != nil {
		return nil
	}
	return out[:got]
}

// volumes are all volumes, mounted or not.
func volumes() (out []volumeAnswer) {
	for _, v := range volumeNames() {
		out = append(out, askVolume(v))
	}
	return out
}

// letters are the disks with a letter that are no volume of those, such as one that a program provides.
func letters(of []volumeAnswer) (out []volumeAnswer) {
	mask, err := windows.GetLogicalDrives()
	if err != nil {
		return nil
	}
	for n := range 26 {
		letter := string(rune('A'+n)) + ":"
		root, err := windows.UTF16PtrFromString(letter + `\`)
		if err != nil || mask>>n&1 == 0 || slices.ContainsFunc(of, func(v volumeAnswer) bool {
			return slices.Contains(v.At, letter+`\`)
		}) {
			continue
		}
		if kind := windows.GetDriveType(root); kind == windows.DRIVE_FIXED || kind == windows.DRIVE_REMOVABLE {
			out = append(out, askLetter(letter))
		}
	}
	return out
}

// volumeNames are the names of all volumes, with where they are mounted. Nothing of them is read.
func volumeNames() (out []volumeAnswer) {
	name := make([]uint16, windows.MAX_PATH+1)
	h, err := windows.FindFirstVolume(&name[0], uint32(len(name)))
	if err != nil {
		return nil
	}
	defer func() { _ = windows.FindVolumeClose(h) }()
	for {
		v := volumeAnswer{Name: windows.UTF16ToString(name), Free: -1}
		v.At = mountedAt(&name[0])
		out = append(out, v)
		if windows.FindNextVolume(h, &name[0], uint32(len(name))) != nil {
			return out
		}
	}
}

// mountedAt are the letters and folders of a volume.
func mountedAt(root *uint16) (at []string) {
	paths := make([]uint16, 4096)
	var n uint32
	if windows.GetVolumePathNamesForVolumeName(root, &paths[0], uint32(len(paths)), &n) != nil {
		return nil
	}
	for rest := paths[:n]; len(rest) > 0 && rest[0] != 0; {
		one := windows.UTF16ToString(rest)
		at = append(at, one)
		rest = rest[min(len(rest), len(windows.StringToUTF16(one))):]
	}
	return at
}

// askVolume adds what stands on a volume.
func askVolume(v volumeAnswer) volumeAnswer {
	root, err := windows.UTF16PtrFromString(v.Name)
	if err != nil {
		return v
	}
	label, kind := make([]uint16, windows.MAX_PATH+1), make([]uint16, windows.MAX_PATH+1)
	var longest, flags uint32
	err = windows.GetVolumeInformation(root, &label[0], uint32(len(label)), &v.Serial, &longest, &flags, &kind[0],
		uint32(len(kind)))
	v.Raw = errors.Is(err, windows.ERROR_UNRECOGNIZED_VOLUME)
	if err == nil {
		v.Label, v.Filesystem = windows.UTF16ToString(label), windows.UTF16ToString(kind)
		var mine, all, free uint64
		if windows.GetDiskFreeSpaceEx(root, &mine, &all, &free) == nil {
			v.Free, v.Size = int64(mine), int64(all)
		}
	}
	for _, at := range v.At {
		_, err := os.Lstat(at + "pagefile.sys")
		v.Paging = v.Paging || err == nil
	}
	if h, err := openAsked(strings.TrimSuffix(v.Name, `\`)); err == nil {
		v.extents(control(h, ioctlVolumeDiskExtents, nil))
		_ = windows.CloseHandle(h)
	}
	return v
}

var here = System{calls: windowsCalls{ask, askLetter, known}}

// permission is how to get it, in one sentence.
const permission = "Start Polytome as administrator."

// askLetter is what is known of the volume that has a letter.
func askLetter(letter string) volumeAnswer {
	v := volumeAnswer{Name: `\\.\` + letter + `\`, Free: -1}
	root, err := windows.UTF16PtrFromString(letter + `\`)
	if err == nil && windows.GetDriveType(root) != windows.DRIVE_NO_ROOT_DIR {
		v.At = []string{letter + `\`}
	}
	return askVolume(v)
}

// known is another text when a letter came or went, or another volume has it.
func known() string {
	var b strings.Builder
	for _, v := range volumeNames() {
		fmt.Fprintf(&b, "%s %v\n", v.Name, v.At)
	}
	return b.String()
}
