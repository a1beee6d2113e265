package folder

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"time"

	"polytome/internal/filecopy"
	"polytome/internal/plainfile"
	"polytome/internal/size"
	"polytome/internal/sparse"
	"polytome/internal/target"
	"polytome/internal/writeback"
)

// writer is a file under its temporary name.
type writer struct {
	p     *Target
	ctx   context.Context
	f     *os.File
	temp  string
	name  string
	at    int64 // where the next byte goes
	holes bool  // zeros may be left unwritten
	over  bool  // it takes the place of a file that is there
	open  bool  // the last bytes were skipped, and the file does not reach there yet
	ended bool
	size  int64 // that space was made for
	// watched counts bytes since it was looked how much space is left.
	watched int64
	date    time.Time // zero for that of writing
	dropped bool      // what was written is on its way from the medium again
	queue   *writeback.Queue
}

var zeros [256 << 10]byte

// writeUnit is the most that is handed to the system at once: larger pieces
// are several times slower on some systems.
const writeUnit = 128 << 10

// reserve frees space for the whole file, where no hole may be in it.
func (w *writer) reserve() error {
	if w.holes {
		return nil
	}
	return allocate(w.f, w.size)
}

// watchEvery is after how many bytes it is looked whether there is still space for the rest of a file, where none was
// made for it in advance: others may write there too.
const watchEvery = 64 << 20

// watch fails early on a target that others have filled meanwhile.
func (w *writer) watch(n int) error {
	if w.watched += int64(n); w.watched < watchEvery || w.holes {
		return nil
	}
	w.watched = 0
	m, err := mountOf(w.p.dir)
	if err != nil {
		return w.p.explain("checking the free space for", w.name, err)
	}
	info, err := w.f.Stat()
	if err != nil {
		return w.p.explain("checking the free space for", w.name, err)
	}
	if needs := w.size - w.at - reserved(info, w.at); needs > m.free && m.capacity > 0 {
		return w.p.explain("writing", w.name, fmt.Errorf("%w: %s are still to be written, but only %s are free",
			target.ErrNoSpace, size.Format(needs), size.Format(m.free)))
	}
	return nil
}

// push has the last n bytes be brought to the medium. Where nothing is flushed, nobody waits for that either.
func (w *writer) push(n int64) error {
	if w.p.opts.Unsynced {
		return nil
	}
	if w.queue == nil {
		w.queue = writeback.Of(w.f)
	}
	return w.p.explain("writing", w.name, w.queue.Wrote(w.at-n, n))
}

func (w *writer) Write(b []byte) (int, error) {
	if err := w.ctx.Err(); err != nil {
		return 0, err
	}
	if err := w.watch(len(b)); err != nil {
		return 0, err
	}
	done := 0
	for done < len(b) {
		n, err := w.f.WriteAt(b[done:min(done+writeUnit, len(b))], w.at)
		w.at += int64(n)
		done += n
		w.open = false
		if err != nil {
			return done, w.p.explain("writing", w.name, err)
		}
	}
	return done, w.push(int64(done))
}

// Shares reports whether a file is on the same filesystem, so that the system can copy out of it.
func (w *writer) Shares(f *os.File) bool {
	a, ok := deviceOf(w.f)
	b, also := deviceOf(f)
	return ok && also && a == b
}

// CopyFrom takes bytes out of a file of this computer, where the system can do that by itself.
func (w *writer) CopyFrom(f *os.File, at, n int64) (int64, error) {
	if err := w.ctx.Err(); err != nil {
		return 0, err
	}
	k, err := filecopy.Range(w.f, w.at, f, at, n)
	if errors.Is(err, errors.ErrUnsupported) {
		return 0, err
	}
	w.at += k
	w.open = w.open && k == 0
	if err == nil {
		return k, w.push(k)
	}
	return k, w.p.explain("writing", w.name, err)
}

func (w *writer) Skip(n int64) error {
	if w.holes {
		if err := w.ctx.Err(); err != nil {
			return err
		}
		w.at += n
		w.open = true
		return nil
	}
	for n > 0 {
		k, err := w.Write(zeros[:min(n, int64(len(zeros)))])
		if err != nil {
			return err
		}
		n -= int64(k)
	}
	return nil
}

// extend makes the file as long as what was skipped at its end.
func (w *writer) extend() error {
	if !w.open {
		return nil
	}
	w.open = false
	return w.p.explain("writing", w.name, w.f.Truncate(w.at))
}

func (w *writer) Flush() error {
	if err := w.extend(); err != nil {
		return err
	}
	return w.p.explain("flushing", w.name, w.f.Sync())
}

func (w *writer) ReadBack() (target.Content, error) {
	if w.dropped {
		info, err := w.f.Stat()
		if err != nil {
			return nil, w.p.explain("reading back", w.name, err)
		}
		return &again{content{w.f, info.Size()}}, nil
	}
	var f *os.File
	err := w.p.in(w.temp, func(dir *os.Root, base string) (err error) {
		f, err = dir.Open(base)
		return err
	})
	if err != nil {
		return nil, w.p.explain("reading back", w.name, err)
	}
	dropCache(f)
	return newContent(f)
}

// Length asks the system for it: what the system keeps of the file may stay there.
func (w *writer) Length() (int64, error) {
	info, err := w.f.Stat()
	if err != nil {
		return 0, w.p.explain("looking at", w.name, err)
	}
	return info.Size(), nil
}

// There is how many bytes an earlier run has left.
func (w *writer) There() int64 { return w.at }

// Keep goes on behind the first n bytes of what was left.
func (w *writer) Keep(n int64) error {
	err := w.f.Truncate(n) // what comes behind may be anything
	if err == nil {
		w.at = n
		err = w.reserve()
	}
	return w.p.explain("resuming", w.name, err)
}

// Leave ends the writer, and leaves what was written.
func (w *writer) Leave() error {
	if w.ended {
		return nil
	}
	err := w.extend()
	if err == nil {
		err = w.f.Sync()
	}
	w.ended = true
	if closed := w.f.Close(); err == nil {
		err = closed
	}
	return w.p.explain("removing", w.name, err)
}

// Date sets the date when the file gets its name.
func (w *writer) Date(t time.Time) error {
	w.date = t
	return nil
}

func (w *writer) Commit() error {
	if err := w.extend(); err != nil {
		return err
	}
	if w.at < w.size { // less came than was made space for
		if err := w.f.Truncate(w.at); err != nil {
			return w.p.explain("writing", w.name, err)
		}
	}
	if err := w.f.Close(); err != nil {
		return w.p.explain("closing", w.name, err)
	}
	w.p.still(w.name)
	if !w.over {
		if err := w.p.absent(w.name); err != nil {
			return err
		}
	}
	if err := w.p.in(w.name, func(dir *os.Root, base string) error {
		temp := path.Base(w.temp)
		if !w.date.IsZero() {
			if err := dir.Chtimes(temp, w.date, w.date); err != nil {
				return err
			}
		}
		return dir.Rename(temp, base)
	}); err != nil {
		return w.p.explain("naming", w.name, err)
	}
	w.ended = true
	w.p.syncFolder(path.Dir(w.name)) // the name lasts only when its folder is on the medium too
	return nil
}

func (w *writer) Abort() error {
	if w.ended {
		return nil
	}
	w.ended = true
	_ = w.f.Close() // a failed write is what led here
	return w.p.explain("removing", w.temp, w.p.in(w.temp, (*os.Root).Remove))
}

// again is what a writer wrote, read through its own file, which stays open.
type again struct{ content }

func (*again) Close() error { return nil }

// content is an open file as target.Content.
type content struct {
	*os.File
	size int64
}

// OpenFile opens any file of this computer as content.
func OpenFile(name string) (target.Content, error) {
	f, err := plainfile.Open(name)
	if err != nil {
		return nil, err
	}
	return newContent(f)
}

func newContent(f *os.File) (target.Content, error) {
	info, err := f.Stat()
	if err != nil {
		_ = f.Close()
		return nil, err
	}
	if info.IsDir() {
		_ = f.Close()
		return nil, &os.PathError{Op: "open", Path: f.Name(), Err: os.ErrInvalid}
	}
	return &content{f, info.Size()}, nil
}

// Section is the file itself.
func (c *content) Section(off int64) (f *os.File, at, n int64, ok bool) {
	return c.File, off, c.size - off, true
}

func (c *content) Size() int64                       { return c.size }
func (c *content) Data(off int64) (start, end int64) { return sparse.Data(c.File, off, c.size) }

var _ io.ReaderAt = (*content)(nil)
