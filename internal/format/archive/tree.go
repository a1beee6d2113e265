package archive

import (
	"io"
	"strings"

	"polytome/internal/format/fstree"
)

// folder is what a directory of the tree holds.
type folder struct{ nodes []*fstree.Node }

// plant makes the tree.
func (a *Archive) plant(entries []Entry) {
	root := &fstree.Node{Data: &folder{}}
	folders := map[string]*fstree.Node{"": root}
	var dir func(path string) *fstree.Node
	dir = func(path string) *fstree.Node {
		if n := folders[path]; n != nil {
			return n
		}
		up, last := "", path
		if i := strings.LastIndexByte(path, '/'); i >= 0 {
			up, last = path[:i], path[i+1:]
		}
		n := &fstree.Node{Name: last, Dir: true, Data: &folder{}}
		folders[path] = n
		parent := dir(up).Data.(*folder)
		parent.nodes = append(parent.nodes, n)
		return n
	}
	taken := map[string]bool{}
	for _, e := range entries {
		path, ok := safePath(e.Name)
		if !ok {
			a.Unsafe = append(a.Unsafe, e.Name)
			continue
		}
		if strings.HasSuffix(e.Name, "/") {
			if path != "" && !taken[path] && !below(path, taken) {
				dir(path)
			}
			continue
		}
		if path == "" || taken[path] || folders[path] != nil || below(path, taken) {
			continue
		}
		taken[path] = true
		e.Name = path
		a.Entries = append(a.Entries, e)
		if i := strings.LastIndexByte(path, '/'); i >= 0 {
			dir(path[:i])
		}
	}
	for i := range a.Entries {
		e := &a.Entries[i]
		up, last := "", e.Name
		if k := strings.LastIndexByte(e.Name, '/'); k >= 0 {
			up, last = e.Name[:k], e.Name[k+1:]
		}
		parent := dir(up).Data.(*folder)
		parent.nodes = append(parent.nodes, &fstree.Node{Name: last, Size: e.Size, Modified: e.Modified, Data: e})
	}
	a.FS = fstree.New(root, tree{a})
}

// below reports whether a path goes through one that is a file.
func below(path string, files map[string]bool) bool {
	for i, c := range path {
		if c == '/' && files[path[:i]] {
			return true
		}
	}
	return false
}

// safePath brings a stored name into a path of the tree; ok is false for one that leads out
// of it.
func safePath(name string) (path string, ok bool) {
	name = strings.ReplaceAll(name, `\`, "/")
	if strings.HasPrefix(name, "/") || len(name) > 1 && name[1] == ':' {
		return "", false
	}
	var out []string
	for part := range strings.SplitSeq(name, "/") {
		switch part {
		case "", ".":
		case "..":
			return "", false
		default:
			out = append(out, fstree.SafeName(part))
		}
	}
	return strings.Join(out, "/"), true
}

// tree hands the entries to [fstree].
type tree struct{ a *Archive }

// List returns a folder's nodes.
func (t tree) List(d *fstree.Node) ([]*fstree.Node, error) { return d.Data.(*folder).nodes, nil }

// Content opens an entry for reading at any offset.
func (t tree) Content(n *fstree.Node) (io.ReaderAt, error) {
	e := n.Data.(*Entry)
	if e.direct != nil {
		if r := e.direct(); r != nil {
			return r, nil
		}
	}
	return &window{size: e.Size, open: func() (io.ReadCloser, error) { return t.a.Read(e) }}, nil
}
