package blockmap

import (
	"context"
	"errors"
	"fmt"

	"polytome/internal/core/contents"
	"polytome/internal/core/loader"
	"polytome/internal/drives"
	"polytome/internal/format/slab"
	"polytome/internal/format/volume"
	"polytome/internal/medium"
)

// On makes the map of a volume on a drive that was looked at just now.
func On(ctx context.Context, sys drives.System, d *drives.Drive, v *drives.Volume, set *loader.Set) (m *Map,
	err error) {
	h, err := sys.Handle(ctx, d, v, func(part *medium.File) error {
		if v.Filesystem == drives.Slab {
			disk, err := slab.Open(part, part.Size())
			if err == nil {
				m = OfDisk(disk)
			}
			return err
		}
		vol, err := drives.OpenVolume(part)
		if err == nil {
			m, err = Read(ctx, vol, set)
		}
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("reading what lies where on %s: %w", d.Name(), err)
	}
	return m, errors.Join(h.Close(), ctx.Err())
}

// OfDisk is the map of a slab disk: titles are its files, and what small files lie in counts as one folder.
func OfDisk(d *slab.Disk) *Map {
	info, on := d.Info(), d.Map()
	runs := func(all []slab.Extent) (out []volume.Run) {
		for _, e := range all {
			out = append(out, volume.Run{First: uint32(e.First) + 2, Count: uint32(e.Count)})
		}
		return out
	}
	var files []volume.Piece
	if len(on.Small) > 0 {
		files = append(files, volume.Piece{Path: SmallFiles, Folder: true, Runs: runs(on.Small)})
	}
	titles := map[string]contents.Title{}
	for _, t := range on.Titles {
		f := volume.Piece{Path: t.ID + " " + t.Name, Size: t.Size, Runs: runs(t.Slabs)}
		titles[f.Path] = contents.Title{Name: t.Name}
		files = append(files, f)
	}
	m := Of(volume.Info{Filesystem: drives.Slab, Label: info.Label, Size: info.Slabs * slab.Slab, Cluster: slab.Slab,
		Clusters: uint32(info.Slabs)}, files, runs(on.Free))
	m.Titles = titles
	return m
}

// SmallFiles is the name of the slabs of small files on the map of a slab disk.
const SmallFiles = "small files"
