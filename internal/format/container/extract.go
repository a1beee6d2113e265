package container

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
)

// Extract writes a file or folder of a tree below a folder on disk, with its dates; "." is all of
// it. Nothing is written outside of that folder, and nothing that is there is overwritten. What
// cannot be read is told to failed, and the rest goes on.
func Extract(ctx context.Context, fsys fs.FS, name, dir string, failed func(name string, err error)) (files int, bytes int64, err error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return 0, 0, err
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return 0, 0, err
	}
	defer root.Close()
	up := path.Dir(name)
	err = fs.WalkDir(fsys, name, func(p string, d fs.DirEntry, err error) error {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil {
			if p == name && d == nil {
				return err
			}
			failed(p, err)
			return nil
		}
		to := p
		if up != "." {
			to = p[len(up)+1:]
		}
		if d.IsDir() {
			if to == "." {
				return nil
			}
			return root.MkdirAll(to, 0o755)
		}
		if parent := path.Dir(to); parent != "." {
			if err := root.MkdirAll(parent, 0o755); err != nil {
				return err
			}
		}
		n, err := extract(ctx, fsys, p, root, to)
		switch {
		case errors.Is(err, errWriting):
			return err // the disk that is written to: nothing else would go either
		case err != nil:
			failed(p, err)
			return nil
		}
		files, bytes = files+1, bytes+n
		return nil
	})
	return files, bytes, err
}

// errWriting marks what is the target's fault.
var errWriting = errors.New("it cannot be written")

// writing is a writer whose errors are marked.
type writing struct {
	ctx context.Context
	w   io.Writer
}

func (w writing) Write(b []byte) (int, error) {
	if err := w.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := w.w.Write(b)
	if err != nil {
		err = fmt.Errorf("%w: %w", errWriting, err)
	}
	return n, err
}

func extract(ctx context.Context, fsys fs.FS, name string, root *os.Root, to string) (n int64, err error) {
	src, err := fsys.Open(name)
	if err != nil {
		return 0, err
	}
	defer src.Close()
	info, err := src.Stat()
	if err != nil {
		return 0, err
	}
	f, err := root.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if errors.Is(err, fs.ErrExist) {
		return 0, errors.New("a file of that name is there already, and is left alone")
	}
	if err != nil {
		return 0, fmt.Errorf("%w: %w", errWriting, err)
	}
	n, err = io.Copy(writing{ctx, f}, src)
	if closeErr := f.Close(); err == nil && closeErr != nil {
		err = fmt.Errorf("%w: %w", errWriting, closeErr)
	}
	if err != nil {
		_ = root.Remove(to)
		return n, err
	}
	if when := info.ModTime(); !when.IsZero() {
		_ = root.Chtimes(to, when, when)
	}
	return n, nil
}
