package fat

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"maps"
	"slices"

	"polytome/internal/format/volume"
	"polytome/internal/size"
)

// Faults looks at what stands beside files and folders.
func (f *format) Faults(ctx context.Context, free uint32) ([]volume.Fault, error) {
	var out []volume.Fault
	pages, err := f.differing(ctx)
	if err != nil {
		return nil, err
	}
	if len(pages) > 0 {
		out = append(out, volume.Fault{Kind: volume.Tables, Say: "The copies of the cluster table differ.",
			Repair: "The first one, which systems read, is copied over the others.",
			Fix:    func() error { return f.copyPages(pages) }})
	}
	if f.g.backup > 0 {
		if fault, err := f.backupFault(); err != nil {
			return nil, err
		} else if fault != nil {
			out = append(out, *fault)
		}
	}
	if label, _, err := f.rootLabel(); err == nil && label != f.g.label && f.g.labelled && f.g.bits != 12 {
		out = append(out, volume.Fault{Kind: volume.Boot,
			Say:    fmt.Sprintf("The label is %q in the boot sector but %q in the root folder.", f.g.label, label),
			Repair: "The label in the root folder is used.", Fix: func() error {
				f.g.label = label
				return f.SetLabel(label)
			}})
	}
	first, err := f.get(0)
	if err == nil && !isMedia(f.g.media) && isMedia(byte(first)) {
		out = append(out, volume.Fault{Kind: volume.Boot, Say: "The boot sector has an unknown media type.",
			Repair: "It gets the media type in the table.", Fix: func() error {
				at := []int64{0}
				if f.g.backup > 0 {
					at = append(at, f.g.backup*f.g.sector)
				}
				for _, s := range at {
					if _, err := f.dev.WriteAt([]byte{byte(first)}, s+bpbMedia); err != nil {
						return err
					}
				}
				f.g.media = byte(first)
				return nil
			}})
	} else if err == nil && first != f.ext()&^0xFF|uint32(f.g.media) && f.g.bits != 12 {
		out = append(out, volume.Fault{Kind: volume.Tables, Say: "The table's first entries are wrong.",
			Repair: "They are corrected.", Fix: func() error {
				if err := f.put(0, f.ext()&^0xFF|uint32(f.g.media)); err != nil {
					return err
				}
				return f.WriteTables()
			}})
	}
	if f.g.fsInfo > 0 && !f.reports {
		out = append(out, volume.Fault{Kind: volume.Boot, Say: "The free space sector is invalid.",
			Repair: "It is rewritten.", Fix: func() error {
				if _, err := f.dev.WriteAt(f.g.infoSector(), f.g.fsInfo*f.g.sector); err != nil {
					return err
				}
				f.reported, f.reports = 0xFFFFFFFF, true // the count is written when the volume is released
				return nil
			}})
	}
	if f.reports && f.reported != 0xFFFFFFFF && f.reported != free {
		out = append(out, volume.Fault{Kind: volume.Count, Say: "It says that " +
			size.Format(int64(f.reported)*f.info.Cluster) + " are free, and " +
			size.Format(int64(free)*f.info.Cluster) + " are.",
			// written when the volume is released
			Repair: "The count is corrected.", Fix: func() error { f.reported = free; return nil }})
	}
	if f.info.Dirty {
		out = append(out, volume.Fault{Kind: volume.Unclean,
			Say: "Writing was not finished: the drive was pulled out or switched off.", Repair: "The mark is cleared.",
			Fix: func() error { f.info.Dirty = false; return nil }})
	}
	return out, nil
}

// isMedia reports whether there is such a kind of medium (FAT specification, "BPB_Media").
func isMedia(b byte) bool { return b == 0xF0 || b >= 0xF8 }

// backupFault compares the boot sector with its backup.
func (f *format) backupFault() (*volume.Fault, error) {
	main, backup := make([]byte, f.g.sector), make([]byte, f.g.sector)
	if _, err := f.dev.ReadAt(main, 0); err != nil {
		return nil, err
	}
	if _, err := f.dev.ReadAt(backup, f.g.backup*f.g.sector); err != nil {
		return nil, err
	}
	if f.twofold(f.info.Size) {
		return &volume.Fault{Kind: volume.Boot,
			Say: "The boot sector and its backup describe different volumes: one is damaged, but it is not clear which."}, nil
	}
	same := bytes.Clone(backup)
	same[f.stateAt()] = main[f.stateAt()]
	if bytes.Equal(main, same) {
		return nil, nil
	}
	return &volume.Fault{Kind: volume.Boot, Say: "The backup of the boot sector differs from it.",
		Repair: "The boot sector is copied over its backup.", Fix: func() error {
			_, err := f.dev.WriteAt(main, f.g.backup*f.g.sector)
			return err
		}}, nil
}

// Kept are clusters that are marked as damaged.
func (f *format) Kept(r volume.Run) ([]volume.Run, error) {
	var out []volume.Run
	for c := r.First; c < r.End(); c++ {
		v, err := f.get(c)
		if err != nil {
			return nil, err
		}
		if v == f.damaged() {
			out = append(out, volume.Run{First: c, Count: 1})
		}
	}
	return out, nil
}

// IsFolder reports whether the first bytes are those of a folder: it describes itself, or at least of what is above it.
func (f *format) IsFolder(dir *volume.Node, data []byte) bool {
	return dir.Path() == "." || len(data) >= 2*entry && (string(data[:11]) == ".          " &&
		data[dirAttr]&volume.FolderAttr != 0 ||
		string(data[entry:entry+11]) == "..         " && data[entry+dirAttr]&volume.FolderAttr != 0)
}

// HeadRight compares the clusters that a folder tells for itself and what is above it.
func (f *format) HeadRight(data []byte, n, parent *volume.Node) bool {
	head := f.NewFolder(n, parent)
	if len(data) < len(head) {
		return false
	}
	for i := 0; i < len(head); i += entry {
		a, b := data[i:i+entry], head[i:i+entry]
		if string(a[:11]) != string(b[:11]) || a[dirAttr]&volume.FolderAttr == 0 ||
			binary.LittleEndian.Uint16(a[dirLow:]) != binary.LittleEndian.Uint16(b[dirLow:]) ||
			f.g.bits == 32 && binary.LittleEndian.Uint16(a[dirHigh:]) != binary.LittleEndian.Uint16(b[dirHigh:]) {
			return false
		}
	}
	return true
}

// Reported is what the sector beside the boot sector tells.
func (f *format) Reported() (clusters uint32, ok bool) {
	return f.reported, f.reports && f.reported != 0xFFFFFFFF
}

// MarkWhole forgets that someone did not finish writing.
func (f *format) MarkWhole() { f.info.Dirty = false }

// differing returns pages in which copies of the table differ from the one that counts.
func (f *format) differing(ctx context.Context) ([]int64, error) {
	if f.g.active >= 0 || f.g.tables < 2 {
		return nil, nil
	}
	differ := map[int64]bool{}
	length := f.g.tableSize * f.g.sector
	h, sparse := f.dev.(interface {
		Data(off int64) (start, end int64)
	})
	a, b := make([]byte, volume.PageSize), make([]byte, volume.PageSize)
	for off := int64(0); off < length; off += volume.PageSize {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		n := min(int64(volume.PageSize), length-off)
		if sparse { // where all copies are holes up to the same page, they are alike
			next := length
			for k := range f.g.tables {
				start, _ := h.Data(f.tableAt(k) + off)
				next = min(next, start-f.tableAt(k))
			}
			if next >= length {
				break
			}
			if next >= off+n {
				off = next/volume.PageSize*volume.PageSize - volume.PageSize
				continue
			}
		}
		if _, err := f.dev.ReadAt(a[:n], f.tableAt(0)+off); err != nil {
			return nil, err
		}
		for k := 1; k < f.g.tables; k++ {
			if _, err := f.dev.ReadAt(b[:n], f.tableAt(k)+off); err != nil {
				return nil, err
			}
			if !slices.Equal(a[:n], b[:n]) {
				differ[off/volume.PageSize] = true
			}
		}
	}
	return slices.Sorted(maps.Keys(differ)), nil
}

// copyPages brings pages of the table that counts into the others.
func (f *format) copyPages(pages []int64) error {
	for _, no := range pages {
		off := no * volume.PageSize
		if _, err := f.table.Change(off, int(min(volume.PageSize, f.table.Length-off))); err != nil {
			return err
		}
	}
	return f.WriteTables()
}
