package volume

import (
	"errors"
	"io"
	"io/fs"

	"polytome/internal/format/fstree"
)

// FS is the volume as it is now, as a tree. Changes made later need a new one.
func (v *Volume) FS() *fstree.FS {
	return fstree.New(&fstree.Node{Data: v.root}, tree{v})
}

type tree struct{ v *Volume }

// List shows a folder. Where one name is listed twice, or something cannot be read, the rest is shown.
func (t tree) List(dir *fstree.Node) ([]*fstree.Node, error) {
	t.v.mu.Lock()
	defer t.v.mu.Unlock()
	d, err := t.v.open(dir.Data.(*Node))
	if err != nil {
		return nil, err
	}
	out := make([]*fstree.Node, 0, len(d.kids))
	for _, k := range d.kids {
		out = append(out, branch(k))
	}
	return out, nil
}

// branch is a node of the tree for one of the volume.
func branch(k *Node) *fstree.Node {
	n := &fstree.Node{Name: fstree.SafeName(k.Name), Dir: k.Folder, Size: k.Size, Modified: k.Modified, Data: k}
	if k.Folder {
		n.Size = 0
	}
	return n
}

// OpenFile opens one file by its path. A tree of [Volume.FS] would be made again for each, with all that is in its
// folders.
func (v *Volume) OpenFile(name string) (fs.File, error) {
	v.mu.Lock()
	n, err := v.find("open", name)
	var b *fstree.Node
	if err == nil {
		b = branch(n)
	}
	v.mu.Unlock()
	if err != nil {
		return nil, err
	}
	if b.Dir {
		return nil, &fs.PathError{Op: "open", Path: name, Err: errors.New("it is a folder")}
	}
	f, err := fstree.OpenFile(tree{v}, b)
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: name, Err: err}
	}
	return f, nil
}

// Content opens a file.
func (t tree) Content(file *fstree.Node) (io.ReaderAt, error) {
	t.v.mu.Lock()
	defer t.v.mu.Unlock()
	n := file.Data.(*Node)
	runs, err := t.v.runsOf(n)
	if err != nil {
		return nil, err
	}
	valid := min(n.Valid, n.Size)
	extents := t.v.bytes(runs, 0, valid)
	if valid < n.Size {
		extents = append(extents, fstree.Extent{At: -1, Length: n.Size - valid})
	}
	return fstree.Extents(t.v.dev, extents), nil
}
