package slab

import (
	"crypto/rand"
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

// Format makes an empty disk of the size bytes of a medium. What was on it is lost.
func Format(m Medium, size int64, o Options) (*Disk, error) {
	h := header{sector: o.Sector, tableSlabs: o.Tables, slabs: size / Slab, number: o.Number, label: o.Label,
		formatted: o.Now.UTC().Truncate(time.Second)}
	if h.sector == 0 {
		h.sector = 512
	}
	if h.tableSlabs == 0 {
		h.tableSlabs = min(max(1, size/100_000_000_000), mostTableSlabs)
	}
	if o.Now.IsZero() {
		h.formatted = time.Now().UTC().Truncate(time.Second)
	}
	if h.number == [16]byte{} {
		if _, err := rand.Read(h.number[:]); err != nil {
			return nil, err
		}
	}
	switch {
	case h.sector != 512 && h.sector != 4096:
		return nil, fmt.Errorf("a sector has 512 or 4096 bytes, not %d", h.sector)
	case h.tableSlabs < 1 || h.tableSlabs > mostTableSlabs:
		return nil, fmt.Errorf("a table has 1 to %d slabs, not %d", mostTableSlabs, h.tableSlabs)
	case h.slabs < 2*h.tableSlabs+2:
		return nil, fmt.Errorf("a slab disk has at least %d slabs of 4 MiB, and there are %d", 2*h.tableSlabs+2,
			h.slabs)
	case len(h.label) > LongestLabel || !utf8.ValidString(h.label):
		return nil, fmt.Errorf("a label has at most %d bytes of UTF-8", LongestLabel)
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
