package folder

import (
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"polytome/internal/drives"
	"polytome/internal/target"
)

// volumeOf is what the volume under a folder is known by; see [target.Facts].
func volumeOf(dir string) string {
	real, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return ""
	}
	if real, err = filepath.Abs(real); err != nil {
		return ""
	}
	_, source, at := mountedKind(real)
	id := identity(source)
	switch {
	case id == "" && real != at:
		return target.Fixed
	case id != "" && real != at:
		rel, err := filepath.Rel(at, real)
		if err != nil {
			return ""
		}
		return id + target.Inside + filepath.ToSlash(rel)
	}
	return id
}

// Plugged finds the folder in which a volume is mounted now: where it was, if it is still there. Where several volumes
// have its number, as copies of sectors do, none of them is taken for it.
func Plugged(volume, was string) (dir string, ok bool) {
	if was != "" && volumeOf(was) == volume {
		return was, true
	}
	mounts := drives.Here.Mounts()
	device := ""
	for i := len(mounts) - 1; i >= 0; i-- { // the newest first, which covers earlier ones
		m := &mounts[i]
		if !filepath.IsAbs(m.Source) || identity(m.Source) != volume || mountAt(mounts, m.At) != i {
			continue
		}
		if device != "" && m.Source != device {
			return "", false
		}
		if device == "" {
			device, dir = m.Source, m.At
		}
	}
	return dir, device != ""
}

// mountAt is the number of the mount that is seen at a folder.
func mountAt(mounts []drives.Mount, dir string) (n int) {
	for i := range mounts {
		if mounts[i].At == dir {
			n = i
		}
	}
	return n
}

// identity is what the volume on a device is known by: as udev has noted it, or by the serial number in its boot
// sector, in small letters and without dashes; "" where neither can be read.
func identity(device string) string {
	id := linked("/dev/disk/by-uuid", device)
	if id == "" {
		id = serial(device)
	}
	return strings.ToLower(strings.ReplaceAll(id, "-", ""))
}

// serial reads the serial number of a volume out of its boot sector: of FAT (BS_VolID, 4 bytes at 67 or 39), exFAT
// (VolumeSerialNumber, 4 bytes at 100) and NTFS (8 bytes at 72).
func serial(device string) string {
	info, err := os.Stat(device)
	if err != nil || !filepath.IsAbs(device) || info.IsDir() || info.Mode()&os.ModeCharDevice != 0 {
		return ""
	}
	f, err := os.Open(device)
	if err != nil {
		return ""
	}
	defer f.Close()
	b := make([]byte, 512)
	if _, err := f.ReadAt(b, 0); err != nil || b[510] != 0x55 || b[511] != 0xAA {
		return ""
	}
	word := func(at int) string { return fmt.Sprintf("%08x", binary.LittleEndian.Uint32(b[at:])) }
	switch {
	case string(b[3:11]) == "EXFAT   ":
		return word(100)
	case string(b[3:11]) == "NTFS    ":
		return fmt.Sprintf("%016x", binary.LittleEndian.Uint64(b[72:]))
	case string(b[82:90]) == "FAT32   ":
		return word(67)
	case string(b[54:57]) == "FAT":
		return word(39)
	}
	return ""
}
