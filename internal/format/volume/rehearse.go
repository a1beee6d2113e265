package volume

import (
	"errors"
	"io"
)

// Rehearse opens the volume once more, as it is on its device, to try on it what [Volume.Defragment] would do: what is
// changed stays in memory, and the bytes of files are not copied. open is how volumes of its filesystem are opened.
func (v *Volume) Rehearse(open func(Device) (*Volume, error)) (*Volume, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if err := v.flush(); err != nil {
		return nil, err
	}
	r, err := open(&shadow{base: v.dev, pages: map[int64][]byte{}})
	if err != nil {
		return nil, err
	}
	r.rehearsal = true
	return r, nil
}

// shadow is a device that is only read: what is written lies before it, in pages.
type shadow struct {
	base  io.ReaderAt
	pages map[int64][]byte
}

const shadowPage = 4096

// page is a page that was written to, or is about to be.
func (d *shadow) page(k int64) ([]byte, error) {
	if p := d.pages[k]; p != nil {
		return p, nil
	}
	p := make([]byte, shadowPage)
	if _, err := d.base.ReadAt(p, k*shadowPage); err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	d.pages[k] = p
	return p, nil
}

// ReadAt reads what was written, and else the device.
func (d *shadow) ReadAt(b []byte, off int64) (int, error) {
	n, err := d.base.ReadAt(b, off)
	if err != nil && !errors.Is(err, io.EOF) {
		return n, err
	}
	for k := off / shadowPage; k*shadowPage < off+int64(n); k++ {
		if p := d.pages[k]; p != nil {
			from := max(off, k*shadowPage)
			copy(b[from-off:n], p[from-k*shadowPage:])
		}
	}
	return n, err
}

// WriteAt writes into memory.
func (d *shadow) WriteAt(b []byte, off int64) (int, error) {
	for done := 0; done < len(b); {
		at := off + int64(done)
		p, err := d.page(at / shadowPage)
		if err != nil {
			return done, err
		}
		done += copy(p[at%shadowPage:], b[done:])
	}
	return len(b), nil
}

// Sync has nothing to do.
func (d *shadow) Sync() error { return nil }
