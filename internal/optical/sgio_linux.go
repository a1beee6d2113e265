package optical

import (
	"errors"
	"fmt"
	"os"
	"runtime"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// sgIO is the request for which Linux takes SCSI commands (linux/sg.h).
const sgIO = 0x2285

// Directions of data, and how the host may have failed (linux/sg.h).
const (
	sgNone   = -1
	sgToDev  = -2
	sgToHost = -3

	hostTimedOut = 0x03
	statusCheck  = 0x02
)

// sgHeader is struct sg_io_hdr.
type sgHeader struct {
	interfaceID    int32
	direction      int32
	cmdLen, mxSb   uint8
	iovecs         uint16
	length         uint32
	data           unsafe.Pointer
	cmd            unsafe.Pointer
	sense          unsafe.Pointer
	timeout, flags uint32
	packID         int32
	user           unsafe.Pointer
	status, masked uint8
	msg, senseLen  uint8
	host, driver   uint16
	residual       int32
	duration, info uint32
}

// OpenDevice opens a drive by the path of its device, such as /dev/sr0. It works also while there is no disc in it.
func OpenDevice(path string) (Transport, error) {
	f, err := os.OpenFile(path, os.O_RDWR|unix.O_NONBLOCK, 0)
	if errors.Is(err, os.ErrPermission) {
		return nil, fmt.Errorf("%s may not be opened: join the group cdrom, or run with sudo: %w", path, err)
	}
	if err != nil {
		return nil, err
	}
	return &device{f}, nil
}

func (d *device) do(c Command) (int, error) {
	sense := make([]byte, 64)
	h := sgHeader{interfaceID: 'S', direction: sgNone, cmdLen: uint8(len(c.CDB)), mxSb: uint8(len(sense)),
		cmd: unsafe.Pointer(&c.CDB[0]), sense: unsafe.Pointer(&sense[0]),
		timeout: uint32(c.Timeout / time.Millisecond)}
	switch {
	case len(c.In) > 0:
		h.direction, h.data, h.length = sgToHost, unsafe.Pointer(&c.In[0]), uint32(len(c.In))
	case len(c.Out) > 0:
		h.direction, h.data, h.length = sgToDev, unsafe.Pointer(&c.Out[0]), uint32(len(c.Out))
	}
	_, _, errno := unix.Syscall(unix.SYS_IOCTL, d.f.Fd(), sgIO, uintptr(unsafe.Pointer(&h)))
	runtime.KeepAlive(c)
	runtime.KeepAlive(sense)
	if errno != 0 {
		return 0, fmt.Errorf("%s: %w", d.f.Name(), errno)
	}
	n := max(0, int(h.length)-int(h.residual))
	if h.direction != sgToHost {
		n = 0
	}
	if s, ok := ParseSense(sense[:h.senseLen]); ok && (h.status == statusCheck || s.Key > Recovered) {
		return n, s
	}
	switch {
	case h.host == hostTimedOut:
		return 0, fmt.Errorf("%s: the drive did not answer within %v", d.f.Name(), c.Timeout)
	case h.host != 0 || h.status != 0:
		return 0, fmt.Errorf("%s: the command failed (status %X, host %X)", d.f.Name(), h.status, h.host)
	}
	return n, nil
}
