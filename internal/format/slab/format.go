package slab

import (
	"crypto/rand"
	"errors"
	"fmt"
	"time"
	"unicode/utf8"
)

// Options are how a disk is formatted.
type Options struct {
	Label  string
	Sector int64 // 512 where it is 0
	// Tables is how many slabs each table has: one for each 100,000,000,000 bytes of the disk, and at least 1, where it
	// is 0. A slab holds some 30,000 records of usual length.
	Tables int64
	// Number is the disk's own one, Now when it is formatted: a random one and the time where they are zero.
	Number [16]byte
	Now    time.Time
}

// header is what a disk of so many bytes begins with; the error says why there can be none.
func (o *Options) header(size int64) (h header, err error) {
	h = header{sector: o.Sector, tableSlabs: o.Tables, slabs: size / Slab, number: o.Number, label: o.Label,
		formatted: stamp(o.Now)}
	if h.sector == 0 {
		h.sector = 512
	}
	if h.tableSlabs == 0 {
		h.tableSlabs = min(max(1, size/100_000_000_000), mostTableSlabs)
	}
	switch {
	case h.sector != 512 && h.sector != 4096:
		return h, fmt.Errorf("a sector has 512 or 4096 bytes, not %d", h.sector)
	case h.tableSlabs < 1 || h.tableSlabs > mostTableSlabs:
		return h, fmt.Errorf("a table has 1 to %d slabs, not %d", mostTableSlabs, h.tableSlabs)
	case h.slabs < 2*h.tableSlabs+2:
		return h, fmt.Errorf("a slab disk has at least %d slabs of 4 MiB, and there are %d", 2*h.tableSlabs+2, h.slabs)
	}
	if why := CheckLabel(h.label); why != "" {
		return h, errors.New(why)
	}
	return h, nil
}

// Check reports why there can be no disk of so many bytes.
func Check(size int64, o Options) error {
	_, err := o.header(size)
	return err
}

// CheckLabel says why a disk cannot have a label; "" where it can.
func CheckLabel(label string) string {
	if len(label) > LongestLabel || !utf8.ValidString(label) {
		return fmt.Sprintf("a label has at most %d bytes of UTF-8", LongestLabel)
	}
	return ""
}

// Format makes an empty disk of the size bytes of a medium. What was on it is lost.
func Format(m Medium, size int64, o Options) (*Disk, error) {
	h, err := o.header(size)
	if err != nil {
		return nil, err
	}
	if h.number == [16]byte{} {
		if _, err := rand.Read(h.number[:]); err != nil {
			return nil, err
		}
	}
	d := &Disk{m: m, size: size, head: h, other: true, writers: map[*Writer]bool{}}
	// a table of an earlier disk must not be taken for one of this: it has another number, and is made invalid first
	empty := make([]byte, 4096)
	for _, at := range []int64{0, Slab - 4096, h.tableAt(false), h.tableAt(true)} {
		if _, err := m.WriteAt(empty, at); err != nil {
			return nil, err
		}
	}
	if err := m.Sync(); err != nil {
		return nil, err
	}
	if err := d.commit(nil); err != nil {
		return nil, err
	}
	return d, d.putHeaders()
}

// putHeaders writes the header, and its copy first: whoever finds the first finds both.
func (d *Disk) putHeaders() error {
	sector := make([]byte, d.head.sector)
	copy(sector, d.head.put())
	for _, at := range []int64{Slab - d.head.sector, 0} {
		if _, err := d.m.WriteAt(sector, at); err != nil {
			return err
		}
		if err := d.m.Sync(); err != nil {
			return err
		}
	}
	return nil
}
