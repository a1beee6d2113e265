package iso9660

import (
	"errors"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"
)

// Open opens the named file or directory. A file is also an [io.ReaderAt] and
// an [io.Seeker].
func (v *Volume) Open(name string) (fs.File, error) {
	n, err := v.find("open", name)
	if err != nil {
		return nil, err
	}
	if n.dir {
		return &openDir{v: v, n: n}, nil
	}
	if n.mixed {
		return nil, &fs.PathError{Op: "open", Path: name, Err: errors.New("interleaved files are not supported")}
	}
	return &openFile{SectionReader: io.NewSectionReader(&content{v.r, n.parts}, 0, n.size), n: n}, nil
}

// ReadDir lists the named directory, sorted by name.
func (v *Volume) ReadDir(name string) ([]fs.DirEntry, error) {
	n, err := v.find("readdir", name)
	if err != nil {
		return nil, err
	}
	if !n.dir {
		return nil, &fs.PathError{Op: "readdir", Path: name, Err: errors.New("not a directory")}
	}
	children, err := v.list(n)
	out := make([]fs.DirEntry, len(children))
	for i, c := range children {
		out[i] = fs.FileInfoToDirEntry(c.info())
	}
	if err != nil {
		err = &fs.PathError{Op: "readdir", Path: name, Err: err}
	}
	return out, err
}

// Stat describes the named file or directory.
func (v *Volume) Stat(name string) (fs.FileInfo, error) {
	n, err := v.find("stat", name)
	if err != nil {
		return nil, err
	}
	return n.info(), nil
}

func (v *Volume) find(op, name string) (*node, error) {
	if !fs.ValidPath(name) {
		return nil, &fs.PathError{Op: op, Path: name, Err: fs.ErrInvalid}
	}
	n := v.root
	if name == "." {
		return n, nil
	}
	for _, elem := range strings.Split(name, "/") {
		if !n.dir {
			return nil, &fs.PathError{Op: op, Path: name, Err: fs.ErrNotExist}
		}
		children, err := v.list(n)
		i, ok := slices.BinarySearchFunc(children, elem, func(c *node, s string) int { return strings.Compare(c.name, s) })
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

// content reads the parts of a file as one run of bytes.
type content struct {
	r     io.ReaderAt
	parts []part
}

func (c *content) ReadAt(b []byte, off int64) (int, error) {
	done := 0
	for _, p := range c.parts {
		if off >= p.length {
			off -= p.length
			continue
		}
		want := min(int64(len(b)-done), p.length-off)
		n, err := c.r.ReadAt(b[done:done+int(want)], p.at+off)
		done += n
		if int64(n) < want {
			return done, noEOF(err)
		}
		if done == len(b) {
			return done, nil
		}
		off = 0
	}
	return done, io.EOF
}

type openFile struct {
	*io.SectionReader
	n *node
}

func (f *openFile) Stat() (fs.FileInfo, error) { return f.n.info(), nil }
func (f *openFile) Close() error               { return nil }

type openDir struct {
	v    *Volume
	n    *node
	next int
}

func (d *openDir) Stat() (fs.FileInfo, error) { return d.n.info(), nil }
func (d *openDir) Close() error               { return nil }
func (d *openDir) Read([]byte) (int, error) {
	return 0, &fs.PathError{Op: "read", Path: d.n.name, Err: errors.New("is a directory")}
}

func (d *openDir) ReadDir(count int) ([]fs.DirEntry, error) {
	children, err := d.v.list(d.n)
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
		out[i] = fs.FileInfoToDirEntry(c.info())
	}
	d.next += len(rest)
	return out, err
}

type info struct{ n *node }

func (n *node) info() fs.FileInfo { return info{n} }

func (i info) Name() string       { return path.Base(i.n.name) }
func (i info) Size() int64        { return i.n.size }
func (i info) ModTime() time.Time { return i.n.when }
func (i info) IsDir() bool        { return i.n.dir }
func (i info) Sys() any           { return nil }
func (i info) Mode() fs.FileMode {
	if i.n.dir {
		return fs.ModeDir | 0o555
	}
	return 0o444
}
