//go:build windows || darwin

package drives

import (
	"polytome/internal/medium"
	"polytome/internal/rawdisk"
)

// openDevice opens a device; for writing, so that nothing of it can be mounted meanwhile.
func openDevice(d *Drive, write bool) (*medium.File, error) {
	disk, err := rawdisk.Open(d.Path, write, d.locks)
	if err != nil {
		return nil, err
	}
	return medium.On(disk, d.Path), nil
}
