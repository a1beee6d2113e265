package demo

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"polytome/internal/format/slab"
	"polytome/internal/medium"
	"polytome/internal/size"
	"polytome/internal/sparse"
)

// VesperDisk is the image that stands for the disk inside the Vesper of the play space, which that exports.
func (w World) VesperDisk() string { return filepath.Join(w.Dir, "vesper", "own-disk.img") }

// slabImage is an image that stands for a Vesper's own disk.
type slabImage struct {
	file   string // below the demo
	slabs  int64
	label  string
	titles []string // by their names; "" for one that was removed again
	set    map[string]map[string]string
	cover  string // the title with a cover
}

// fillerSize is what was removed again.
const fillerSize = 1200 * mib

// slabImages are a disk that somebody took out and filled with care until it was nearly full, and the one that is in
// the console.
var slabImages = []slabImage{
	{file: filepath.Join("drives", "vesper-17.img"), slabs: 17600 * mib / slab.Slab, label: "FERRY",
		titles: []string{"Copper Tide", "", "Gannet Patrol", "Mosswick", "", "Underbough", "Quarry & Sons",
			"Mistral Halt"}, cover: "Copper Tide",
		set: map[string]map[string]string{"Gannet Patrol": {"timing": "c"}, "Underbough": {"timing": "a",
			"slow-reads": "on", "whole-sound": "on"}}},
	{file: filepath.Join("vesper", "own-disk.img"), slabs: 30 * size.GiB / slab.Slab, label: "VESPER",
		titles: []string{"Mosswick", "Lantern Sluice"}},
}

// makeSlabs makes the images out of the games.
func (w World) makeSlabs() error {
	for _, d := range slabImages {
		if err := d.make(w); err != nil {
			return fmt.Errorf("making the demo's disk %s: %w", d.file, err)
		}
	}
	return nil
}

func (d slabImage) make(w World) (err error) {
	name := filepath.Join(w.Dir, d.file)
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	f, err := os.OpenFile(name, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o644)
	if err != nil {
		return err
	}
	if err := sparse.Extend(f, d.slabs*slab.Slab); err != nil {
		return errors.Join(err, f.Close())
	}
	m, err := medium.Of(f)
	if err != nil {
		return errors.Join(err, f.Close())
	}
	defer func() { err = errors.Join(err, m.Close(), os.Chtimes(name, Season, Season)) }()
	disk, err := slab.Format(m, m.Size(), slab.Options{Label: d.label, Now: Season, Number: [16]byte{1, byte(d.slabs),
		byte(d.slabs >> 8)}})
	if err != nil {
		return err
	}
	for i, title := range d.titles {
		if title == "" {
			err = put(disk, slab.New{ID: fmt.Sprintf("FILLER-%d", i), Name: "removed again", Written: Season}, "")
		} else {
			err = d.add(disk, w, title)
		}
		if err != nil {
			return err
		}
		if i == len(d.titles)-2 { // the last one finds its space in pieces
			for k, title := range d.titles {
				if title == "" {
					if err := disk.Remove(fmt.Sprintf("FILLER-%d", k)); err != nil {
						return err
					}
				}
			}
		}
	}
	return nil
}

// add adds the game with a name, and its cover.
func (d slabImage) add(disk *slab.Disk, w World, title string) error {
	v := vespers[slices.IndexFunc(vespers, func(v vesper) bool { return v.name == title })]
	n := slab.New{ID: fmt.Sprintf("VSP-%05d", v.number), Name: v.name, Kind: v.kind, Settings: d.set[title],
		Written: Season}
	if title == d.cover {
		n.Cover = "covers/" + n.ID + ".jpg"
		file, err := disk.BeginFile(n.Cover, 0, Season, slab.How{})
		if err != nil {
			return err
		}
		if _, err = file.Write(asJPEG("front", title)); err == nil {
			err = file.Commit()
		}
		if err != nil {
			return err
		}
	}
	return put(disk, n, filepath.Join(w.Games, filepath.FromSlash(v.path())))
}

// put adds a title with the bytes of a file, or with nothing but zeros.
func put(disk *slab.Disk, n slab.New, file string) error {
	length := int64(fillerSize)
	var from *sparse.File
	if file != "" {
		var err error
		if from, err = sparse.Open(file); err != nil {
			return err
		}
		defer from.Close() // which was read from
		length = from.Size()
	}
	to, err := disk.BeginTitle(n, length, slab.How{})
	if err != nil {
		return err
	}
	b := make([]byte, 1<<20)
	for at := int64(0); at < length && err == nil; {
		start, end := length, length
		if from != nil {
			start, end = from.Data(at)
		}
		if start > at {
			err = to.Skip(start - at)
			at = start
		}
		for at < end && err == nil {
			part := b[:min(int64(len(b)), end-at)]
			if _, err = from.ReadAt(part, at); err == nil {
				_, err = to.Write(part)
				at += int64(len(part))
			}
		}
	}
	if err != nil {
		return errors.Join(err, to.Abort())
	}
	return to.Commit()
}
