package check

import (
	"errors"
	"io"
	"path"

	"polytome/internal/format/fstree"
	"polytome/internal/target"
)

// A tree is the listing of a target, to be asked by paths.
type tree struct {
	*fstree.FS // the same as a file system, for what identifies games in folders

	of      *audit
	fold    func(string) string
	entries []target.Entry
	at      map[string]int   // folded path -> number of the entry
	in      map[string][]int // folded path of a folder, "." for the root -> what is in it
}

func newTree(of *audit, entries []target.Entry, fold func(string) string) *tree {
	t := &tree{of: of, fold: fold, entries: entries, at: make(map[string]int, len(entries)), in: map[string][]int{}}
	for i := range entries {
		key := fold(entries[i].Path)
		t.at[key] = i
		dir := path.Dir(key)
		t.in[dir] = append(t.in[dir], i)
	}
	t.FS = fstree.New(&fstree.Node{}, t)
	return t
}

// find returns what is at a path.
func (t *tree) find(name string) (*target.Entry, bool) {
	i, ok := t.at[t.fold(name)]
	if !ok {
		return nil, false
	}
	return &t.entries[i], true
}

// file returns the file at a path.
func (t *tree) file(name string) (*target.Entry, bool) {
	e, ok := t.find(name)
	return e, ok && !e.Folder
}

// within returns what is directly in a folder.
func (t *tree) within(dir string) (out []*target.Entry) {
	for _, i := range t.in[t.fold(dir)] {
		out = append(out, &t.entries[i])
	}
	return out
}

// largestText is how many bytes a list, sheet or settings file has at most.
const largestText = 1 << 20

var errLong = errors.New("it is too long for this kind of file")

// text reads a small file.
func (t *tree) text(e *target.Entry) (string, error) {
	if e.Size > largestText {
		return "", errLong
	}
	if t.of.written(e.Path) {
		return t.read(e)
	}
	r := once(t.of.known, t.of.known.texts, t.of.real(e.Path), func() (r text) {
		r.text, r.err = t.read(e)
		return r
	})
	return r.text, r.err
}

func (t *tree) read(e *target.Entry) (string, error) {
	c, err := t.of.open(e.Path)
	if err != nil {
		return "", err
	}
	defer c.Close()
	b, err := io.ReadAll(io.NewSectionReader(c, 0, c.Size()))
	return string(b), err
}

// List hands out what is in a folder; see [fstree.Format].
func (t *tree) List(dir *fstree.Node) (out []*fstree.Node, err error) {
	at := "."
	if e, ok := dir.Data.(*target.Entry); ok {
		at = e.Path
	}
	for _, e := range t.within(at) {
		out = append(out, &fstree.Node{Name: path.Base(e.Path), Dir: e.Folder, Size: e.Size, Modified: e.Modified,
			Data: e})
	}
	return out, nil
}

// Content opens a file; see [fstree.Format].
func (t *tree) Content(file *fstree.Node) (io.ReaderAt, error) {
	return t.of.open(file.Data.(*target.Entry).Path)
}
