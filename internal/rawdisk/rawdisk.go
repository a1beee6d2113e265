// Package rawdisk opens whole drives and volumes of systems on which they are read and written in whole sectors only,
// past the memory of the system: Windows and macOS. What is read was on the medium, and what is written goes there.
package rawdisk

import "errors"

// ErrBusy reports a volume that other programs use.
var ErrBusy = errors.New("another program has files open on it")

// A Disk is an opened drive or volume. It is a [medium.Export]; safe for several goroutines.
type Disk struct {
	aligned
	readOnly bool
	sync     func() error
	close    func() error
}

// Size is how many bytes it has.
func (d *Disk) Size() int64 { return d.size }

// Sector is how many bytes a sector has.
func (d *Disk) Sector() int64 { return d.sector }

// ReadOnly reports whether it was opened for reading.
func (d *Disk) ReadOnly() bool { return d.readOnly }

// Sync has the drive write what it holds back.
func (d *Disk) Sync() error { return d.sync() }

// Zero is not known to these systems.
func (d *Disk) Zero(int64, int64) error { return errors.ErrUnsupported }

// Data takes everything for data.
func (d *Disk) Data(off int64) (start, end int64) { return min(off, d.size), d.size }

// Close lets go of it. What was written is looked at by the system again then: it finds new partitions and volumes.
func (d *Disk) Close() error { return d.close() }
