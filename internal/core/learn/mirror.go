package learn

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"polytome/internal/format/archive"
	"polytome/internal/format/container"
	"polytome/internal/sparse"
	"polytome/internal/target"
)

// What is fetched of a file on a target that is not a folder of this computer: all of a small one, the beginning and
// the end of others, and more of the first ones of each kind, which platforms are worked out from.
const (
	wholeUpTo   = 256 << 10
	edge        = 64 << 10
	wideEdge    = 1 << 20
	mostWide    = 24
	mostFiles   = 20_000
	mostInside  = 400 // names in an image
	depthInside = 3
)

// mirror has what learning reads of a target in a folder: the names and lengths of all files, and of each the bytes
// that are looked at. What is not is holes, so that a large target takes little room and time. A packed image is there
// as the one that it holds.
func mirror(ctx context.Context, p target.Target, entries []target.Entry, packed map[string][]string, dir string) (
	unread []string, err error) {
	if len(entries) > mostFiles {
		return nil, fmt.Errorf("there are %d files and folders, and no more than %d can be learnt from: give one of "+
			"its "+
			"folders",
			len(entries), mostFiles)
	}
	wide := map[string]int{}
	for _, e := range entries {
		at := filepath.Join(dir, filepath.FromSlash(e.Path))
		if !filepath.IsLocal(filepath.FromSlash(e.Path)) {
			continue // a name that no system here can have
		}
		if e.Folder {
			if err := os.MkdirAll(at, 0o755); err != nil {
				return nil, err
			}
			continue
		}
		if target.IsTemporary(e.Path) || target.OfSystem(e.Path) {
			continue
		}
		if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
			return nil, err
		}
		ext := strings.ToLower(path.Ext(e.Path))
		wide[ext]++
		near := int64(edge)
		if wide[ext] <= mostWide {
			near = wideEdge
		}
		read, err := fetch(ctx, p, e.Path, packed[e.Path], at, near)
		if err != nil {
			return nil, err
		}
		if !read {
			unread = append(unread, e.Path)
		}
	}
	return unread, nil
}

// fetch copies what is looked at of one file, or of the image that packed files hold; it reports whether it could be
// read.
func fetch(ctx context.Context, p target.Target, name string, packed []string, at string, near int64) (read bool,
	err error) {
	if err := ctx.Err(); err != nil {
		return false, err
	}
	var from target.Content
	if len(packed) > 0 {
		from, err = openPacked(ctx, p, packed)
	} else {
		from, err = p.Open(ctx, name)
	}
	if err != nil {
		return false, ctx.Err()
	}
	defer from.Close() // which was read from
	f, err := os.Create(at)
	if err != nil {
		return false, err
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	if err := sparse.Extend(f, from.Size()); err != nil {
		return false, err
	}
	n := from.Size()
	r := &recorder{from: from, to: f}
	if n <= wholeUpTo || archive.Ext(strings.ToLower(path.Ext(at))) && n <= 64<<20 {
		r.fetch(0, n)
		return !r.failed, errors.Join(r.err, ctx.Err())
	}
	r.fetch(0, near)
	r.fetch(n-near, near)
	if im, err := container.OpenImage(r, n); err == nil && len(im.Volumes) > 0 {
		look(im.Volumes[0].FS)
	}
	return !r.failed, errors.Join(r.err, ctx.Err())
}

// look reads the names in an image, and the small files that may say what it is.
func look(v fs.FS) {
	names := 0
	_ = fs.WalkDir(v, ".", func(name string, d fs.DirEntry, err error) error {
		switch names++; {
		case err != nil:
			return nil
		case names > mostInside:
			return fs.SkipAll
		case d.IsDir() && strings.Count(name, "/") >= depthInside:
			return fs.SkipDir
		case d.IsDir():
			return nil
		}
		if info, err := d.Info(); err == nil && info.Size() <= maxText {
			_, _ = fs.ReadFile(v, name) // into the mirror
		}
		return nil
	})
}

// recorder reads a file, and writes what it has read to another one at the same place.
type recorder struct {
	from target.Content
	to   *os.File
	err  error // of writing
	// failed is set where something could not be read.
	failed bool
}

func (r *recorder) ReadAt(b []byte, off int64) (int, error) {
	n, err := r.from.ReadAt(b, off)
	r.failed = r.failed || err != nil && !errors.Is(err, io.EOF)
	if n > 0 {
		if _, werr := r.to.WriteAt(b[:n], off); werr != nil {
			r.err = errors.Join(r.err, werr)
		}
	}
	return n, err
}

// fetch reads a range, as far as there is one.
func (r *recorder) fetch(off, n int64) {
	off = max(0, off)
	_, _ = io.Copy(io.Discard, io.NewSectionReader(r, off, min(n, r.from.Size()-off)))
}
