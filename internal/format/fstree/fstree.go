// Package fstree makes an [io/fs.FS] out of a tree of nodes, as every reader of images
// and archives needs one: listing on first use, sorted, with cycles and
// hostile names kept out.
package fstree

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"polytome/internal/filecopy"
)

// A Node is a file or directory.
type Node struct {
	Name     string // one element of a path; see [SafeName]
	Dir      bool
	Size     int64 // in bytes, of a file
	Modified time.Time
	// Data is the format's own, by which it finds the node's content again.
	Data any
	// Mark distinguishes directories: one that is below a directory with the same mark
	// contains itself. "" for directories that cannot.
	Mark string

	parent   *Node
	once     sync.Once
	children []*Node
	err      error
}

// A Format is what a tree gets its nodes from. Its methods are named by several
// goroutines at once.
type Format interface {
	// List reads a directory. What it returns besides an error is shown too.
	List(dir *Node) ([]*Node, error)
	// Content opens a file's bytes. One that is an [io.Closer] is closed with
	// its file.
	Content(file *Node) (io.ReaderAt, error)
}

// FS is a tree as an [io/fs.FS], ReadDirFS and StatFS, safe for several goroutines.
// An opened file is also an [io.ReaderAt] and [io.Seeker].
type FS struct {
	root *Node
	f    Format
}

// New makes a tree below a root directory, whose name does not matter.
func New(root *Node, f Format) *FS {
	root.Name, root.Dir = ".", true
	return &FS{root, f}
}

// maxDepth is how deep directories may nest.
const maxDepth = 128

// children lists a directory, sorted by name, on first use.
func (t *FS) children(d *Node) ([]*Node, error) {
	d.once.Do(func() {
		depth := 0
		for a := d.parent; a != nil; a = a.parent {
			if depth++; depth > maxDepth || (d.Mark != "" && a.Mark == d.Mark) {
				d.err = fmt.Errorf("the directory %q contains itself, or nests deeper than %d", d.Name, maxDepth)
				return
			}
		}
		d.children, d.err = t.f.List(d)
		for _, c := range d.children {
			c.parent = d
		}
		slices.SortStableFunc(d.children, func(a, b *Node) int { return strings.Compare(a.Name, b.Name) })
		distinct(d.children)
	})
	return d.children, d.err
}

// distinct gives those of sorted nodes that have the name of another one a number, so that none is hidden, and sorts
// them again. Of a folder and a file, the folder keeps its name.
func distinct(all []*Node) {
	again := false
	for i := 1; i < len(all); i++ {
		again = again || all[i].Name == all[i-1].Name
	}
	if !again {
		return
	}
	taken := map[string]bool{}
	for _, n := range all {
		if n.Dir {
			taken[n.Name] = true
		}
	}
	first := map[string]bool{}
	for _, n := range all {
		if n.Dir && !first[n.Name] {
			first[n.Name] = true
			continue
		}
		ext := path.Ext(n.Name)
		if ext == n.Name {
			ext = ""
		}
		base := strings.TrimSuffix(n.Name, ext)
		for k := 2; taken[n.Name]; k++ {
			n.Name = fmt.Sprintf("%s (%d)%s", base, k, ext)
		}
		taken[n.Name] = true
	}
	slices.SortStableFunc(all, func(a, b *Node) int { return strings.Compare(a.Name, b.Name) })
}

// find walks down to a path.
func (t *FS) find(op, name string) (*Node, error) {
	if !fs.ValidPath(name) {
		return nil, &fs.PathError{Op: op, Path: name, Err: fs.ErrInvalid}
	}
	n := t.root
	if name == "." {
		return n, nil
	}
	for elem := range strings.SplitSeq(name, "/") {
		if !n.Dir {
			return nil, &fs.PathError{Op: op, Path: name, Err: fs.ErrNotExist}
		}
		children, err := t.children(n)
		i, ok := slices.BinarySearchFunc(children, elem,
			func(c *Node, s string) int { return strings.Compare(c.Name, s) })
		if !ok {
			if err == nil {
				err = fs.ErrNotExist
			}
			return nil, &fs.PathError{Op: op, Path: name, Err: err}
		}
		n = children[i]
	}
	return n, nil
}

// Find returns the node at a path.
func (t *FS) Find(name string) (*Node, error) { return t.find("stat", name) }

// Open opens the named file or directory.
func (t *FS) Open(name string) (fs.File, error) {
	n, err := t.find("open", name)
	if err != nil {
		return nil, err
	}
	if n.Dir {
		return &openDir{t: t, n: n}, nil
	}
	f, err := OpenFile(t.f, n)
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: name, Err: err}
	}
	return f, nil
}

// OpenFile opens a file that is known, without the tree that it is in.
func OpenFile(f Format, n *Node) (fs.File, error) {
	c, err := f.Content(n)
	if err != nil {
		return nil, err
	}
	return &openFile{SectionReader: io.NewSectionReader(c, 0, n.Size), n: n, c: c}, nil
}

// ReadDir lists the named directory, sorted by name. A damaged one gives what could be
// read, and an error.
func (t *FS) ReadDir(name string) ([]fs.DirEntry, error) {
	n, err := t.find("readdir", name)
	if err != nil {
		return nil, err
	}
	if !n.Dir {
		return nil, &fs.PathError{Op: "readdir", Path: name, Err: errors.New("not a directory")}
	}
	children, err := t.children(n)
	out := make([]fs.DirEntry, len(children))
	for i, c := range children {
		out[i] = fs.FileInfoToDirEntry(info{c})
	}
	if err != nil {
		err = &fs.PathError{Op: "readdir", Path: name, Err: err}
	}
	return out, err
}

// Stat describes the named file or directory.
func (t *FS) Stat(name string) (fs.FileInfo, error) {
	n, err := t.find("stat", name)
	if err != nil {
		return nil, err
	}
	return info{n}, nil
}

type openFile struct {
	*io.SectionReader
	n *Node
	c io.ReaderAt
}

// Data is the first run of data at or after off, as far as the content knows; what is between is zeros. At the
// end it is the file's length twice.
func (f *openFile) Data(off int64) (start, end int64) {
	if h, ok := f.c.(interface {
		Data(off int64) (start, end int64)
	}); ok {
		return h.Data(off)
	}
	return min(off, f.n.Size), f.n.Size
}

// InOrder reports whether what it has can only be had from its beginning on, as what is packed in archives.
func (f *openFile) InOrder() bool {
	o, ok := f.c.(interface{ InOrder() bool })
	return ok && o.InOrder()
}

// Section reports where the bytes from off on lie in a file on disk, where they do.
func (f *openFile) Section(off int64) (of *os.File, at, n int64, ok bool) {
	if s, is := f.c.(filecopy.Sectioned); is {
		of, at, n, ok = s.Section(off)
		return of, at, min(n, f.n.Size-off), ok
	}
	return nil, 0, 0, false
}

func (f *openFile) Stat() (fs.FileInfo, error) { return info{f.n}, nil }
func (f *openFile) Close() error {
	if c, ok := f.c.(io.Closer); ok {
		return c.Close()
	}
	return nil
}

type openDir struct {
	t    *FS
	n    *Node
	next int
}

func (d *openDir) Stat() (fs.FileInfo, error) { return info{d.n}, nil }
func (d *openDir) Close() error               { return nil }
func (d *openDir) Read([]byte) (int, error) {
	return 0, &fs.PathError{Op: "read", Path: d.n.Name, Err: errors.New("is a directory")}
}

func (d *openDir) ReadDir(count int) ([]fs.DirEntry, error) {
	children, err := d.t.children(d.n)
	rest := children[min(d.next, len(children)):]
	if count > 0 {
		rest = rest[:min(count, len(rest))]
		if len(rest) == 0 && err == nil {
			err = io.EOF
		} else if len(rest) > 0 {
			err = nil
		}
	}
	out := make([]fs.DirEntry, len(rest))
	for i, c := range rest {
		out[i] = fs.FileInfoToDirEntry(info{c})
	}
	d.next += len(rest)
	return out, err
}

type info struct{ n *Node }

func (i info) Name() string       { return path.Base(i.n.Name) }
func (i info) Size() int64        { return i.n.Size }
func (i info) ModTime() time.Time { return i.n.Modified }
func (i info) IsDir() bool        { return i.n.Dir }
func (i info) Sys() any           { return nil }
func (i info) Mode() fs.FileMode {
	if i.n.Dir {
		return fs.ModeDir | 0o555
	}
	return 0o444
}

// SafeName makes any name usable as one element of an [io/fs] path.
func SafeName(s string) string {
	s = strings.Map(func(r rune) rune {
		if r == '/' || r == '\\' || r < ' ' || r == 0x7F {
			return '_'
		}
		return r
	}, strings.ToValidUTF8(s, "_"))
	if s == "" || s == "." || s == ".." {
		return "_"
	}
	return s
}

// An Extent is a run of bytes; one at a negative offset is zeros that are not stored.
type Extent struct{ At, Length int64 }

// Extents reads runs of bytes in r, one after another, as one.
func Extents(r io.ReaderAt, runs []Extent) io.ReaderAt { return &extents{r, runs} }

type extents struct {
	r    io.ReaderAt
	runs []Extent
}

func (c *extents) ReadAt(b []byte, off int64) (int, error) {
	done := 0
	for _, p := range c.runs {
		if off >= p.Length {
			off -= p.Length
			continue
		}
		want := min(int64(len(b)-done), p.Length-off)
		into := b[done : done+int(want)]
		if p.At < 0 {
			clear(into)
			done += len(into)
		} else {
			n, err := c.r.ReadAt(into, p.At+off)
			done += n
			if int64(n) < want {
				if err == nil || errors.Is(err, io.EOF) {
					err = io.ErrUnexpectedEOF
				}
				return done, err
			}
		}
		if done == len(b) {
			return done, nil
		}
		off = 0
	}
	return done, io.EOF
}

// InOrder reports whether what the extents are of can only be had from its beginning on.
func (c *extents) InOrder() bool {
	o, ok := c.r.(interface{ InOrder() bool })
	return ok && o.InOrder()
}

// Data is the first run of data at or after off, where r knows its holes; what is between is zeros. At the end it is
// the length twice.
func (c *extents) Data(off int64) (start, end int64) {
	h, ok := c.r.(interface {
		Data(off int64) (start, end int64)
	})
	var base int64
	for _, p := range c.runs {
		from := max(off, base)
		if from >= base+p.Length || p.At < 0 {
			base += p.Length
			continue
		}
		if !ok {
			return from, base + p.Length
		}
		start, end := h.Data(p.At + from - base)
		if start < p.At+p.Length {
			return base + start - p.At, base + min(end, p.At+p.Length) - p.At
		}
		base += p.Length
	}
	return max(off, base), max(off, base)
}

// Section reports where the bytes from off on lie in a file on disk, where r does.
func (c *extents) Section(off int64) (f *os.File, at, n int64, ok bool) {
	s, is := c.r.(filecopy.Sectioned)
	if !is {
		return nil, 0, 0, false
	}
	for _, p := range c.runs {
		if off >= p.Length {
			off -= p.Length
			continue
		}
		if p.At < 0 {
			return nil, 0, 0, false
		}
		f, at, n, ok = s.Section(p.At + off)
		return f, at, min(n, p.Length-off), ok
	}
	return nil, 0, 0, false
}
