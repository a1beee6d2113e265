package archive

import (
	"fmt"
	"io"
	"path"
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
	// Folders come first: where a file and a folder have one name, it is the file that can have another.
	wanted := map[string]bool{}
	for i := range entries {
		name, ok := safePath(entries[i].Name)
		if !ok {
			continue
		}
		if !strings.HasSuffix(entries[i].Name, "/") {
			name = up(name)
		}
		for ; name != ""; name = up(name) {
			wanted[name] = true
		}
	}
	taken := map[string]bool{}
	for _, e := range entries {
		path, ok := safePath(e.Name)
		if !ok {
			a.Unsafe = append(a.Unsafe, e.Name)
			continue
		}
		if strings.HasSuffix(e.Name, "/") {
			if path != "" {
				dir(path)
			}
			continue
		}
		if path == "" {
			a.Unsafe = append(a.Unsafe, e.Name)
			continue
		}
		why := ""
		if plainPath(e.Name) != path {
			why = "it has characters that a name cannot have here"
		}
		for n, first := 2, path; taken[path] || wanted[path]; n++ {
			why = "another file of the archive has its name"
			if wanted[first] {
				why = "a folder of the archive has its name"
			}
			path = numbered(first, n)
		}
		if why != "" {
			a.Renamed = append(a.Renamed, Renamed{e.Name, path, why})
		}
		taken[path] = true
		e.Name = path
		a.Entries = append(a.Entries, e)
		if at := up(path); at != "" {
			dir(at)
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

// A Renamed is a file of an archive that is named otherwise in its tree.
type Renamed struct {
	From string `json:"from"` // as the archive has it
	To   string `json:"to"`
	Why  string `json:"why"`
}

// up is the folder that a path is in, "" for the top.
func up(path string) string { return path[:max(0, strings.LastIndexByte(path, '/'))] }

// numbered puts a number behind a name.
func numbered(file string, n int) string {
	dir, name := up(file), file
	if dir != "" {
		dir, name = dir+"/", file[len(dir)+1:]
	}
	ext := path.Ext(name)
	if ext == name {
		ext = ""
	}
	return fmt.Sprintf("%s%s (%d)%s", dir, strings.TrimSuffix(name, ext), n, ext)
}

// plainPath is a stored name as a path, with all of its characters.
func plainPath(name string) string {
	return path.Clean(strings.ReplaceAll(name, `\`, "/"))
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
