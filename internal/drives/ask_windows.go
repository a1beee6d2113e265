package drives

import (
	"context"
	"fmt"
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
		h, err := openDevice(physical(n))
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
	if dir, err := windows.GetSystemWindowsDirectory(); err == nil && len(dir) >= 2 {
		a.Runs = append(a.Runs, dir[:2]+`\`)
	}
	return a, nil
}

// openDevice opens a device to ask it something.
func openDevice(path string) (windows.Handle, error) {
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
	if windows.GetVolumeInformation(root, &label[0], uint32(len(label)), &v.Serial, &longest, &flags, &kind[0],
		uint32(len(kind))) == nil {
		v.Label, v.Filesystem = windows.UTF16ToString(label), windows.UTF16ToString(kind)
		var mine, all, free uint64
		if windows.GetDiskFreeSpaceEx(root, &mine, &all, &free) == nil {
			v.Free, v.Size = int64(mine), int64(all)
		}
	}
	if h, err := openDevice(strings.TrimSuffix(v.Name, `\`)); err == nil {
		v.extents(control(h, ioctlVolumeDiskExtents, nil))
		_ = windows.CloseHandle(h)
	}
	return v
}

// mountedDrives are the drives that Windows shows; where it says nothing of drives, the volumes that have a letter.
func (s System) mountedDrives(ctx context.Context) ([]*Drive, error) {
	a, err := ask(ctx)
	if err != nil {
		return nil, err
	}
	out := a.drives()
	if len(out) == 0 {
		return mountedVolumes(ctx)
	}
	for _, d := range out {
		if !strings.HasPrefix(d.Path, `\\.\`) { // a volume, of which its drive is not known
			continue
		}
		asked := *d
		if d.look(ctx); d.Trouble != "" { // it takes an administrator to read what stands on it
			*d = asked
			continue
		}
		d.Uses = asked.Uses
		keepMounts(d.Volumes, asked.Volumes)
	}
	return out, nil
}

var here System

// mountedKnown is another text when a letter came or went, or another volume has it.
func (s System) mountedKnown() string {
	var b strings.Builder
	for _, v := range volumeNames() {
		fmt.Fprintf(&b, "%s %v\n", v.Name, v.At)
	}
	return b.String()
}

// keepMounts has volumes that were read know where they are mounted.
func keepMounts(read, asked []Volume) {
	for i := range read {
		for k := range asked {
			if asked[k].Start == read[i].Start {
				read[i].MountedAt = asked[k].MountedAt
			}
		}
	}
}
