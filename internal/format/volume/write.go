package volume

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
	"os"
	"slices"
	"time"

	"polytome/internal/filecopy"
	"polytome/internal/format/fstree"
	"polytome/internal/size"
)

// A Writer is a file that has no name yet. What it holds is in clusters that the tables call free, so that
// nothing has to be cleared away after a cut.
type Writer struct {
	v     *Volume
	ctx   context.Context
	name  string
	over  *Node // the file whose place it takes
	runs  []Run
	space int64 // bytes in the runs
	at    int64
	date  time.Time
	done  bool
}

// Create begins a file of size bytes, of which less or more may come. It is contiguous where one is free; with
// contiguous it fails with a [FragmentedError] where none is. It fails with [fs.ErrExist] when there is one of that
// name.
func (v *Volume) Create(ctx context.Context, name string, size int64, contiguous bool) (*Writer, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	dir, base, err := v.parentOf("create", name)
	if err != nil {
		return nil, err
	}
	if dir.dir.names[v.f.Fold(base)] != nil {
		return nil, &fs.PathError{Op: "create", Path: name, Err: fs.ErrExist}
	}
	if _, err := v.f.Encode(&Node{Name: base}, func([11]byte) bool { return false }); err != nil {
		return nil, &fs.PathError{Op: "create", Path: name, Err: err}
	}
	return v.begin(ctx, name, nil, size, contiguous)
}

// Replace is Create for a file that is there. It stays until the new one is committed.
func (v *Volume) Replace(ctx context.Context, name string, size int64, contiguous bool) (*Writer, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	n, err := v.find("replace", name)
	if err != nil {
		return nil, err
	}
	if n.Folder {
		return nil, &fs.PathError{Op: "replace", Path: name, Err: errors.New("it is a folder")}
	}
	return v.begin(ctx, name, n, size, contiguous)
}

func (v *Volume) begin(ctx context.Context, name string, over *Node, n int64, contiguous bool) (*Writer, error) {
	if n > v.f.LargestFile() {
		return nil, &fs.PathError{Op: "create", Path: name,
			Err: fmt.Errorf("it has %s, and no file can have more than %s here", size.Format(n),
				size.Format(v.f.LargestFile()))}
	}
	if err := v.beginWrite(ctx); err != nil {
		return nil, err
	}
	w := &Writer{v: v, ctx: ctx, name: name, over: over}
	if err := w.reserve(n, contiguous); err != nil {
		return nil, &fs.PathError{Op: "create", Path: name, Err: err}
	}
	return w, nil
}

// reserve takes clusters for n bytes more than there is space for.
func (w *Writer) reserve(n int64, contiguous bool) error {
	v := w.v
	need := v.clusters(n)
	if need == 0 {
		return nil
	}
	if need > math.MaxUint32 || uint64(need) > v.space.free {
		return fmt.Errorf("%w: %s are needed and %s are free", ErrNoSpace, size.Format(need*v.info.Cluster),
			size.Format(int64(v.space.free)*v.info.Cluster))
	}
	if k := len(w.runs); k > 0 && v.space.at(Run{w.runs[k-1].End(), uint32(need)}) {
		w.runs[k-1].Count += uint32(need)
	} else if r, ok := v.space.one(uint32(need)); ok {
		w.runs = append(w.runs, r)
	} else if contiguous {
		return &FragmentedError{Need: need * v.info.Cluster, Largest: int64(v.space.largest()) * v.info.Cluster}
	} else {
		runs, _ := v.space.some(uint32(need))
		w.runs = append(w.runs, runs...)
	}
	w.space += need * v.info.Cluster
	return nil
}

// ready has space for n more bytes, and returns where they go.
func (w *Writer) ready(n int64) ([]fstree.Extent, error) {
	if w.done {
		return nil, fs.ErrClosed
	}
	if err := w.ctx.Err(); err != nil {
		return nil, err
	}
	w.v.mu.Lock()
	defer w.v.mu.Unlock()
	if w.v.broken != nil {
		return nil, w.v.broken
	}
	if w.at+n > w.v.f.LargestFile() {
		return nil, fmt.Errorf("no file can have more than %s here", size.Format(w.v.f.LargestFile()))
	}
	if more := w.at + n - w.space; more > 0 {
		if err := w.reserve(more, false); err != nil {
			return nil, err
		}
	}
	return w.v.bytes(w.runs, w.at, n), nil
}

// bytes are where n bytes of runs lie on the device, from a byte on.
func (v *Volume) bytes(runs []Run, at, n int64) []fstree.Extent {
	var out []fstree.Extent
	for _, r := range runs {
		length := int64(r.Count) * v.info.Cluster
		if at >= length {
			at -= length
			continue
		}
		if n <= 0 {
			break
		}
		k := min(n, length-at)
		out = append(out, fstree.Extent{At: v.offset(r.First) + at, Length: k})
		n -= k
		at = 0
	}
	return out
}

// fail remembers that the device fails. A context that was cancelled is no such failure.
func (w *Writer) fail(err error) error {
	w.v.mu.Lock()
	defer w.v.mu.Unlock()
	return w.v.failing(err)
}

// Write appends bytes.
func (w *Writer) Write(b []byte) (int, error) {
	extents, err := w.ready(int64(len(b)))
	if err != nil {
		return 0, err
	}
	done := 0
	for _, e := range extents {
		n, err := w.v.dev.WriteAt(b[done:done+int(e.Length)], e.At)
		done += n
		w.at += int64(n)
		if err != nil {
			return done, w.fail(err)
		}
	}
	return done, nil
}

// Skip appends n zero bytes.
func (w *Writer) Skip(n int64) error {
	extents, err := w.ready(n)
	if err != nil {
		return err
	}
	for _, e := range extents {
		if err := w.v.zero(e.At, e.Length); err != nil {
			return w.fail(err)
		}
		w.at += e.Length
	}
	return nil
}

// CopyFrom appends bytes straight out of a file, where the device can do that.
func (w *Writer) CopyFrom(f *os.File, at, n int64) (int64, error) {
	to, ok := w.v.dev.(interface {
		CopyFrom(f *os.File, at, to, n int64) (int64, error)
	})
	if !ok {
		return 0, errors.ErrUnsupported
	}
	extents, err := w.ready(n)
	if err != nil {
		return 0, err
	}
	var done int64
	for _, e := range extents {
		k, err := to.CopyFrom(f, at+done, e.At, e.Length)
		done += k
		w.at += k
		if errors.Is(err, errors.ErrUnsupported) && done == 0 {
			return 0, err
		}
		if err != nil {
			return done, err // which of the two failed is not reported
		}
	}
	return done, nil
}

var _ filecopy.Taker = (*Writer)(nil)

// Size is how many bytes were written.
func (w *Writer) Size() int64 { return w.at }

// Runs are the clusters that were written to, in their order.
func (w *Writer) Runs() []Run {
	head, _ := split(w.runs, w.v.clusters(w.at))
	return head
}

// Reader reads what was written.
func (w *Writer) Reader() io.ReaderAt {
	return fstree.Extents(w.v.dev, w.v.bytes(w.runs, 0, w.at))
}

// Extents are where what was written is on the device.
func (w *Writer) Extents() []fstree.Extent { return w.v.bytes(w.runs, 0, w.at) }

// Date sets the date of the last change.
func (w *Writer) Date(t time.Time) { w.date = t }

// Commit gives the file its name. That is on the device after the next [Volume.Flush].
func (w *Writer) Commit() error {
	v := w.v
	v.mu.Lock()
	defer v.mu.Unlock()
	if w.done {
		return fs.ErrClosed
	}
	if v.broken != nil {
		return v.broken
	}
	head, tail := split(w.runs, v.clusters(w.at))
	head = Merge(head)
	flat := len(head) == 1 && v.f.FolderSizes()
	fill := func(n *Node) {
		n.Size, n.Valid, n.Flat, n.First = w.at, w.at, flat, 0
		if n.Modified = w.date; w.date.IsZero() {
			n.Modified = v.Now()
		}
		if len(head) > 0 {
			n.First = head[0].First
		}
		n.runs, n.known, n.runErr = head, true, nil
	}
	var old []Run
	if w.over == nil {
		dir, base, err := v.parentOf("create", w.name)
		if err != nil {
			return err
		}
		if dir.dir.names[v.f.Fold(base)] != nil {
			return &fs.PathError{Op: "create", Path: w.name, Err: fs.ErrExist}
		}
		n := &Node{Name: base, Attr: ArchiveAttr}
		fill(n)
		if err := v.link(head, flat); err != nil {
			return err
		}
		if err := v.add(dir, n); err != nil {
			w.end(tail)
			v.unlink(head)
			return &fs.PathError{Op: "create", Path: w.name, Err: err}
		}
	} else {
		var err error
		if old, err = v.runsOf(w.over); err != nil {
			return &fs.PathError{Op: "replace", Path: w.name, Err: err}
		}
		if err := v.flush(); err != nil { // an earlier change of the same name comes first
			return err
		}
		if err := v.link(head, flat); err != nil {
			return err
		}
		fill(w.over)
		if err := v.patch(w.over); err != nil {
			return v.failing(err) // memory and device are of different minds now
		}
	}
	v.release = append(v.release, old...)
	w.end(tail)
	return nil
}

// end gives back what was reserved and is not needed.
func (w *Writer) end(tail []Run) {
	for _, r := range tail {
		w.v.space.give(r)
	}
	w.runs, w.done = nil, true
}

// Abort gives up the file. Nothing of it is left.
func (w *Writer) Abort() {
	w.v.mu.Lock()
	defer w.v.mu.Unlock()
	if !w.done {
		w.end(slices.Clone(w.runs))
	}
}
