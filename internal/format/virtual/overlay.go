package virtual

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sync"
)

// An Overlay is a volume that can be written to: what is written is kept apart, and the volume below stays as it is. It
// may be used by several at a time.
//
// In a file, it is a mark, the bytes of the volume (8), what the volume was like (8), and a record for each page that
// was written: its number (8), the CRC-32C of number and page (4), and the page (4,096). Of several of one number, the
// last one counts; what follows the first that is not whole was being written when the power went.
type Overlay struct {
	below io.ReaderAt
	size  int64
	was   func() (uint64, error)

	mu    sync.RWMutex    // guards what follows
	f     *os.File        // nil for one in memory
	at    map[int64]int64 // where in the file the pages are
	pages map[int64]*page // of one in memory
	end   int64           // of the file; 0 before something was written
}

const (
	overlayMark   = "POLYOVL1"
	overlayHead   = len(overlayMark) + 16
	overlayRecord = 12 + pageBytes
)

// ErrOtherVolume reports an overlay that was written on another volume, or on one that was laid out otherwise.
var ErrOtherVolume = errors.New("what was written belongs to another volume, or to one that was laid out otherwise")

// OpenOverlay opens what was written on a volume, in a file that is made where there is none; "" keeps it in memory.
// was tells what the volume is like, when something is written for the first time: another number is another volume.
func OpenOverlay(below io.ReaderAt, size int64, file string, was func() (uint64, error)) (*Overlay, error) {
	o := &Overlay{below: below, size: size, was: was, at: map[int64]int64{}, pages: map[int64]*page{}}
	if file == "" {
		return o, nil
	}
	var err error
	if o.f, err = os.OpenFile(file, os.O_RDWR|os.O_CREATE, 0o600); err != nil {
		return nil, err
	}
	if err := o.read(); err != nil {
		return nil, errors.Join(fmt.Errorf("%s: %w", file, err), o.f.Close())
	}
	return o, nil
}

// read takes up what is in the file.
func (o *Overlay) read() error {
	le := binary.LittleEndian
	head := make([]byte, overlayHead)
	n, err := o.f.ReadAt(head, 0)
	if n == 0 && errors.Is(err, io.EOF) {
		return nil
	}
	want, bad := o.head()
	switch {
	case bad != nil:
		return bad
	case n < overlayHead || string(head[:len(overlayMark)]) != overlayMark:
		return errors.New("it is no overlay")
	case string(head) != string(want):
		return ErrOtherVolume
	}
	record := make([]byte, overlayRecord)
	records := 0
	for o.end = int64(overlayHead); ; o.end += int64(overlayRecord) {
		if _, err := o.f.ReadAt(record, o.end); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			return err
		}
		number := int64(le.Uint64(record))
		if le.Uint32(record[8:]) != overlaySum(record) || number < 0 || number > (o.size-1)/pageBytes {
			break
		}
		o.at[number] = o.end
		records++
	}
	if records > 2*len(o.at)+leastSpare {
		return o.compact(want)
	}
	return o.f.Truncate(o.end)
}

// leastSpare is how many records that do not count any longer are left in a file.
const leastSpare = 1000

// compact writes the file again, with the records that count.
func (o *Overlay) compact(head []byte) error {
	f, err := os.CreateTemp(filepath.Dir(o.f.Name()), ".overlay-")
	if err != nil {
		return err
	}
	fresh := &Overlay{f: f, at: map[int64]int64{}, end: int64(len(head))}
	_, err = f.Write(head)
	record := make([]byte, overlayRecord)
	for _, number := range o.Pages() {
		if err == nil {
			_, err = o.f.ReadAt(record, o.at[number])
		}
		if err == nil {
			_, err = f.Write(record)
		}
		fresh.at[number] = fresh.end
		fresh.end += int64(overlayRecord)
	}
	if err == nil {
		err = f.Sync()
	}
	if err == nil {
		err = os.Rename(f.Name(), o.f.Name())
	}
	if err != nil {
		return errors.Join(err, f.Close(), os.Remove(f.Name()))
	}
	name := o.f.Name()
	if err := errors.Join(o.f.Close(), f.Close()); err != nil {
		return err
	}
	if o.f, err = os.OpenFile(name, os.O_RDWR, 0); err != nil {
		return err
	}
	o.at, o.end = fresh.at, fresh.end
	return nil
}

// head is what the file begins with.
func (o *Overlay) head() ([]byte, error) {
	was, err := o.was()
	le := binary.LittleEndian
	return le.AppendUint64(le.AppendUint64([]byte(overlayMark), uint64(o.size)), was), err
}

func overlaySum(record []byte) uint32 {
	return crc32.Update(crc32.Checksum(record[:8], castagnoli), castagnoli, record[12:])
}

// Close lets go of the file.
func (o *Overlay) Close() error {
	if o.f == nil {
		return nil
	}
	return o.f.Close()
}

// Pages are the numbers of the pages of 4,096 bytes that were written, in their order.
func (o *Overlay) Pages() []int64 {
	o.mu.RLock()
	defer o.mu.RUnlock()
	return slices.Sorted(func(yield func(int64) bool) {
		for n := range maps.Keys(o.at) {
			if !yield(n) {
				return
			}
		}
		for n := range maps.Keys(o.pages) {
			if !yield(n) {
				return
			}
		}
	})
}

// Wrote reports whether some of a run of bytes was written.
func (o *Overlay) Wrote(off, n int64) bool {
	o.mu.RLock()
	defer o.mu.RUnlock()
	for number := off / pageBytes; number*pageBytes < off+n; number++ {
		if _, is := o.at[number]; is || o.pages[number] != nil {
			return true
		}
	}
	return false
}

// ReadAt reads what was written, and else the volume.
func (o *Overlay) ReadAt(b []byte, off int64) (int, error) {
	n, err := o.below.ReadAt(b, off)
	if err != nil && !errors.Is(err, io.EOF) && o.Wrote(off, int64(len(b))) {
		return o.inPages(b, off) // of what cannot be read, some may have been written over
	}
	o.mu.RLock()
	defer o.mu.RUnlock()
	var failed error
	pages(off, int64(n), func(number, from, to, done int64) {
		if bad := o.copyPage(number, from, b[done:done+to-from]); bad != nil {
			failed = bad
		}
	})
	if failed != nil {
		return 0, failed
	}
	return n, err
}

// inPages reads page by page, until one can be read neither here nor below.
func (o *Overlay) inPages(b []byte, off int64) (n int, err error) {
	pages(off, int64(len(b)), func(number, from, to, done int64) {
		piece := b[done : done+to-from]
		o.mu.RLock()
		_, is := o.at[number]
		is = is || o.pages[number] != nil
		bad := o.copyPage(number, from, piece)
		o.mu.RUnlock()
		if !is {
			_, bad = o.below.ReadAt(piece, off+done)
		}
		if err == nil {
			if err = bad; err == nil {
				n += len(piece)
			}
		}
	})
	return n, err
}

// copyPage copies of a page that was written what is from a byte of it on. The caller holds the lock.
func (o *Overlay) copyPage(number, from int64, into []byte) error {
	if p := o.pages[number]; p != nil {
		copy(into, p[from:])
		return nil
	}
	if at, is := o.at[number]; is {
		_, err := o.f.ReadAt(into, at+12+from)
		return err
	}
	return nil
}

// WriteAt writes. In a file, it is there for good after [Overlay.Sync].
func (o *Overlay) WriteAt(b []byte, off int64) (int, error) {
	if off < 0 || off+int64(len(b)) > o.size {
		return 0, errBeyond
	}
	var err error
	pages(off, int64(len(b)), func(number, from, to, done int64) {
		if err == nil {
			err = o.writePage(number, from, b[done:done+to-from])
		}
	})
	if err != nil {
		return 0, err
	}
	return len(b), nil
}

func (o *Overlay) writePage(number, from int64, b []byte) error {
	record := make([]byte, overlayRecord)
	data := record[12:]
	if len(b) < pageBytes {
		if n, err := o.ReadAt(data, number*pageBytes); err != nil && !(errors.Is(err, io.EOF) && n > 0) {
			return err
		}
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if p := o.pages[number]; p != nil { // which may have been written meanwhile
		copy(data, p[:])
	} else if at, is := o.at[number]; is {
		if _, err := o.f.ReadAt(data, at+12); err != nil {
			return err
		}
	}
	copy(data[from:], b)
	if o.f == nil {
		p := page(data)
		o.pages[number] = &p
		return nil
	}
	if o.end == 0 {
		head, err := o.head()
		if err == nil {
			_, err = o.f.WriteAt(head, 0)
		}
		if err != nil {
			return err
		}
		o.end = int64(len(head))
	}
	binary.LittleEndian.PutUint64(record, uint64(number))
	binary.LittleEndian.PutUint32(record[8:], overlaySum(record))
	if _, err := o.f.WriteAt(record, o.end); err != nil {
		return err
	}
	o.at[number] = o.end
	o.end += int64(overlayRecord)
	return nil
}

// Sync brings everything that was written to the medium.
func (o *Overlay) Sync() error {
	if o.f == nil {
		return nil
	}
	return o.f.Sync()
}

// Data is the next run of bytes that may be other than zeros: those of the volume below, where it tells, and those that
// were written.
func (o *Overlay) Data(off int64) (start, end int64) {
	h, ok := o.below.(interface {
		Data(off int64) (start, end int64)
	})
	if !ok {
		return off, o.size
	}
	start, end = h.Data(off)
	for _, number := range o.Pages() {
		if at := number * pageBytes; at+pageBytes > off && at < start {
			return max(at, off), min(at+pageBytes, o.size)
		}
	}
	return start, end
}
