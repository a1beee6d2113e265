//go:build !linux

package drives

import (
	"context"
	"fmt"

	"github.com/shirou/gopsutil/v4/disk"
)

// mountedVolumes are the volumes that are mounted, each as a drive: they are filled as folders.
func mountedVolumes(ctx context.Context) ([]*Drive, error) {
	parts, err := disk.PartitionsWithContext(ctx, false)
	if err != nil {
		return nil, fmt.Errorf("looking for drives: %w", err)
	}
	var out []*Drive
	for _, p := range parts {
		d := &Drive{Path: p.Device, Model: p.Mountpoint, Bus: "other", Sector: 512,
			Volumes: []Volume{{Filesystem: p.Fstype, Free: -1, MountedAt: []string{p.Mountpoint}}},
			Uses:    []Use{{Kind: Mounted, At: p.Mountpoint, Say: "it is mounted at " + p.Mountpoint}}}
		if u, err := disk.UsageWithContext(ctx, p.Mountpoint); err == nil {
			d.Size = int64(u.Total)
			d.Volumes[0].Size, d.Volumes[0].Free = d.Size, int64(u.Free)
		}
		out = append(out, d)
	}
	return out, nil
}
