package optical

import (
	"errors"
	"fmt"
	"os"
	"runtime"
	"time"
	"unsafe"

	"golang.org/x/sys/windows"
)

// scsiPassThroughDirect is the control with which Windows takes SCSI commands (ntddscsi.h).
const scsiPassThroughDirect = 0x4D014

// Directions of data (ntddscsi.h).
const (
	dataOut = iota
	dataIn
	dataNone
)

const statusCheck = 0x02

// passThrough is SCSI_PASS_THROUGH_DIRECT, with room for sense data behind it.
type passThrough struct {
	length                uint16
	status                uint8
	path, target, unit    uint8
	cdbLength, senseBytes uint8
	direction             uint8
	dataLength            uint32
	seconds               uint32
	data                  unsafe.Pointer
	senseAt               uint32
	cdb                   [16]byte
	_                     [4]byte
	sense                 [64]byte
}

// OpenDevice opens a drive by its letter, such as E: or \\.\E:. It works also while there is no disc in it.
func OpenDevice(path string) (Transport, error) {
	if len(path) >= 2 && path[1] == ':' {
		path = `\\.\` + path[:2]
	}
	name, err := windows.UTF16PtrFromString(path)
	if err != nil {
		return nil, err
	}
	h, err := windows.CreateFile(name, windows.GENERIC_READ|windows.GENERIC_WRITE,
		windows.FILE_SHARE_READ|windows.FILE_SHARE_WRITE, nil, windows.OPEN_EXISTING, 0, 0)
	if errors.Is(err, os.ErrPermission) {
		return nil, fmt.Errorf("%s may not be opened: start Polytome as administrator: %w", path, err)
	}
	if err != nil {
		return nil, &os.PathError{Op: "open", Path: path, Err: err}
	}
	return &device{os.NewFile(uintptr(h), path)}, nil
}

func (d *device) do(c Command) (int, error) {
	var p passThrough
	p.length = uint16(unsafe.Offsetof(p.sense))
	p.senseAt, p.senseBytes = uint32(unsafe.Offsetof(p.sense)), uint8(len(p.sense))
	p.cdbLength = uint8(copy(p.cdb[:], c.CDB))
	p.direction, p.seconds = dataNone, uint32(max(1, (c.Timeout+time.Second-1)/time.Second))
	switch {
	case len(c.In) > 0:
		p.direction, p.data, p.dataLength = dataIn, unsafe.Pointer(&c.In[0]), uint32(len(c.In))
	case len(c.Out) > 0:
		p.direction, p.data, p.dataLength = dataOut, unsafe.Pointer(&c.Out[0]), uint32(len(c.Out))
	}
	var got uint32
	at, n := (*byte)(unsafe.Pointer(&p)), uint32(unsafe.Sizeof(p))
	err := windows.DeviceIoControl(windows.Handle(d.f.Fd()), scsiPassThroughDirect, at, n, at, n, &got, nil)
	runtime.KeepAlive(c)
	if errors.Is(err, windows.ERROR_SEM_TIMEOUT) {
		return 0, fmt.Errorf("%s: the drive did not answer within %v", d.f.Name(), c.Timeout)
	}
	if err != nil {
		return 0, fmt.Errorf("%s: %w", d.f.Name(), err)
	}
	sent := 0
	if p.direction == dataIn {
		sent = int(min(p.dataLength, uint32(len(c.In))))
	}
	if s, ok := ParseSense(p.sense[:]); ok && (p.status == statusCheck || s.Key > Recovered) {
		return sent, s
	}
	if p.status != 0 {
		return 0, fmt.Errorf("%s: the command failed (status %X)", d.f.Name(), p.status)
	}
	return sent, nil
}

// Devices are the disc drives of this computer, by their letters.
func Devices() (all []string) {
	mask, err := windows.GetLogicalDrives()
	if err != nil {
		return nil
	}
	for n := range 26 {
		letter := string(rune('A'+n)) + ":"
		root, err := windows.UTF16PtrFromString(letter + `\`)
		if err == nil && mask>>n&1 == 1 && windows.GetDriveType(root) == windows.DRIVE_CDROM {
			all = append(all, `\\.\`+letter)
		}
	}
	return all
}
