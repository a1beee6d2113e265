package container

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"

	"github.com/klauspost/readahead"

	"polytome/internal/filecopy"
)

// Extract writes a file or folder of a tree below a folder on disk, with its dates; "." is all of
// it. Nothing is written outside of that folder, and nothing that is there is overwritten. What
// cannot be read is reported to failed, and the rest goes on. Files get the names that as gives them, in the order in
// which it is asked; nil leaves theirs.
func Extract(ctx context.Context, fsys fs.FS, name, dir string, as func(names []string) []string,
	failed func(name string, err error)) (files int, bytes int64, err error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return 0, 0, err
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return 0, 0, err
	}
	defer root.Close()
	up := path.Dir(name)
	renamed := map[string]string{}
	if as != nil {
		renamed = renames(fsys, name, up, as)
	}
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
		if other, ok := renamed[to]; ok {
			to = other
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

// renames asks what all files are to be called, and so their folders.
func renames(fsys fs.FS, name, up string, as func([]string) []string) map[string]string {
	var names []string
	_ = fs.WalkDir(fsys, name, func(p string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			if up != "." {
				p = p[len(up)+1:]
			}
			names = append(names, p)
		}
		return nil
	})
	out := map[string]string{}
	for i, to := range as(names) {
		for from := names[i]; from != "." && to != "."; from, to = path.Dir(from), path.Dir(to) {
			if _, known := out[from]; !known {
				out[from] = to
			}
		}
	}
	return out
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
		return 0, errors.New("already exists and was left alone")
	}
	if err != nil {
		return 0, fmt.Errorf("%w: %w", errWriting, err)
	}
	n, err = copyRuns(writing{ctx, &sparing{f: f}}, f, src, info.Size())
	if err == nil && n == info.Size() {
		if err = f.Truncate(n); err != nil { // zeros at the end were skipped
			err = fmt.Errorf("%w: %w", errWriting, err)
		}
	}
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

// sparing skips runs of zeros, which then take no space on the disk.
type sparing struct{ f *os.File }

var noughts [64 << 10]byte

func (s *sparing) Write(b []byte) (done int, err error) {
	if len(b) < len(noughts) {
		return s.f.Write(b)
	}
	for done < len(b) && err == nil {
		from, empty := done, zero(b[done:])
		for done < len(b) && zero(b[done:]) == empty {
			done = min(len(b), done+len(noughts))
		}
		if empty {
			_, err = s.f.Seek(int64(done-from), io.SeekCurrent)
		} else {
			_, err = s.f.Write(b[from:done])
		}
	}
	return done, err
}

// zero reports whether b begins with as many zeros as are skipped at a time.
func zero(b []byte) bool {
	b = b[:min(len(b), len(noughts))]
	return string(b) == string(noughts[:len(b)])
}

// copyRuns copies a file, and skips the holes that it knows of.
func copyRuns(to io.Writer, f *os.File, src fs.File, size int64) (n int64, err error) {
	holed, ok := src.(interface {
		Data(off int64) (start, end int64)
	})
	at, can := src.(io.ReaderAt)
	if !ok || !can {
		return copyAhead(to, src, size)
	}
	for off := int64(0); off < size; {
		start, end := holed.Data(off)
		if start >= size {
			return size, nil
		}
		if n, err := taken(f, src, start, end); err == nil {
			off = start + n
			continue
		} else if !errors.Is(err, errors.ErrUnsupported) {
			return start + n, fmt.Errorf("%w: %w", errWriting, err)
		}
		if _, err := f.Seek(start, io.SeekStart); err != nil {
			return off, fmt.Errorf("%w: %w", errWriting, err)
		}
		k, err := copyAhead(to, io.NewSectionReader(at, start, end-start), end-start)
		if err == nil && k < end-start {
			err = io.ErrUnexpectedEOF
		}
		if err != nil {
			return start + k, err
		}
		off = end
	}
	return size, nil
}

// taken has the system copy a run of bytes, where it can.
func taken(f *os.File, src fs.File, start, end int64) (n int64, err error) {
	s, ok := src.(filecopy.Sectioned)
	if !ok {
		return 0, errors.ErrUnsupported
	}
	of, at, k, ok := s.Section(start)
	if !ok || k <= 0 {
		return 0, errors.ErrUnsupported
	}
	return filecopy.Range(f, start, of, at, min(k, end-start))
}

// aheadFrom is from how many bytes on a file is read ahead while it is written.
const aheadFrom = 4 << 20

func copyAhead(to io.Writer, src io.Reader, size int64) (int64, error) {
	if size < aheadFrom {
		return io.CopyBuffer(to, struct{ io.Reader }{src}, make([]byte, min(size+1, 1<<20)))
	}
	r, err := readahead.NewReaderSize(src, 4, 1<<20)
	if err != nil {
		return 0, err
	}
	defer r.Close()
	return io.Copy(to, r) // which has it write out what was read
}
