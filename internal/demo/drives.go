package demo

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"time"

	"polytome/internal/format/exfat"
	"polytome/internal/format/fat"
	"polytome/internal/format/partition"
	"polytome/internal/format/volume"
	"polytome/internal/medium"
	"polytome/internal/size"
	"polytome/internal/sparse"
)

// driveFile is a file on one of the demo's drives, most of it a hole.
type driveFile struct {
	name   string
	size   int64
	pieces int // that it is in
}

// driveImage is an image that stands for a stick.
type driveImage struct {
	file       string
	size       int64
	scheme     partition.Scheme // "" for a bare one
	filesystem string
	label      string
	files      []driveFile
	pulled     bool // someone pulled it while it was written to
}

// driveImages are the sticks in the drawer of the play space. Their sizes are those that are printed on them, less what
// makers leave out.
var driveImages = []driveImage{
	{file: "north-58.img", size: 58 * size.GiB, scheme: partition.MBR, filesystem: "fat32", label: "NORTH",
		files: []driveFile{
			{name: "ROWAN/rowan.cfg", size: 28},
			{name: "FULL/VSP-20502 - Paper Falcons.iso", size: fatLargest - 40*mib},
			{name: "FULL/VSP-21344 - Mistral Halt.iso", size: 1945 * mib},
			{name: "FULL/VSP-21533 - Gannet Patrol.iso", size: 3127 * mib, pieces: 3},
			{name: "SHORT/VSP-21377 - Mosswick.iso", size: 412 * mib},
			{name: "FULL/VSP-21602 - Quarry & Sons.iso", size: 3899 * mib},
			{name: "HALL-VIDEO/reel-5.mov", size: 3988 * mib, pieces: 2},
			{name: "FULL/VSP-21560 - Underbough.iso", size: 2755 * mib},
			{name: "FERRY-ROTA.txt", size: 45},
		}},
	{file: "oxbow-116.img", size: 116 * size.GiB, scheme: partition.GPT, filesystem: "exfat", label: "OXBOW",
		pulled: true, files: []driveFile{
			{name: "oxbow/play/vesper/Copper Tide.iso", size: 4*size.GiB + 812*mib},
			{name: "oxbow/play/vesper/Underbough.iso", size: 2755 * mib},
			{name: "oxbow/play/lapwing/Tin Harbour.cue", size: 96},
			{name: "oxbow/play/lapwing/Tin Harbour.bin", size: 620 * mib},
			{name: "oxbow/play/finch/Thimble Kings.fin", size: 512 << 10},
			{name: "oxbow/firmware/tanager.rom", size: 256 << 10},
		}},
	{file: "pocket-8.img", size: 7640 * mib, scheme: partition.MBR, filesystem: "fat32", label: "HOLIDAY",
		files: []driveFile{
			{name: "Pictures/ferry at dusk.jpg", size: 4 * mib}, {name: "Pictures/gulls.jpg", size: 3 * mib},
			{name: "letters.txt", size: 9000},
		}},
	{file: "quay-28.img", size: 28 * size.GiB},
}

// makeDrives makes the images.
func makeDrives(dir string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	for _, d := range driveImages {
		if err := d.make(filepath.Join(dir, d.file)); err != nil {
			return fmt.Errorf("making the demo's drive %s: %w", d.file, err)
		}
	}
	return nil
}

func (d driveImage) make(name string) (err error) {
	f, err := os.OpenFile(name, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o644)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, f.Close(), os.Chtimes(name, Season, Season)) }()
	if err := sparse.Extend(f, d.size); err != nil || d.scheme == "" {
		return err
	}
	m, err := medium.Of(f)
	if err != nil {
		return err
	}
	table, err := partition.New(d.scheme, d.size, 512, partition.Wanted{Type: partition.TypeFor(d.scheme, d.filesystem),
		Name: d.label})
	if err != nil {
		return err
	}
	table.ID, table.Parts[0].ID = d.id()
	if err := table.Write(m); err != nil {
		return err
	}
	part := m.Part(table.Parts[0].Start, table.Parts[0].Size)
	var v *volume.Volume
	if d.filesystem == "exfat" {
		if err = exfat.Format(part, part.Size(), exfat.Options{Cluster: 128 * size.KiB, Label: d.label,
			Serial: uint32(d.size / size.MiB), Hidden: table.Parts[0].Start}); err == nil {
			v, err = exfat.Open(part, part.Size())
		}
	} else if err = fat.Format(part, part.Size(), fat.Options{Bits: 32, Cluster: 32 * size.KiB, Label: d.label,
		Serial: uint32(d.size / size.MiB), Hidden: table.Parts[0].Start, Made: Season}); err == nil {
		v, err = fat.Open(part, part.Size())
	}
	if err != nil {
		return err
	}
	v.Now = func() time.Time { return Season }
	for _, x := range d.files {
		if err := x.put(v); err != nil {
			return err
		}
	}
	if d.pulled {
		return v.Flush()
	}
	return v.Close()
}

// id is what tells the disk and its partition from others, always the same.
func (d driveImage) id() (disk, part string) {
	if d.scheme == partition.GPT {
		return fmt.Sprintf("6a6c7761-7920-4d00-8000-%012x", d.size), fmt.Sprintf("6a6c7761-7920-4d01-8000-%012x",
			d.size)
	}
	return fmt.Sprintf("%08x", d.size/size.MiB), ""
}

// put writes a file; one fragmented by turns with others that are removed afterwards.
func (x driveFile) put(v *volume.Volume) error {
	ctx := context.Background()
	if err := v.MakeFolder(ctx, path.Dir(x.name)); err != nil {
		return err
	}
	pieces := max(1, x.pieces)
	w, err := v.Create(ctx, x.name, x.size/int64(pieces), false)
	if err != nil {
		return err
	}
	var between []string
	for i := range pieces {
		n := x.size / int64(pieces)
		if i == pieces-1 {
			n = x.size - w.Size()
		}
		head := min(n, 4096)
		if _, err := w.Write(make([]byte, head)); err != nil {
			return err
		}
		if err := w.Skip(n - head); err != nil {
			return err
		}
		if i < pieces-1 {
			name := fmt.Sprintf("%s.%d", x.name, i)
			o, err := v.Create(ctx, name, 300*mib, false)
			if err == nil {
				err = errors.Join(o.Skip(300*mib), o.Commit())
			}
			if err != nil {
				return err
			}
			between = append(between, name)
		}
	}
	w.Date(Season)
	if err := w.Commit(); err != nil {
		return err
	}
	for _, name := range between {
		if err := v.Remove(ctx, name); err != nil {
			return err
		}
	}
	return nil
}
