package volume

import (
	"errors"
	"fmt"
	"io"
	"slices"

	"polytome/internal/size"
)

// folder is the contents of a folder, as it is in memory.
type folder struct {
	data    []byte
	kids    []*Node
	names   map[string]*Node
	shorts  map[[11]byte]bool
	end     int         // byte behind the last entry
	holes   int         // free entries before the end
	from    map[int]int // number of entries -> byte before which there is no hole for so many within a sector
	sectors map[int]bool
	wrong   []Wrong
	fixed   int64 // length of a root folder outside of the clusters
	err     error
}

// A Wrong is something wrong in a folder's entries.
type Wrong struct {
	At, N  int // bytes; entries
	Say    string
	Repair func(set []byte) // brings them in order; nil for removing them
	// Rename is set for entries of a file or folder that cannot have its name, or cannot stand as they do: it gets new
	// ones.
	Rename bool
}

// open reads a folder, once.
func (v *Volume) open(n *Node) (*folder, error) {
	if n.dir == nil {
		n.dir = &folder{}
	}
	d := n.dir
	if d.names != nil || d.err != nil {
		return d, d.err
	}
	if d.err = v.readFolder(n); d.err != nil {
		return d, d.err
	}
	kids, slots, end, wrong := v.f.Entries(n, d.data)
	d.names, d.shorts, d.sectors = make(map[string]*Node, len(kids)), map[[11]byte]bool{}, map[int]bool{}
	d.end, d.wrong = end, wrong
	for i, k := range kids {
		k.parent, k.at, k.n = n, slots[i].At, slots[i].N
		fold := v.f.Fold(k.Name)
		if d.names[fold] != nil {
			d.wrong = append(d.wrong, Wrong{At: k.at, N: k.n, Say: fmt.Sprintf("there are two of the name %q", k.Name),
				Rename: true})
		} else {
			d.names[fold] = k
			if k.Short != [11]byte{} && d.shorts[k.Short] {
				d.wrong = append(d.wrong, Wrong{At: k.at, N: k.n,
					Say: fmt.Sprintf("%q has the short name of another one", k.Name), Rename: true})
			}
		}
		d.shorts[k.Short] = true
		d.kids = append(d.kids, k)
	}
	for _, w := range d.wrong {
		for _, k := range d.kids {
			k.torn = k.torn || w.Rename && k.at == w.At
		}
	}
	for at := 0; at < d.end; at += entryLength {
		if v.f.Vacant(d.data[at:]) {
			d.holes++
		}
	}
	return d, nil
}

// readFolder reads the bytes of a folder.
func (v *Volume) readFolder(n *Node) error {
	d := n.dir
	if d.fixed > 0 {
		d.data = make([]byte, d.fixed)
		if _, err := v.dev.ReadAt(d.data, v.rootAt); err != nil && !errors.Is(err, io.EOF) {
			return fmt.Errorf("reading the root folder: %w", err)
		}
		return nil
	}
	for a := n.parent; a != nil; a = a.parent {
		if a.First == n.First && a.First != 0 {
			return errors.New("the folder contains itself")
		}
	}
	runs, err := v.runsOf(n)
	if err != nil {
		return err
	}
	length := count(runs) * v.info.Cluster
	if length > v.f.LargestFolder() {
		return fmt.Errorf("the folder has %s, and none may have more than %s", size.Format(length),
			size.Format(v.f.LargestFolder()))
	}
	if length == 0 {
		return errors.New("the folder has no cluster")
	}
	d.data = make([]byte, length)
	at := 0
	for _, r := range runs {
		n := int(int64(r.Count) * v.info.Cluster)
		if _, err := v.dev.ReadAt(d.data[at:at+n], v.offset(r.First)); err != nil && !errors.Is(err, io.EOF) {
			return fmt.Errorf("reading the folder: %w", err)
		}
		at += n
	}
	return nil
}

// mark notes that entries changed.
func (v *Volume) mark(n *Node, at, length int) {
	for s := at / int(v.info.Sector); s <= (at+length-1)/int(v.info.Sector); s++ {
		n.dir.sectors[s] = true
	}
	v.dirty[n] = true
}

// where is the byte of the device at which a byte of a folder lies.
func (v *Volume) where(n *Node, at int) int64 {
	if n.dir.fixed > 0 {
		return v.rootAt + int64(at)
	}
	off := int64(at)
	for _, r := range n.runs {
		if length := int64(r.Count) * v.info.Cluster; off >= length {
			off -= length
		} else {
			return v.offset(r.First) + off
		}
	}
	return -1
}

// writeFolder writes what changed of a folder, from behind: what lies beyond the end of a folder
// is not seen until the sector with its old end is written.
func (v *Volume) writeFolder(n *Node) error {
	d := n.dir
	list := make([]int, 0, len(d.sectors))
	for s := range d.sectors {
		list = append(list, s)
	}
	slices.Sort(list)
	slices.Reverse(list)
	sector := int(v.info.Sector)
	for _, s := range list {
		if _, err := v.dev.WriteAt(d.data[s*sector:(s+1)*sector], v.where(n, s*sector)); err != nil {
			return err
		}
	}
	clear(d.sectors)
	return nil
}

// slotFor finds where n entries can stand: within one sector, as far as they fit into one, so that one write makes
// all of them appear.
func (v *Volume) slotFor(dir *Node, n int) (at int, err error) {
	d := dir.dir
	per := int(v.info.Sector) / entryLength
	if n <= per && d.holes >= n {
		free := 0
		for at := d.from[n]; at < d.end; at += entryLength {
			if at%int(v.info.Sector) == 0 {
				free = 0
			}
			if !v.f.Vacant(d.data[at:]) {
				free = 0
				continue
			}
			if free++; free == n {
				d.holes -= n
				d.looked(n, at+entryLength)
				return at - (n-1)*entryLength, nil
			}
		}
		d.looked(n, d.end)
	}
	at = d.end
	if left := per - at/entryLength%per; n > left && left < per {
		at += left * entryLength
	}
	need := at + n*entryLength
	if need > len(d.data) {
		if err := v.grow(dir, need); err != nil {
			return 0, err
		}
	}
	for p := d.end; p < at; p += entryLength { // what is left of the sector is skipped
		v.f.Gone(d.data[p : p+entryLength])
		d.holes++
		v.mark(dir, p, entryLength)
	}
	d.end = need
	return at, nil
}

// looked notes that there is no hole for n entries before a byte.
func (d *folder) looked(n, before int) {
	if d.from == nil {
		d.from = map[int]int{}
	}
	d.from[n] = before
}

// freed notes that entries from a byte on are free: with others of their sector they may be a hole for more of them.
func (d *folder) freed(at, n, sector int) {
	d.holes += n
	for k := range d.from {
		d.from[k] = min(d.from[k], at-at%sector)
	}
}

// grow makes a folder longer, by clusters of nothing but zeros.
func (v *Volume) grow(dir *Node, need int) error {
	d := dir.dir
	if d.fixed > 0 {
		return fmt.Errorf("%w: the root folder of this volume has space for %d entries, and they are taken; remove "+
			"some, or put files into folders", ErrNoSpace, d.fixed/entryLength)
	}
	if int64(need) > v.f.LargestFolder() {
		return fmt.Errorf("%w: a folder holds at most %s of entries", ErrNoSpace, size.Format(v.f.LargestFolder()))
	}
	more := uint32(v.clusters(int64(need - len(d.data))))
	last := d.lastCluster(dir)
	next := Run{last + 1, more}
	if !v.space.at(next) {
		runs, ok := v.space.some(more)
		if !ok {
			return fmt.Errorf("%w: there is no cluster for more entries of a folder", ErrNoSpace)
		}
		for _, r := range runs {
			if err := v.growBy(dir, r); err != nil {
				return err
			}
		}
	} else if err := v.growBy(dir, next); err != nil {
		return err
	}
	d.data = append(d.data, make([]byte, int64(more)*v.info.Cluster)...)
	if v.f.FolderSizes() && dir.parent != nil {
		dir.Size = int64(len(d.data))
		dir.Valid = dir.Size
		if err := v.patch(dir); err != nil {
			return err
		}
	}
	return nil
}

func (d *folder) lastCluster(n *Node) uint32 {
	if len(n.runs) == 0 {
		return 0
	}
	return n.runs[len(n.runs)-1].End() - 1
}

// growBy adds one run to a folder.
func (v *Volume) growBy(dir *Node, r Run) error {
	if err := v.failing(v.zero(v.offset(r.First), int64(r.Count)*v.info.Cluster)); err != nil {
		return err
	}
	last := dir.dir.lastCluster(dir)
	v.tables = true
	if dir.Flat && last+1 == r.First {
		if err := v.f.Link([]Run{r}, true); err != nil {
			return err
		}
	} else {
		if err := v.f.Link([]Run{r}, false); err != nil {
			return err
		}
		if dir.Flat { // it gets a chain, which no one follows before its entry says so
			if err := v.f.Link(dir.runs, false); err != nil {
				return err
			}
			dir.Flat = false
		}
		v.joins = append(v.joins, join{last, r.First})
	}
	dir.runs = Merge(append(slices.Clone(dir.runs), r))
	return nil
}

// zero makes bytes of the device zeros.
func (v *Volume) zero(off, n int64) error { return Zero(v.dev, off, n) }

var zeros [1 << 20]byte

// Zero makes n bytes of a device zeros, the quick way where it has one.
func Zero(dev io.WriterAt, off, n int64) error {
	if z, ok := dev.(Zeroer); ok {
		if err := z.Zero(off, n); !errors.Is(err, errors.ErrUnsupported) {
			return err
		}
	}
	for n > 0 {
		k, err := dev.WriteAt(zeros[:min(n, int64(len(zeros)))], off)
		if err != nil {
			return err
		}
		off += int64(k)
		n -= int64(k)
	}
	return nil
}

// add brings a node into a folder.
func (v *Volume) add(dir, n *Node) error {
	d := dir.dir
	set, err := v.f.Encode(n, func(s [11]byte) bool { return d.shorts[s] })
	if err != nil {
		return err
	}
	at, err := v.slotFor(dir, len(set)/entryLength)
	if err != nil {
		return err
	}
	copy(d.data[at:], set)
	v.mark(dir, at, len(set))
	n.parent, n.at, n.n = dir, at, len(set)/entryLength
	d.names[v.f.Fold(n.Name)] = n
	d.shorts[n.Short] = true
	d.kids = append(d.kids, n)
	return nil
}

// drop takes a node's entries out of its folder.
func (v *Volume) drop(n *Node) {
	d := n.parent.dir
	v.vacate(n.parent, n.at, n.n)
	v.unname(d, n)
	d.kids = slices.DeleteFunc(d.kids, func(k *Node) bool { return k == n })
	d.unshort(n.Short)
}

// unshort gives a short name up, unless someone else has it, as on a damaged volume.
func (d *folder) unshort(s [11]byte) {
	delete(d.shorts, s)
	for _, k := range d.kids {
		if k.Short == s {
			d.shorts[s] = true
		}
	}
}

// unname gives the name of a node up, unless someone else has it.
func (v *Volume) unname(d *folder, n *Node) {
	if fold := v.f.Fold(n.Name); d.names[fold] == n {
		delete(d.names, fold)
	}
}

// vacate makes entries free.
func (v *Volume) vacate(dir *Node, at, n int) {
	d := dir.dir
	v.f.Gone(d.data[at : at+n*entryLength])
	d.freed(at, n, int(v.info.Sector))
	v.mark(dir, at, n*entryLength)
}

// patch brings what changed of a node but its name into its entries. Where the change does not lie within one
// sector, the entries are written again elsewhere, and the old ones removed afterwards.
func (v *Volume) patch(n *Node) error {
	d := n.parent.dir
	if n.torn {
		return v.rename(n, n.parent, v.freeName(d, n, n.Name), true)
	}
	old := d.data[n.at : n.at+n.n*entryLength]
	set := slices.Clone(old)
	v.f.Patch(set, n)
	first, last := -1, -1
	for i := range set {
		if set[i] != old[i] {
			if first < 0 {
				first = i
			}
			last = i
		}
	}
	if first < 0 {
		return nil
	}
	sector := int(v.info.Sector)
	if (n.at+first)/sector == (n.at+last)/sector {
		copy(old, set)
		v.mark(n.parent, n.at+first, last-first+1)
		return nil
	}
	return v.reset(n, set)
}

// reset puts a node's entries elsewhere in its folder: first the new ones, then the old ones go.
func (v *Volume) reset(n *Node, set []byte) error {
	dir := n.parent
	oldAt, oldN := n.at, n.n
	at, err := v.slotFor(dir, len(set)/entryLength)
	if err != nil {
		return err
	}
	copy(dir.dir.data[at:], set)
	v.mark(dir, at, len(set))
	n.at, n.n = at, len(set)/entryLength
	if err := v.flush(); err != nil {
		return err
	}
	v.vacate(dir, oldAt, oldN)
	return v.flush()
}
