package slab

import (
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"

	"polytome/internal/format/fstree"
)

// FS is what is on the disk now, as an [io/fs.FS]: titles by their IDs in the folder titles, small files in the folder
// files. It may be used as long as nothing is changed on the disk.
func (d *Disk) FS() *fstree.FS {
	d.mu.RLock()
	defer d.mu.RUnlock()
	t := tree{d, d.table.records}
	return fstree.New(&fstree.Node{Data: ""}, t)
}

// tree shows records as a tree. The data of a folder is its path, that of a file its record.
type tree struct {
	d   *Disk
	all []record
}

// at is the path of a record in the tree.
func (r *record) at() string {
	if r.what == ofTitle {
		return "titles/" + r.id
	}
	return "files/" + r.name
}

// List lists the records and folders that are right in a folder.
func (t tree) List(dir *fstree.Node) (out []*fstree.Node, err error) {
	in := dir.Data.(string)
	if in == "" {
		return []*fstree.Node{{Name: "titles", Dir: true, Data: "titles"}, {Name: "files", Dir: true,
			Data: "files"}}, nil
	}
	folders := map[string]bool{}
	for i := range t.all {
		r := &t.all[i]
		rest, ok := strings.CutPrefix(r.at(), in+"/")
		if !ok {
			continue
		}
		if name, _, deeper := strings.Cut(rest, "/"); deeper {
			if !folders[fold(name)] {
				folders[fold(name)] = true
				out = append(out, &fstree.Node{Name: name, Dir: true, Data: path.Join(in, name)})
			}
			continue
		}
		out = append(out, &fstree.Node{Name: fstree.SafeName(rest), Size: r.size, Modified: r.written, Data: r})
	}
	return out, nil
}

// Content opens a record.
func (t tree) Content(file *fstree.Node) (io.ReaderAt, error) {
	r, ok := file.Data.(*record)
	if !ok {
		return nil, fmt.Errorf("%s: %w", file.Name, fs.ErrInvalid)
	}
	return t.d.contentOf(r), nil
}
