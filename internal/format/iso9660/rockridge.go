package iso9660

import (
	"time"
)

// The entries of the System Use Sharing Protocol (IEEE P1281) and of Rock Ridge (IEEE P1282) that are
// written: SP says that there are such entries, ER which, PX gives the mode, TF the date, NM the whole name, CE
// reports where further entries lie.
const longestUse = 254 - recordFixed // of a record without its identifier

// continuations are entries that do not fit into their records. None crosses a sector.
type continuations struct {
	data []byte
	refs []reference
}

// A reference is a CE entry whose sector is known only later.
type reference struct {
	entry  []byte // the CE entry
	offset int    // of what it describes, in the continuations
}

// build makes the system use fields of all entries.
func (c *continuations) build(d *entry, o Options) {
	subdirs := 0
	for _, k := range d.children {
		if k.dir {
			subdirs++
			c.build(k, o)
		}
		k.in[0].use = c.field(k)
	}
	self := append(attributes(true, subdirs), date(d.when)...)
	if d.parent == d {
		er := []byte("ER\x12\x01\x0A\x00\x00\x01RRIP_1991A")
		self = append(append([]byte{'S', 'P', 7, 1, 0xBE, 0xEF, 0}, self...), er...)
	}
	up := append(attributes(true, 0), date(d.parent.when)...)
	d.in[0].self = [2][]byte{self, up}
}

// field is the system use field of an entry in its directory.
func (c *continuations) field(e *entry) []byte {
	links := 0
	for _, k := range e.children {
		if k.dir {
			links++
		}
	}
	use := append(attributes(e.dir, links), date(e.when)...)
	names := alternate(e.name)
	space := longestUse - len(e.in[0].id) - 1
	if len(use)+len(names) <= space {
		return append(use, names...)
	}
	ce := make([]byte, 28)
	copy(ce, "CE\x1C\x01")
	if len(c.data)%SectorSize+len(names) > SectorSize {
		c.data = append(c.data, make([]byte, SectorSize-len(c.data)%SectorSize)...)
	}
	putBoth32(ce[20:], uint32(len(names)))
	use = append(use, ce...)
	c.refs = append(c.refs, reference{use[len(use)-28:], len(c.data)})
	c.data = append(c.data, names...)
	return use
}

// assign fills in where the continuations lie.
func (c *continuations) assign(sector int64) {
	for _, r := range c.refs {
		putBoth32(r.entry[4:], uint32(sector+int64(r.offset/SectorSize)))
		putBoth32(r.entry[12:], uint32(r.offset%SectorSize))
	}
}

// attributes is a PX entry (4.1.1): everybody may read.
func attributes(dir bool, subdirs int) []byte {
	b := make([]byte, 36)
	copy(b, "PX\x24\x01")
	mode, links := uint32(0o100444), uint32(1)
	if dir {
		mode, links = 0o040555, uint32(2+subdirs)
	}
	putBoth32(b[4:], mode)
	putBoth32(b[12:], links)
	return b
}

// date is a TF entry (4.1.6) with the date of the last change; none for one that is not known.
func date(t time.Time) []byte {
	if t.IsZero() {
		return nil
	}
	b := make([]byte, 12)
	copy(b, "TF\x0C\x01\x02")
	putWhen(b[5:], t)
	return b
}

// alternate are the NM entries (4.1.4) of a name.
func alternate(name string) (out []byte) {
	for name != "" {
		part := name[:min(len(name), 200)]
		name = name[len(part):]
		more := byte(0)
		if name != "" {
			more = 1
		}
		out = append(out, 'N', 'M', byte(5+len(part)), 1, more)
		out = append(out, part...)
	}
	return out
}
