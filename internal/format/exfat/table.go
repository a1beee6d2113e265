package exfat

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"

	"polytome/internal/format/volume"
)

// format is what stands on the device, as package volume works with it.
type format struct {
	dev    volume.Device
	g      *geometry
	info   volume.Info
	table  volume.Pages
	bitmap volume.Pages // which clusters are taken
	up     *upcase
	own    []volume.Run // clusters of the bitmap and of the table of upper-case letters
	bits   []volume.Run // those of the bitmap
	upRuns []volume.Run // those of a table of upper-case letters that is damaged, as it tells
	byCopy bool         // the volume was read by the backup of its boot region, as the region itself is damaged
	upBad  bool         // that table is damaged
	upAt   int64        // the byte of its entry, 0 for none
}

// runReader reads and writes bytes in runs of clusters as if they lay one behind the other.
type runReader struct {
	volume.Device
	f    *format
	runs []volume.Run
}

func (r runReader) each(n int, off int64, do func(at int64, from, to int) error) error {
	done := 0
	for _, run := range r.runs {
		length := int64(run.Count) * r.f.g.cluster
		if off >= length {
			off -= length
			continue
		}
		k := int(min(int64(n-done), length-off))
		if err := do(r.f.offset(run.First)+off, done, done+k); err != nil {
			return err
		}
		if done += k; done == n {
			return nil
		}
		off = 0
	}
	return io.EOF
}

func (r runReader) ReadAt(b []byte, off int64) (int, error) {
	n := 0
	err := r.each(len(b), off, func(at int64, from, to int) error {
		k, err := r.Device.ReadAt(b[from:to], at)
		n += k
		return err
	})
	return n, err
}

func (r runReader) WriteAt(b []byte, off int64) (int, error) {
	n := 0
	err := r.each(len(b), off, func(at int64, from, to int) error {
		k, err := r.Device.WriteAt(b[from:to], at)
		n += k
		return err
	})
	return n, err
}

// Data knows holes where it is one run on a device that does.
func (r runReader) Data(off int64) (start, end int64) {
	h, ok := r.Device.(interface {
		Data(off int64) (start, end int64)
	})
	if !ok || len(r.runs) != 1 {
		return off, off + 1
	}
	base := r.f.offset(r.runs[0].First)
	start, end = h.Data(base + off)
	return start - base, end - base
}

func (f *format) offset(c uint32) int64 { return f.info.Heap + int64(c-2)*f.g.cluster }

// system finds the bitmap, the table of upper-case letters and the label in the root folder.
func (f *format) system() error {
	runs, err := f.chain(f.g.root)
	if err != nil && len(runs) == 0 {
		return fmt.Errorf("the root folder: %w", err)
	}
	le := binary.LittleEndian
	r := runReader{f.dev, f, runs}
	e := make([]byte, entry)
	for at := int64(0); ; at += entry {
		if _, err := r.ReadAt(e, at); errors.Is(err, io.EOF) || err == nil && e[0] == 0 {
			break
		} else if err != nil {
			return fmt.Errorf("reading the root folder: %w", err)
		}
		first, length := le.Uint32(e[20:]), int64(le.Uint64(e[24:]))
		switch e[0] {
		case typeLabel:
			f.info.Label = labelOf(e)
		case typeBitmap:
			if e[1]&1 != byte(f.g.flags&flagActive) && f.g.tables == 2 || f.bitmap.Length > 0 {
				continue
			}
			if length < (int64(f.g.clusters)+7)/8 || length > int64(f.g.clusters)/8+2*f.g.cluster {
				return fmt.Errorf("the cluster bitmap has %d bytes, which does not match %d clusters", length,
					f.g.clusters)
			}
			runs, err := f.chain(first)
			if err != nil {
				return fmt.Errorf("the cluster bitmap: %w", err)
			}
			if count(runs)*f.g.cluster < length {
				return errors.New("the cluster bitmap is shorter than its entry says")
			}
			f.own, f.bits = append(f.own, runs...), runs
			f.bitmap = volume.Pages{Dev: runReader{f.dev, f, runs}, At: []int64{0},
				Length: (int64(f.g.clusters) + 7) / 8, Sector: f.g.sector, Name: "the cluster bitmap"}
		case typeUpcase:
			runs, err := f.chain(first)
			_ = r.each(1, at, func(at int64, _, _ int) error { f.upAt = at; return nil })
			f.upRuns = runs
			if err != nil || length <= 0 || length > 1<<17 || count(runs)*f.g.cluster < length {
				f.upBad = true
				continue
			}
			b := make([]byte, length)
			if _, err := (runReader{f.dev, f, runs}).ReadAt(b, 0); err != nil {
				return fmt.Errorf("reading the upcase table: %w", err)
			}
			if f.upBad = tableChecksum(b) != le.Uint32(e[4:]); !f.upBad {
				f.up, f.upRuns = unpack(b), nil
				f.own = append(f.own, runs...)
			}
		}
	}
	if f.bitmap.Length == 0 {
		return errors.New("the volume has no cluster bitmap")
	}
	if f.up == nil {
		f.up, f.upBad = usual(), true
	}
	if f.upBad {
		f.info.ReadOnly, f.info.Repairable = "its upcase table is damaged", f.upAt > 0
	}
	return nil
}

func count(runs []volume.Run) int64 {
	var n int64
	for _, r := range runs {
		n += int64(r.Count)
	}
	return n
}

// Info tells about the volume.
func (f *format) Info() *volume.Info { return &f.info }

// Root is a chain.
func (f *format) Root() (n *volume.Node, at, length int64) {
	return &volume.Node{First: f.g.root}, 0, 0
}

func (f *format) get(c uint32) (uint32, error) {
	b, err := f.table.Get(int64(c)*4, 4)
	if err != nil {
		return 0, err
	}
	return binary.LittleEndian.Uint32(b), nil
}

func (f *format) put(c, v uint32) error {
	b, err := f.table.Change(int64(c)*4, 4)
	if err == nil {
		binary.LittleEndian.PutUint32(b, v)
	}
	return err
}

// Chain finds a node's clusters: one behind the other as many as its length needs, or by the table.
func (f *format) Chain(n *volume.Node) ([]volume.Run, error) {
	wrong := func(format string, args ...any) error { return &volume.ChainError{Say: fmt.Sprintf(format, args...)} }
	if n.First == 0 {
		if n.Size > 0 || n.Folder {
			return nil, wrong("it has no cluster")
		}
		return nil, nil
	}
	if !n.Flat {
		return f.chain(n.First)
	}
	need := n.Size / f.g.cluster
	if n.Size%f.g.cluster > 0 {
		need++
	}
	if n.First < 2 || n.First >= f.g.clusters+2 {
		return nil, wrong("it starts in cluster %d, which does not exist", n.First)
	}
	if left := int64(f.g.clusters+2) - int64(n.First); need > left {
		return []volume.Run{{First: n.First, Count: uint32(left)}}, wrong("it reaches beyond the last cluster")
	}
	if need <= 0 {
		return nil, wrong("it has a cluster but no length")
	}
	return []volume.Run{{First: n.First, Count: uint32(need)}}, nil
}

func (f *format) chain(first uint32) ([]volume.Run, error) {
	return volume.Follow(first, f.g.clusters, func(c uint32) (uint32, bool, error) {
		next, err := f.get(c)
		if err == nil && next == badCluster {
			err = &volume.ChainError{Say: "its chain leads into a cluster that is marked as damaged"}
		}
		return next, next == chainEnd, err
	})
}

// Free goes through the bitmap once.
func (f *format) Free(ctx context.Context) ([]volume.Run, error) {
	var out []volume.Run
	free := func(first, n uint32) {
		out = volume.Append(out, volume.Run{First: first, Count: n})
	}
	total := int64(f.g.clusters)
	err := f.bitmap.Stream(func(off int64, b []byte) error {
		for i := 0; i < len(b); {
			c := (off + int64(i)) * 8
			if i+8 <= len(b) {
				if w := binary.LittleEndian.Uint64(b[i:]); w == 0 && c+64 <= total {
					free(uint32(c)+2, 64)
					i += 8
					continue
				} else if w == ^uint64(0) {
					i += 8
					continue
				}
			}
			for k := int64(0); k < 8 && c+k < total; k++ {
				if b[i]&(1<<k) == 0 {
					free(uint32(c+k)+2, 1)
				}
			}
			i++
		}
		return ctx.Err()
	}, func(off, n int64) error {
		if to := min((off+n)*8, total); to > off*8 {
			free(uint32(off*8)+2, uint32(to-off*8))
		}
		return nil
	})
	return out, err
}

// set marks clusters in the bitmap.
func (f *format) set(r volume.Run, taken bool) error {
	for c := int64(r.First) - 2; c < int64(r.End())-2; {
		b, err := f.bitmap.Change(c/8, 1)
		if err != nil {
			return err
		}
		if whole := byte(0xFF); c%8 == 0 && int64(r.End())-2-c >= 8 {
			if !taken {
				whole = 0
			}
			b[0] = whole
			c += 8
			continue
		}
		if bit := byte(1) << (c % 8); taken {
			b[0] |= bit
		} else {
			b[0] &^= bit
		}
		c++
	}
	return nil
}

// Link marks runs as taken, and chains them unless they are one and flat.
func (f *format) Link(runs []volume.Run, flat bool) error {
	for i, r := range runs {
		if err := f.set(r, true); err != nil {
			return err
		}
		if flat {
			continue
		}
		for c := r.First; c < r.End(); c++ {
			next := c + 1
			if next == r.End() {
				if next = chainEnd; i+1 < len(runs) {
					next = runs[i+1].First
				}
			}
			if err := f.put(c, next); err != nil {
				return err
			}
		}
	}
	return nil
}

// Join has a chain go on.
func (f *format) Join(last, next uint32) error { return f.put(last, next) }

// End has a chain end.
func (f *format) End(last uint32) error { return f.put(last, chainEnd) }

// Release marks runs as free.
func (f *format) Release(runs []volume.Run) error {
	for _, r := range runs {
		if err := f.set(r, false); err != nil {
			return err
		}
	}
	return nil
}

// WriteTables writes what changed.
func (f *format) WriteTables() error {
	if err := f.table.Write(); err != nil {
		return err
	}
	return f.bitmap.Write()
}

// setFlags writes whether someone is writing, and how much is in use, into the first sector. The checksum leaves them
// out.
func (f *format) setFlags(dirty bool, used byte) error {
	if f.byCopy {
		return nil // the region is written again first
	}
	b := make([]byte, f.g.sector)
	if _, err := f.dev.ReadAt(b, 0); err != nil {
		return fmt.Errorf("reading the boot sector: %w", err)
	}
	le := binary.LittleEndian
	if !Is(b) {
		return errors.New("the boot sector is no longer exFAT: another program has written to the drive")
	}
	flags := le.Uint16(b[bootFlags:]) &^ flagDirty
	if dirty {
		flags |= flagDirty
	}
	le.PutUint16(b[bootFlags:], flags)
	b[bootUsed] = used
	if _, err := f.dev.WriteAt(b, 0); err != nil {
		return fmt.Errorf("writing the boot sector: %w", err)
	}
	return nil
}

// Begin notes that the volume is being written to.
func (f *format) Begin() error { return f.setFlags(true, 0xFF) }

// Finish notes how much is in use, and that the volume is whole.
func (f *format) Finish(free, _ uint32) error {
	used := byte(100 - int64(free)*100/int64(f.g.clusters))
	return f.setFlags(f.info.Dirty, used)
}

// Reported is nothing: the volume tells only hundredths, and its bitmap is quick to read.
func (f *format) Reported() (clusters uint32, ok bool) { return 0, false }

// MarkWhole forgets that someone did not finish writing.
func (f *format) MarkWhole() { f.info.Dirty = false }

// Fold is the form in which two names are the same: in upper case, by the volume's own table.
func (f *format) Fold(name string) string {
	u := unitsOf(name)
	out := make([]byte, 2*len(u))
	for i, c := range u {
		binary.BigEndian.PutUint16(out[2*i:], f.up[c])
	}
	return string(out)
}

// Own are the clusters of the bitmap and of the table of upper-case letters.
func (f *format) Own() []volume.Run { return f.own }

// Kept are the clusters of the bitmap and of the table of upper-case letters, and damaged ones.
func (f *format) Kept(r volume.Run) ([]volume.Run, error) {
	var out []volume.Run
	for c := r.First; c < r.End(); c++ {
		mine := false
		for _, o := range slices.Concat(f.upRuns, f.own) {
			mine = mine || c >= o.First && c < o.End()
		}
		if !mine {
			v, err := f.get(c)
			if err != nil {
				return nil, err
			}
			mine = v == badCluster
		}
		if mine {
			out = append(out, volume.Run{First: c, Count: 1})
		}
	}
	return out, nil
}

// Faults looks at what stands beside files and folders.
func (f *format) Faults(_ context.Context, _ uint32) ([]volume.Fault, error) {
	var out []volume.Fault
	n := bootSectors * f.g.sector
	main, backup := make([]byte, n), make([]byte, n)
	if _, err := f.dev.ReadAt(main, 0); err != nil {
		return nil, err
	}
	if _, err := f.dev.ReadAt(backup, n); err != nil {
		return nil, err
	}
	if f.byCopy {
		return []volume.Fault{{Kind: volume.Boot, Say: "The boot region is damaged; its backup was used.",
			Repair: "The backup is copied over it.", Fix: func() error {
				if _, err := f.dev.WriteAt(wanted(backup), 0); err != nil {
					return err
				}
				f.byCopy = false
				return nil
			}}}, nil
	}
	if string(wanted(main)) != string(main) {
		out = append(out, volume.Fault{Kind: volume.Boot, Say: "The checksum of the boot region is wrong.",
			Repair: "The region is rebuilt from its first sector.", Fix: func() error {
				_, err := f.dev.WriteAt(wanted(main)[f.g.sector:], f.g.sector)
				return err
			}})
	}
	plain := func(b []byte) string {
		c := wanted(b)
		c[bootFlags], c[bootFlags+1], c[bootUsed] = 0, 0, 0
		return string(c)
	}
	if plain(main) != plain(backup) || string(wanted(backup)) != string(backup) {
		out = append(out, volume.Fault{Kind: volume.Boot, Say: "The backup of the boot region differs from it.",
			Repair: "The region is copied over its backup.", Fix: func() error {
				_, err := f.dev.WriteAt(wanted(main), n)
				return err
			}})
	}
	if f.upBad {
		fault := volume.Fault{Kind: volume.Tables, Say: "The upcase table is damaged, or its checksum."}
		if f.upAt > 0 {
			fault.Repair, fault.Need, fault.FixIn = "It is rewritten to new clusters.", int64(len(usual().pack())),
				f.writeUpcase
		}
		out = append(out, fault)
	}
	for i, want := range []uint32{0xFFFFFFF8, chainEnd} {
		if v, err := f.get(uint32(i)); err == nil && v != want {
			out = append(out, volume.Fault{Kind: volume.Tables, Say: "The table's first entries are wrong.",
				Repair: "They are corrected.", Fix: func() error {
					if err := f.put(uint32(i), want); err != nil {
						return err
					}
					return f.WriteTables()
				}})
		}
	}
	for _, r := range f.own {
		for c := r.First; c < r.End(); c++ {
			b, err := f.bitmap.Get(int64(c-2)/8, 1)
			if err != nil {
				return nil, err
			}
			if b[0]&(1<<((c-2)%8)) == 0 {
				out = append(out, volume.Fault{Kind: volume.Unheld,
					Say: "Clusters of the volume's own tables are marked as free.", Repair: "They are marked as taken.",
					Fix: func() error {
						for _, r := range f.own {
							if err := f.set(r, true); err != nil {
								return err
							}
						}
						return f.WriteTables()
					}})
				return append(out, f.unclean()...), nil
			}
		}
	}
	if end := f.g.clusters % 8; end != 0 { // bits behind the last cluster
		at := int64(f.g.clusters) / 8
		if b, err := f.bitmap.Get(at, 1); err == nil && b[0]>>end != 0 {
			out = append(out, volume.Fault{Kind: volume.Tables, Say: "The bitmap covers clusters that do not exist.",
				Repair: "They are corrected.", Fix: func() error {
					b, err := f.bitmap.Change(at, 1)
					if err != nil {
						return err
					}
					b[0] &= 1<<end - 1
					return f.WriteTables()
				}})
		}
	}
	return append(out, f.unclean()...), nil
}

// writeUpcase writes the usual table into free clusters, and has its entry describe them.
func (f *format) writeUpcase(r volume.Run) error {
	up := usual()
	b := up.pack()
	if _, err := f.dev.WriteAt(b, f.offset(r.First)); err != nil {
		return fmt.Errorf("writing the upcase table: %w", err)
	}
	if err := f.dev.Sync(); err != nil {
		return err
	}
	e := make([]byte, entry)
	if _, err := f.dev.ReadAt(e, f.upAt); err != nil {
		return err
	}
	le := binary.LittleEndian
	le.PutUint32(e[4:], tableChecksum(b))
	le.PutUint32(e[20:], r.First)
	le.PutUint64(e[24:], uint64(len(b)))
	if _, err := f.dev.WriteAt(e, f.upAt); err != nil {
		return fmt.Errorf("writing the entry of the upcase table: %w", err)
	}
	f.own, f.upRuns = append(append([]volume.Run(nil), f.bits...), r), nil
	f.up, f.upBad, f.info.Repairable, f.info.ReadOnly = up, false, false, ""
	return nil
}

func (f *format) unclean() []volume.Fault {
	if !f.info.Dirty {
		return nil
	}
	return []volume.Fault{{Kind: volume.Unclean,
		Say: "Writing was not finished: the drive was pulled out or switched off.", Repair: "The mark is cleared.",
		Fix: func() error { f.info.Dirty = false; return nil }}}
}

// wanted is a boot region with what has to follow from its first sector.
func wanted(b []byte) []byte {
	sector := len(b) / bootSectors
	out := append([]byte(nil), b...)
	for i := 1; i <= 8; i++ {
		binary.LittleEndian.PutUint32(out[(i+1)*sector-4:], 0xAA550000)
	}
	sum := bootChecksum(out[:11*sector])
	for at := 11 * sector; at < len(out); at += 4 {
		binary.LittleEndian.PutUint32(out[at:], sum)
	}
	return out
}

// SetLabel has nothing to do: the label stands in the root folder.
func (f *format) SetLabel(label string) error {
	f.info.Label = label
	return nil
}

// HeadRight is true: a folder has no entries for itself.
func (f *format) HeadRight([]byte, *volume.Node, *volume.Node) bool { return true }

// NewFolder is empty.
func (f *format) NewFolder(*volume.Node, *volume.Node) []byte { return nil }

// FolderSizes is true: a folder's entry tells its length.
func (f *format) FolderSizes() bool { return true }

// LargestFile is the space of all clusters.
func (f *format) LargestFile() int64 { return int64(f.g.clusters) * f.g.cluster }

// LargestFolder is 256 MiB.
func (f *format) LargestFolder() int64 { return 256 << 20 }
