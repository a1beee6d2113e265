package volume

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"polytome/internal/size"
)

// parentOf finds the folder in which a path lies, and reads it.
func (v *Volume) parentOf(op, name string) (dir *Node, base string, err error) {
	if !fs.ValidPath(name) || name == "." {
		return nil, "", &fs.PathError{Op: op, Path: name, Err: fs.ErrInvalid}
	}
	if dir, err = v.find(op, path.Dir(name)); err != nil {
		return nil, "", err
	}
	if !dir.Folder {
		return nil, "", &fs.PathError{Op: op, Path: name, Err: fs.ErrNotExist}
	}
	if _, err := v.open(dir); err != nil {
		return nil, "", &fs.PathError{Op: op, Path: name, Err: err}
	}
	return dir, path.Base(name), nil
}

// MakeFolder makes a folder, and those above it. One that is there is fine.
func (v *Volume) MakeFolder(ctx context.Context, name string) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	if !fs.ValidPath(name) {
		return &fs.PathError{Op: "make", Path: name, Err: fs.ErrInvalid}
	}
	at := ""
	for elem := range strings.SplitSeq(name, "/") {
		at = path.Join(at, elem)
		n, err := v.find("make", at)
		switch {
		case err == nil && n.Folder:
			continue
		case err == nil:
			return &fs.PathError{Op: "make", Path: at, Err: fs.ErrExist}
		case !errors.Is(err, fs.ErrNotExist):
			return err
		}
		if err := v.makeOne(ctx, at); err != nil {
			return err
		}
	}
	return nil
}

func (v *Volume) makeOne(ctx context.Context, name string) error {
	if err := v.beginWrite(ctx); err != nil {
		return err
	}
	parent, base, err := v.parentOf("make", name)
	if err != nil {
		return err
	}
	run, ok := v.space.one(1)
	if !ok {
		return &fs.PathError{Op: "make", Path: name, Err: ErrNoSpace}
	}
	n := &Node{Name: base, Folder: true, Modified: v.Now(), Attr: FolderAttr, First: run.First, Flat: v.f.FolderSizes(),
		runs: []Run{run}, known: true}
	if v.f.FolderSizes() {
		n.Size, n.Valid = v.info.Cluster, v.info.Cluster
	}
	data := make([]byte, v.info.Cluster)
	head := v.f.NewFolder(n, parent)
	copy(data, head)
	n.dir = &folder{data: data, names: map[string]*Node{}, shorts: map[[11]byte]bool{}, sectors: map[int]bool{},
		end: len(head)}
	if _, err := v.dev.WriteAt(data, v.offset(run.First)); err != nil {
		return v.failing(err)
	}
	if err := v.link(n.runs, n.Flat); err != nil {
		return err
	}
	if err := v.add(parent, n); err != nil {
		v.unlink(n.runs)
		return &fs.PathError{Op: "make", Path: name, Err: err}
	}
	return nil
}

func (v *Volume) link(runs []Run, flat bool) error {
	v.tables = true
	return v.failing(v.f.Link(runs, flat))
}

// unlink takes back what was linked and nothing refers to.
func (v *Volume) unlink(runs []Run) {
	v.release = append(v.release, runs...)
}

// Remove removes a file or an empty folder.
func (v *Volume) Remove(ctx context.Context, name string) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	if name == "." {
		return &fs.PathError{Op: "remove", Path: name, Err: fs.ErrInvalid}
	}
	n, err := v.find("remove", name)
	if err != nil {
		return err
	}
	if n.Folder {
		if d, err := v.open(n); err != nil {
			return &fs.PathError{Op: "remove", Path: name, Err: err}
		} else if len(d.kids) > 0 {
			return &fs.PathError{Op: "remove", Path: name, Err: errors.New("the folder is not empty")}
		}
	}
	if err := v.beginWrite(ctx); err != nil {
		return err
	}
	runs, err := v.runsOf(n)
	if err != nil { // whose they are is for the check to find out
		return &fs.PathError{Op: "remove", Path: name, Err: fmt.Errorf("%w; check the volume first", err)}
	}
	v.drop(n)
	delete(v.dirty, n)
	v.release = append(v.release, runs...)
	return nil
}

// Rename gives a file or folder another path. It fails with [fs.ErrExist] when there is something else of that name.
func (v *Volume) Rename(ctx context.Context, from, to string) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	if from == "." || to == "." {
		return &fs.PathError{Op: "rename", Path: from, Err: fs.ErrInvalid}
	}
	n, err := v.find("rename", from)
	if err != nil {
		return err
	}
	dir, base, err := v.parentOf("rename", to)
	if err != nil {
		return err
	}
	if other := dir.dir.names[v.f.Fold(base)]; other != nil && other != n {
		return &fs.PathError{Op: "rename", Path: to, Err: fs.ErrExist}
	}
	for a := dir; a != nil; a = a.parent {
		if a == n {
			return &fs.PathError{Op: "rename", Path: to, Err: errors.New("a folder cannot be moved into itself")}
		}
	}
	if err := v.beginWrite(ctx); err != nil {
		return err
	}
	if _, err := v.runsOf(n); err != nil {
		return &fs.PathError{Op: "rename", Path: from, Err: err}
	}
	if n.Folder {
		if _, err := v.open(n); err != nil {
			return &fs.PathError{Op: "rename", Path: from, Err: err}
		}
	}
	if err := v.rename(n, dir, base, true); err != nil {
		return &fs.PathError{Op: "rename", Path: from, Err: err}
	}
	return nil
}

// rename gives a node new entries in a folder: by one write where they fit into the sector of the old ones and those
// may be written over, or else the new ones first.
func (v *Volume) rename(n, dir *Node, base string, over bool) error {
	if err := v.flush(); err != nil {
		return err
	}
	n.torn = false
	moved := *n
	moved.Name = base
	d := dir.dir
	others := 0 // that have its short name, too
	for _, k := range d.kids {
		if k != n && k.Short == n.Short {
			others++
		}
	}
	set, err := v.f.Encode(&moved, func(s [11]byte) bool {
		return d.shorts[s] && (dir != n.parent || s != n.Short || others > 0)
	})
	if err != nil {
		return err
	}
	if over && dir == n.parent && v.swap(n, set) {
		v.unname(d, n)
		n.Short, moved.Short = moved.Short, n.Short
		d.unshort(moved.Short)
		n.Name = moved.Name
		d.names[v.f.Fold(n.Name)], d.shorts[n.Short] = n, true
		return v.flush()
	}
	return v.move(n, &moved, dir, set)
}

// swap writes new entries of a node into the sector of the old ones, in one write. It reports whether they fit.
func (v *Volume) swap(n *Node, set []byte) bool {
	d := n.parent.dir
	sector := int(v.info.Sector)
	first := n.at / sector * sector
	if (n.at+n.n*entryLength-1)/sector != n.at/sector {
		return false
	}
	free := 0
	for at := first; at < min(first+sector, len(d.data)); at += entryLength {
		mine := at >= n.at && at < n.at+n.n*entryLength
		if !mine && (at >= d.end || !v.f.Vacant(d.data[at:])) {
			free = 0
			continue
		}
		if free++; free*entryLength < len(set) {
			continue
		}
		to := at - (free-1)*entryLength
		v.f.Gone(d.data[n.at : n.at+n.n*entryLength])
		copy(d.data[to:], set)
		d.freed(first, n.n-free, sector)
		n.at, n.n = to, free
		v.mark(n.parent, to, len(set))
		return true
	}
	return false
}

// move gives a node its new entries, then takes the old ones away. Where the device is cut off in between, there are
// both, and the check knows that they are one and the same.
func (v *Volume) move(n, moved, dir *Node, set []byte) error {
	oldDir, oldAt, oldN := n.parent, n.at, n.n
	at, err := v.slotFor(dir, len(set)/entryLength)
	if err != nil {
		return err
	}
	copy(dir.dir.data[at:], set)
	v.mark(dir, at, len(set))
	if err := v.flush(); err != nil {
		return err
	}
	if head := v.f.NewFolder(n, dir); n.Folder && dir != oldDir && len(head) > 0 {
		copy(n.dir.data, head)
		v.mark(n, 0, len(head))
		if err := v.flush(); err != nil {
			return err
		}
	}
	d := oldDir.dir
	v.unname(d, n)
	d.kids = slices.DeleteFunc(d.kids, func(k *Node) bool { return k == n })
	d.unshort(n.Short)
	v.vacate(oldDir, oldAt, oldN)
	n.Name, n.Short = moved.Name, moved.Short
	n.parent, n.at, n.n = dir, at, len(set)/entryLength
	dir.dir.kids = append(dir.dir.kids, n)
	dir.dir.names[v.f.Fold(n.Name)], dir.dir.shorts[n.Short] = n, true
	return v.flush()
}

// Truncate gives a file another length. What it gets longer by is zeros.
func (v *Volume) Truncate(ctx context.Context, name string, to int64) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	n, err := v.find("truncate", name)
	if err != nil {
		return err
	}
	if n.Folder || to < 0 {
		return &fs.PathError{Op: "truncate", Path: name, Err: fs.ErrInvalid}
	}
	if to > v.f.LargestFile() {
		return &fs.PathError{Op: "truncate", Path: name, Err: fmt.Errorf("no file can have more than %s here",
			size.Format(v.f.LargestFile()))}
	}
	if err := v.beginWrite(ctx); err != nil {
		return err
	}
	runs, err := v.runsOf(n)
	if err != nil {
		return &fs.PathError{Op: "truncate", Path: name, Err: err}
	}
	if err := v.flush(); err != nil {
		return err
	}
	have, want := count(runs), v.clusters(to)
	if want > have {
		if err := v.lengthen(n, runs, uint32(want-have)); err != nil {
			return &fs.PathError{Op: "truncate", Path: name, Err: err}
		}
		if err := v.flush(); err != nil {
			return err
		}
	}
	if to > n.Size { // what is behind the end in the last cluster is anything
		old := n.Size
		if n.Valid < old {
			old = n.Valid
		}
		for _, p := range v.bytes(n.runs, old, to-old) {
			if err := v.failing(v.zero(p.At, p.Length)); err != nil {
				return err
			}
		}
		n.Valid = to
	}
	n.Valid = min(n.Valid, to)
	n.Size, n.Modified = to, v.Now()
	if want < have {
		head, tail := split(runs, want)
		n.runs = head
		v.release = append(v.release, tail...)
		if len(head) == 0 {
			n.First, n.Flat = 0, false
		} else if !n.Flat {
			v.ends = append(v.ends, head[len(head)-1].End()-1)
		}
	}
	if err := v.patch(n); err != nil {
		return err
	}
	return v.flush()
}

// lengthen adds clusters to a file.
func (v *Volume) lengthen(n *Node, runs []Run, more uint32) error {
	var add []Run
	if len(runs) > 0 && v.space.at(Run{runs[len(runs)-1].End(), more}) {
		add = []Run{{runs[len(runs)-1].End(), more}}
	} else {
		var ok bool
		if add, ok = v.space.some(more); !ok {
			return ErrNoSpace
		}
	}
	all := Merge(append(slices.Clone(runs), add...))
	switch {
	case len(runs) == 0:
		n.First, n.Flat = all[0].First, len(all) == 1 && v.f.FolderSizes()
		if err := v.link(all, n.Flat); err != nil {
			return err
		}
	case n.Flat && len(all) == 1:
		if err := v.link(add, true); err != nil {
			return err
		}
	default:
		if err := v.link(add, false); err != nil {
			return err
		}
		if n.Flat {
			if err := v.link(runs, false); err != nil {
				return err
			}
			n.Flat = false
		}
		v.joins = append(v.joins, join{runs[len(runs)-1].End() - 1, add[0].First})
	}
	n.runs = all
	return nil
}

// SetLabel names the volume.
func (v *Volume) SetLabel(ctx context.Context, label string) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	if why := v.f.CheckLabel(label); why != "" {
		return fmt.Errorf("the label %q is not possible: %s", label, why)
	}
	if err := v.beginWrite(ctx); err != nil {
		return err
	}
	d, err := v.open(v.root)
	if err != nil {
		return err
	}
	entry, err := v.f.LabelEntry(label, v.Now())
	if err != nil {
		return err
	}
	at := -1
	for p := 0; p < d.end; p += entryLength {
		if v.f.IsLabel(d.data[p : p+entryLength]) {
			at = p
			break
		}
	}
	switch {
	case entry == nil && at >= 0:
		v.vacate(v.root, at, 1)
	case entry != nil:
		if at < 0 {
			if at, err = v.slotFor(v.root, 1); err != nil {
				return err
			}
		}
		copy(d.data[at:], entry)
		v.mark(v.root, at, entryLength)
	}
	if err := v.flush(); err != nil {
		return err
	}
	return v.failing(v.f.SetLabel(label))
}
