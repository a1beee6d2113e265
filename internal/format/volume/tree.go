package volume

import (
	"io"

	"polytome/internal/format/fstree"
)

// FS is the volume as it is now, as a tree. Changes made later need a new one.
func (v *Volume) FS() *fstree.FS {
	return fstree.New(&fstree.Node{Data: v.root}, tree{v})
}

type tree struct{ v *Volume }

// List shows a folder. Where one name is told twice, or something cannot be read, the rest is shown.
func (t tree) List(dir *fstree.Node) ([]*fstree.Node, error) {
	t.v.mu.Lock()
	defer t.v.mu.Unlock()
	d, err := t.v.open(dir.Data.(*Node))
	if err != nil {
		return nil, err
	}
	out := make([]*fstree.Node, 0, len(d.kids))
	for _, k := range d.kids {
		n := &fstree.Node{Name: fstree.SafeName(k.Name), Dir: k.Folder, Size: k.Size, Modified: k.Modified, Data: k}
		if k.Folder {
			n.Size = 0
		}
		out = append(out, n)
	}
	return out, nil
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
