package folder

import (
	"errors"
	"os"
	"unsafe"

	"golang.org/x/sys/windows"

	"polytome/internal/rawdisk"
)

// filesLeft is not reported on this system.
func filesLeft(string) (n uint64, known bool) { return 0, false }

// allocate asks for the file's space in advance, so that it is in as few pieces as the filesystem can manage
// (FILE_ALLOCATION_INFO). Filesystems that cannot are left to their ways.
func allocate(f *os.File, size int64) error {
	if size == 0 {
		return nil
	}
	err := windows.SetFileInformationByHandle(windows.Handle(f.Fd()), windows.FileAllocationInfo,
		(*byte)(unsafe.Pointer(&size)), uint32(unsafe.Sizeof(size)))
	if errors.Is(err, windows.ERROR_DISK_FULL) {
		return err
	}
	return nil
}

// dropCache has the next read come from the medium.
func dropCache(f *os.File) { rawdisk.Forget(f.Name()) }

// reserved is not known here.
func reserved(os.FileInfo, int64) int64 { return 0 }

// Device names the volume that a file of this computer is on, by its serial number.
func Device(name string) (id uint64, ok bool) {
	f, err := os.Open(name)
	if err != nil {
		return 0, false
	}
	defer f.Close() // which was asked only
	return deviceOf(f)
}

func deviceOf(f *os.File) (id uint64, ok bool) {
	var info windows.ByHandleFileInformation
	if windows.GetFileInformationByHandle(windows.Handle(f.Fd()), &info) != nil {
		return 0, false
	}
	return uint64(info.VolumeSerialNumber), true
}

// readAhead does nothing: the system reads ahead by itself.
func readAhead(*os.File) {}
