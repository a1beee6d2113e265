package fat

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"polytome/internal/format/volume"
)

// format is what stands on the device, as package volume works with it.
type format struct {
	dev      volume.Device
	g        *geometry
	info     volume.Info
	table    volume.Pages
	reported uint32 // free clusters that FSInfo describes
	reports  bool
	noted    bool           // the boot sector says that someone did not finish writing
	counts   map[string]int // by the beginning of short names: the number that was given last
}

// tableAt is the byte at which a copy of the table begins.
func (f *format) tableAt(copy int) int64 {
	return (f.g.reserved + int64(copy)*f.g.tableSize) * f.g.sector
}

// open prepares the table of clusters.
func (f *format) open() {
	f.table = volume.Pages{Dev: f.dev, From: f.tableAt(max(f.g.active, 0)), Length: f.g.tableSize * f.g.sector,
		Sector: f.g.sector, Name: "the cluster table"}
	for k := range f.g.tables {
		if f.g.active < 0 || k == f.g.active {
			f.table.At = append(f.table.At, f.tableAt(k))
		}
	}
}

// get reads an entry of the table.
func (f *format) get(c uint32) (uint32, error) {
	switch f.g.bits {
	case 12:
		at := int64(c) * 3 / 2
		var two [2]byte
		for i := range two {
			b, err := f.table.Get(at+int64(i), 1)
			if err != nil {
				return 0, err
			}
			two[i] = b[0]
		}
		v := uint32(binary.LittleEndian.Uint16(two[:]))
		if c&1 != 0 {
			return v >> 4, nil
		}
		return v & 0xFFF, nil
	case 16:
		b, err := f.table.Get(int64(c)*2, 2)
		if err != nil {
			return 0, err
		}
		return uint32(binary.LittleEndian.Uint16(b)), nil
	}
	b, err := f.table.Get(int64(c)*4, 4)
	if err != nil {
		return 0, err
	}
	return binary.LittleEndian.Uint32(b) & 0x0FFFFFFF, nil
}

// put changes an entry in memory. Of FAT32 the upper four bits stay what they are.
func (f *format) put(c, v uint32) error {
	width := f.g.bits / 8
	b, err := f.table.Change(int64(c)*int64(width), width)
	if err != nil {
		return err
	}
	if width == 2 {
		binary.LittleEndian.PutUint16(b, uint16(v))
	} else {
		binary.LittleEndian.PutUint32(b, binary.LittleEndian.Uint32(b)&0xF0000000|v&0x0FFFFFFF)
	}
	return nil
}

// extension and damaged are the marks of the last cluster of a chain and of one that cannot be used.
func (f *format) ext() uint32     { return uint32(1)<<min(f.g.bits, 28) - 1 }
func (f *format) damaged() uint32 { return f.ext() - 8 }

// Info tells about the volume.
func (f *format) Info() *volume.Info { return &f.info }

// Root is a chain on FAT32, and a fixed run of bytes before.
func (f *format) Root() (n *volume.Node, at, length int64) {
	if f.g.bits == 32 {
		return &volume.Node{First: f.g.rootFirst}, 0, 0
	}
	return &volume.Node{}, f.info.Heap - f.g.rootSize*f.g.sector, f.g.rootSize * f.g.sector
}

// Chain follows a chain through the table.
func (f *format) Chain(n *volume.Node) ([]volume.Run, error) {
	if n.First == 0 {
		if n.Folder {
			return nil, &volume.ChainError{Say: "it has no cluster"}
		}
		if n.Size > 0 {
			return nil, &volume.ChainError{Say: fmt.Sprintf("it has %d bytes and no cluster", n.Size)}
		}
		return nil, nil
	}
	return f.chain(n.First)
}

func (f *format) chain(first uint32) ([]volume.Run, error) {
	return volume.Follow(first, f.g.clusters, func(c uint32) (uint32, bool, error) {
		next, err := f.get(c)
		switch {
		case err != nil:
			return 0, false, err
		case next == f.damaged():
			return 0, false, &volume.ChainError{Say: "its chain leads into a cluster that is marked as damaged"}
		case next == 0:
			return 0, false, &volume.ChainError{Say: "its chain ends in a free cluster"}
		}
		return next, next > f.damaged(), nil
	})
}

// Own is nothing: the tables lie before the clusters.
func (f *format) Own() []volume.Run { return nil }

// Free goes through the table once.
func (f *format) Free(ctx context.Context) ([]volume.Run, error) {
	var out []volume.Run
	free := func(first, n uint32) {
		out = volume.Append(out, volume.Run{First: first, Count: n})
	}
	end := f.g.clusters + 2
	if f.g.bits == 12 {
		for c := uint32(2); c < end; c++ {
			v, err := f.get(c)
			if err != nil {
				return nil, err
			}
			if v == 0 {
				free(c, 1)
			}
		}
		return out, nil
	}
	width := int64(f.g.bits / 8)
	err := f.table.Stream(func(off int64, b []byte) error {
		c := uint32(off / width)
		for i := 0; i < len(b) && c < end; {
			if width == 4 && i+64 <= len(b) && c >= 2 && c+16 <= end && zero64(b[i:i+64]) {
				free(c, 16)
				i, c = i+64, c+16
				continue
			}
			var v uint32
			if width == 4 {
				v = binary.LittleEndian.Uint32(b[i:]) & 0x0FFFFFFF
			} else {
				v = uint32(binary.LittleEndian.Uint16(b[i:]))
			}
			if v == 0 && c >= 2 {
				free(c, 1)
			}
			i, c = i+int(width), c+1
		}
		return ctx.Err()
	}, func(off, n int64) error {
		if from, to := max(uint32(off/width), 2), min(uint32((off+n)/width), end); to > from {
			free(from, to-from)
		}
		return nil
	})
	return out, err
}

func zero64(b []byte) bool {
	le := binary.LittleEndian
	return le.Uint64(b)|le.Uint64(b[8:])|le.Uint64(b[16:])|le.Uint64(b[24:])|le.Uint64(b[32:])|le.Uint64(
		b[40:])|le.Uint64(b[48:])|le.Uint64(b[56:]) == 0
}

// Link chains runs.
func (f *format) Link(runs []volume.Run, _ bool) error {
	for i, r := range runs {
		for c := r.First; c < r.End(); c++ {
			next := c + 1
			if next == r.End() {
				if next = f.ext(); i+1 < len(runs) {
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
func (f *format) End(last uint32) error { return f.put(last, f.ext()) }

// Release makes runs free.
func (f *format) Release(runs []volume.Run) error {
	for _, r := range runs {
		for c := r.First; c < r.End(); c++ {
			if err := f.put(c, 0); err != nil {
				return err
			}
		}
	}
	return nil
}

// WriteTables writes what changed into every copy of the table.
func (f *format) WriteTables() error { return f.table.Write() }

// The bits of the second entry of a table: the volume was ejected cleanly, and no error was met (FAT
// specification, "FAT Data Structure").
func (f *format) cleanBits() uint32 {
	if f.g.bits == 16 {
		return 0xC000
	}
	return 0x0C000000
}

// Offsets in the FSInfo sector.
const (
	infoLead   = 0x41615252
	infoStruct = 0x61417272
	infoTrail  = 0xAA550000
	infoCount  = 488
	infoNext   = 492
)

// readState finds out whether the volume was ejected cleanly, its label, and what FSInfo tells.
func (f *format) readState() error {
	if f.g.bits != 12 {
		v, err := f.get(1)
		if err != nil {
			return err
		}
		f.info.Dirty = v&f.cleanBits() != f.cleanBits()
		var state [1]byte // where some systems note it instead
		if _, err := f.dev.ReadAt(state[:], f.stateAt()); err == nil && state[0]&1 != 0 {
			f.info.Dirty, f.noted = true, true
		}
	}
	if b, ok := f.fsInfo(); ok {
		f.reported, f.reports = binary.LittleEndian.Uint32(b[infoCount:]), true
	}
	label, found, err := f.rootLabel()
	if err == nil && found {
		f.info.Label = label
	}
	return nil
}

func (f *format) fsInfo() ([]byte, bool) {
	if f.g.fsInfo == 0 {
		return nil, false
	}
	b := make([]byte, f.g.sector)
	if _, err := f.dev.ReadAt(b, f.g.fsInfo*f.g.sector); err != nil {
		return nil, false
	}
	le := binary.LittleEndian
	return b, le.Uint32(b) == infoLead && le.Uint32(b[484:]) == infoStruct && le.Uint32(b[508:]) == infoTrail
}

// rootLabel looks for the entry of the root folder that names the volume.
func (f *format) rootLabel() (label string, found bool, err error) {
	var runs []volume.Run
	at, length := f.info.Heap-f.g.rootSize*f.g.sector, f.g.rootSize*f.g.sector
	if f.g.bits == 32 {
		if runs, err = f.chain(f.g.rootFirst); len(runs) == 0 {
			return "", false, err
		}
	} else {
		runs = []volume.Run{{}}
	}
	for _, r := range runs {
		if f.g.bits == 32 {
			at, length = f.info.Heap+int64(r.First-2)*f.info.Cluster, int64(r.Count)*f.info.Cluster
		}
		b := make([]byte, min(length, 1<<21))
		if _, err := f.dev.ReadAt(b, at); err != nil && !errors.Is(err, io.EOF) {
			return "", false, err
		}
		for ; len(b) >= 32; b = b[32:] {
			if b[0] == 0 {
				return "", false, nil
			}
			if f.IsLabel(b[:32]) {
				return labelText(b[:11]), true, nil
			}
		}
	}
	return "", false, nil
}

// stateAt is the byte of the boot sector whose first bit some systems set while they write.
func (f *format) stateAt() int64 {
	if f.g.bits == 32 {
		return tail32 + 1
	}
	return tail16 + 1
}

// setClean writes the bits that report whether someone is writing.
func (f *format) setClean(clean bool) error {
	v, err := f.get(1)
	if err != nil {
		return err
	}
	if clean {
		v |= f.cleanBits()
	} else {
		v &^= f.cleanBits() & (f.cleanBits() << 1) // the upper of the two
	}
	if err := f.put(1, v); err != nil {
		return err
	}
	return f.WriteTables()
}

// Begin notes that the volume is being written to.
func (f *format) Begin() error { return f.setClean(false) }

// Finish writes how much is free, and notes that the volume is whole. One that was dirty before it was opened stays
// so until it was checked.
func (f *format) Finish(free, next uint32) error {
	if b, ok := f.fsInfo(); ok {
		le := binary.LittleEndian
		le.PutUint32(b[infoCount:], free)
		le.PutUint32(b[infoNext:], next)
		if _, err := f.dev.WriteAt(b, f.g.fsInfo*f.g.sector); err != nil {
			return fmt.Errorf("writing the free space: %w", err)
		}
		f.reported, f.reports = free, true
	}
	if f.info.Dirty {
		return nil
	}
	if f.noted {
		var state [1]byte
		if _, err := f.dev.ReadAt(state[:], f.stateAt()); err != nil {
			return err
		}
		state[0] &^= 1
		if _, err := f.dev.WriteAt(state[:], f.stateAt()); err != nil {
			return fmt.Errorf("writing that the volume is whole: %w", err)
		}
		f.noted = false
	}
	return f.setClean(true)
}
