package trash

import (
	"errors"
	"fmt"
	"path/filepath"
	"unsafe"

	"golang.org/x/sys/windows"
)

var fileOperation = windows.NewLazySystemDLL("shell32.dll").NewProc("SHFileOperationW")

// shFileOperation is SHFILEOPSTRUCTW; see shellapi.h.
type shFileOperation struct {
	window   windows.Handle
	function uint32
	from, to *uint16
	flags    uint16
	aborted  int32
	mappings uintptr
	title    *uint16
}

// What the shell is to do, and how: to the Recycle Bin, without a window, but for the one that warns of what would be
// deleted for good, as it is larger than the bin.
const (
	foDelete             = 3
	fofSilent            = 0x4
	fofNoConfirmation    = 0x10
	fofAllowUndo         = 0x40
	fofNoErrorUI         = 0x400
	fofWantToBeWarned    = 0x4000 // FOF_WANTNUKEWARNING
	cancelled, noSuchBin = 0x4C7, 0x75
)

// throw moves a file or folder to the Recycle Bin of its disk. Disks that can be taken away, and those of other
// computers, have none.
func throw(name string) error {
	root, err := windows.UTF16PtrFromString(filepath.VolumeName(name) + `\`)
	if err != nil {
		return err
	}
	if windows.GetDriveType(root) != windows.DRIVE_FIXED {
		return ErrNoTrash
	}
	from, err := windows.UTF16FromString(name)
	if err != nil {
		return err
	}
	from = append(from, 0) // of a list of names, which ends with an empty one
	op := shFileOperation{function: foDelete, from: &from[0],
		flags: fofSilent | fofNoConfirmation | fofAllowUndo | fofNoErrorUI | fofWantToBeWarned}
	status, _, _ := fileOperation.Call(uintptr(unsafe.Pointer(&op)))
	switch {
	case op.aborted != 0, status == cancelled, status == noSuchBin:
		return errors.New("it was not put into the Recycle Bin, and stays where it is")
	case status != 0:
		return fmt.Errorf("the Recycle Bin does not take it (%#x)", status)
	}
	return nil
}
