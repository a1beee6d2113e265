package sparse

import (
	"encoding/binary"
	"errors"
	"os"

	"golang.org/x/sys/windows"
)

// Known says whether this system can report where holes are: here, only some of its filesystems can.
const Known = false

// The controls for holes; see winioctl.h.
const (
	setSparse            = 0x900C4 // FSCTL_SET_SPARSE
	queryAllocatedRanges = 0x940CF // FSCTL_QUERY_ALLOCATED_RANGES
	setZeroData          = 0x980C8 // FSCTL_SET_ZERO_DATA
)

// seekData asks for the ranges that take space, of which the first is of interest.
func seekData(f *os.File, off, size int64) (start, end int64, ok bool) {
	var in, out [16]byte // FILE_ALLOCATED_RANGE_BUFFER: where, and how long
	le := binary.LittleEndian
	le.PutUint64(in[:], uint64(off))
	le.PutUint64(in[8:], uint64(size-off))
	var n uint32
	err := windows.DeviceIoControl(windows.Handle(f.Fd()), queryAllocatedRanges, &in[0], uint32(len(in)), &out[0],
		uint32(len(out)), &n, nil)
	if err != nil && !errors.Is(err, windows.ERROR_MORE_DATA) { // there are further ranges
		return 0, 0, false
	}
	if n < uint32(len(out)) {
		return size, size, true
	}
	start = max(off, int64(le.Uint64(out[:])))
	return start, start + int64(le.Uint64(out[8:])), true
}

// Allow lets a new file have holes, which on this system must be asked for.
func Allow(f *os.File) error {
	var n uint32
	return windows.DeviceIoControl(windows.Handle(f.Fd()), setSparse, nil, 0, nil, 0, &n, nil)
}

// Zero makes bytes zeros: in a file that may have holes, a hole.
func Zero(f *os.File, off, n int64) error {
	var in [16]byte // FILE_ZERO_DATA_INFORMATION: from where, and up to where
	binary.LittleEndian.PutUint64(in[:], uint64(off))
	binary.LittleEndian.PutUint64(in[8:], uint64(off+n))
	var got uint32
	return windows.DeviceIoControl(windows.Handle(f.Fd()), setZeroData, &in[0], uint32(len(in)), nil, 0, &got, nil)
}
