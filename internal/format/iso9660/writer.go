package iso9660

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Options are the descriptive fields of a new volume.
type Options struct {
	VolumeID      string    // at most 32 characters, made legal by upper-casing
	ApplicationID string    // at most 128 characters
	Created       time.Time // the zero time writes "not specified"
}

// A Range is a run of bytes in a file, [Start, End).
type Range struct{ Start, End int64 }

// Sparse is implemented by files of the source tree that know where their data
// lie; everything else in them is zeros. [Image.WriteSparse] then leaves holes.
type Sparse interface {
	// DataRanges returns the runs of data in ascending order, not overlapping.
	DataRanges() []Range
}

// An Image is a laid out volume, ready to be written as often as wanted.
type Image struct {
	fsys  fs.FS
	opts  Options
	root  *entry
	dirs  []*entry // in path table order (6.9.1)
	files []*entry // in the order of their data
	table int64    // bytes in one path table
	total int64    // sectors
}

// entry is a file or directory on its way into an image.
type entry struct {
	source   string // path in the source tree
	id       string // identifier as written, with version
	dir      bool
	when     time.Time
	size     int64 // bytes: of the data, or of the directory's own extent
	sector   int64
	parent   *entry
	children []*entry // sorted by identifier (9.3)
	number   int      // in the path table, from 1
}

// maxWriteDepth is the deepest hierarchy that the standard allows (6.8.2.1).
const maxWriteDepth = 8

// Lay reads the tree of fsys and decides where everything goes. File names are
// brought into the primary name space: upper case, letters, digits and
// underscores, 30 characters, unique in their directory. Trees deeper than eight levels and
// irregular files are an error.
func Lay(fsys fs.FS, opts Options) (*Image, error) {
	im := &Image{fsys: fsys, opts: opts, root: &entry{source: ".", dir: true, id: "\x00", when: opts.Created}}
	im.root.parent = im.root
	if err := im.scan(im.root, 1); err != nil {
		return nil, err
	}
	im.place()
	if im.total > 1<<32-1 {
		return nil, fmt.Errorf("the volume would have %d sectors, more than ISO 9660 can count", im.total)
	}
	return im, nil
}

// Size is the exact length of the image in bytes.
func (im *Image) Size() int64 { return im.total * SectorSize }

func (im *Image) scan(d *entry, depth int) error {
	if depth > maxWriteDepth {
		return fmt.Errorf("%s: folders nest deeper than %d levels", d.source, maxWriteDepth)
	}
	list, err := fs.ReadDir(im.fsys, d.source)
	if err != nil {
		return err
	}
	taken := map[string]bool{}
	for _, e := range list {
		info, err := e.Info()
		if err != nil {
			return err
		}
		if !e.IsDir() && !info.Mode().IsRegular() {
			return fmt.Errorf("%s: only files and folders can go into an image", path.Join(d.source, e.Name()))
		}
		c := &entry{source: path.Join(d.source, e.Name()), dir: e.IsDir(), when: info.ModTime(), parent: d}
		c.id = primaryName(e.Name(), c.dir, taken)
		if c.dir {
			if err := im.scan(c, depth+1); err != nil {
				return err
			}
		} else {
			c.size = info.Size()
		}
		d.children = append(d.children, c)
	}
	slices.SortFunc(d.children, func(a, b *entry) int { return compareIDs(a.id, b.id) })
	return nil
}

// compareIDs orders identifiers as 9.3 asks: names and extensions as if padded
// with spaces.
func compareIDs(a, b string) int {
	an, ae, _ := strings.Cut(strings.TrimSuffix(a, ";1"), ".")
	bn, be, _ := strings.Cut(strings.TrimSuffix(b, ";1"), ".")
	return cmp.Or(strings.Compare(an, bn), strings.Compare(ae, be))
}

// primaryName makes a legal identifier (7.5, 7.6) that is not yet taken.
func primaryName(name string, dir bool, taken map[string]bool) string {
	legal := func(s string) string {
		return strings.Map(func(r rune) rune {
			switch {
			case r >= 'A' && r <= 'Z', r >= '0' && r <= '9', r == '_':
				return r
			case r >= 'a' && r <= 'z':
				return r - 'a' + 'A'
			}
			return '_'
		}, s)
	}
	base, ext := name, ""
	if i := strings.LastIndexByte(name, '.'); !dir && i >= 0 {
		base, ext = name[:i], name[i+1:]
	}
	base, ext = legal(base), legal(ext)
	ext = ext[:min(len(ext), 8)]
	for n := 0; ; n++ {
		mark := ""
		if n > 0 {
			mark = "_" + strconv.Itoa(n)
		}
		id := base[:min(len(base), 30-len(ext)-len(mark))] + mark
		if !dir {
			id += "." + ext + ";1"
		}
		if !taken[id] {
			taken[id] = true
			return id
		}
	}
}

// extents returns the number of directory records that a file needs.
func (e *entry) extents() int {
	return max(1, int((e.size+maxExtent-1)/maxExtent))
}

func recordLength(idLen int) int { return recordFixed + idLen + (idLen+1)%2 }

// place gives every directory and file its sectors.
func (im *Image) place() {
	level := []*entry{im.root}
	for len(level) > 0 {
		var next []*entry
		for _, d := range level {
			im.dirs = append(im.dirs, d)
			d.number = len(im.dirs)
			im.table += int64(8 + len(d.id) + len(d.id)%2)
			for _, c := range d.children {
				if c.dir {
					next = append(next, c)
				}
			}
			d.size = directoryBytes(d)
		}
		level = next
	}
	at := int64(systemArea + 2) // after the primary descriptor and the terminator
	at += 2 * sectors(im.table)
	for _, d := range im.dirs {
		d.sector = at
		at += sectors(d.size)
	}
	for _, d := range im.dirs {
		for _, c := range d.children {
			if !c.dir {
				c.sector = at
				at += sectors(c.size)
				im.files = append(im.files, c)
			}
		}
	}
	im.total = at
}

// directoryBytes is the length of a directory's extent: records never cross a
// sector (6.8.1.1).
func directoryBytes(d *entry) int64 {
	n := 2 * recordLength(1)
	for _, c := range d.children {
		for range c.extents() {
			l := recordLength(len(c.id))
			if n%SectorSize+l > SectorSize {
				n = (n/SectorSize + 1) * SectorSize
			}
			n += l
		}
	}
	return sectors(int64(n)) * SectorSize
}

// WriteTo writes the whole image in order. It implements [io.WriterTo].
func (im *Image) WriteTo(w io.Writer) (int64, error) {
	cw := &countWriter{w: w}
	if _, err := cw.Write(im.head()); err != nil {
		return cw.n, err
	}
	for _, f := range im.files {
		src, err := im.fsys.Open(f.source)
		if err != nil {
			return cw.n, err
		}
		n, err := io.Copy(cw, io.LimitReader(src, f.size))
		src.Close()
		if err == nil && n < f.size {
			err = io.ErrUnexpectedEOF
		}
		if err != nil {
			return cw.n, fmt.Errorf("%s: %w", f.source, err)
		}
		if _, err := cw.Write(make([]byte, sectors(f.size)*SectorSize-f.size)); err != nil {
			return cw.n, err
		}
	}
	return cw.n, nil
}

// WriteSparse writes the image to a new, empty file, leaving holes where the
// source's files say that they have none but zeros (see [Sparse]).
func (im *Image) WriteSparse(w interface {
	io.WriterAt
	Truncate(size int64) error
}) error {
	if err := w.Truncate(im.Size()); err != nil {
		return err
	}
	if _, err := w.WriteAt(im.head(), 0); err != nil {
		return err
	}
	for _, f := range im.files {
		if err := im.writeRanges(w, f); err != nil {
			return fmt.Errorf("%s: %w", f.source, err)
		}
	}
	return nil
}

func (im *Image) writeRanges(w io.WriterAt, f *entry) error {
	src, err := im.fsys.Open(f.source)
	if err != nil {
		return err
	}
	defer src.Close()
	ranges := []Range{{0, f.size}}
	if s, ok := src.(Sparse); ok {
		ranges = s.DataRanges()
	}
	at := f.sector * SectorSize
	for _, r := range ranges {
		from := io.Reader(io.LimitReader(src, r.End-r.Start))
		if ra, ok := src.(io.ReaderAt); ok {
			from = io.NewSectionReader(ra, r.Start, r.End-r.Start)
		} else if len(ranges) > 1 || r.Start > 0 {
			return errors.New("a sparse source file must be an io.ReaderAt")
		}
		n, err := io.Copy(io.NewOffsetWriter(w, at+r.Start), from)
		if err != nil {
			return err
		}
		if n < r.End-r.Start {
			return io.ErrUnexpectedEOF
		}
	}
	return nil
}

// head builds everything in front of the first file's data.
func (im *Image) head() []byte {
	end := int64(systemArea+2) + 2*sectors(im.table)
	for _, d := range im.dirs {
		end += sectors(d.size)
	}
	b := make([]byte, end*SectorSize)
	im.putPrimary(b[systemArea*SectorSize:])
	term := b[(systemArea+1)*SectorSize:]
	term[0], term[6] = descriptorTerminator, 1
	copy(term[1:], "CD001")
	im.putPathTables(b)
	for _, d := range im.dirs {
		putDirectory(b[d.sector*SectorSize:][:d.size], d)
	}
	return b
}

// putPrimary writes the primary volume descriptor (8.4).
func (im *Image) putPrimary(b []byte) {
	b[0], b[6] = descriptorPrimary, 1
	copy(b[1:], "CD001")
	pad := func(at, n int, s string) {
		f := bytes.Repeat([]byte(" "), n)
		copy(f, s)
		copy(b[at:], f)
	}
	pad(8, 32, "")
	pad(40, 32, strings.ToUpper(im.opts.VolumeID))
	putBoth32(b[80:], uint32(im.total))
	putBoth16(b[120:], 1)
	putBoth16(b[124:], 1)
	putBoth16(b[128:], SectorSize)
	putBoth32(b[132:], uint32(im.table))
	binary.LittleEndian.PutUint32(b[140:], systemArea+2)
	binary.BigEndian.PutUint32(b[148:], uint32(systemArea+2+sectors(im.table)))
	putRecord(b[156:], im.root, "\x00", im.root.sector, im.root.size, false)
	pad(190, 3*128, "")
	pad(574, 128, im.opts.ApplicationID)
	pad(702, 3*37, "")
	for i := range 4 {
		at := b[813+17*i:]
		copy(at, "0000000000000000")
		if i < 2 && !im.opts.Created.IsZero() {
			copy(at, im.opts.Created.UTC().Format("2006010215040500"))
		}
	}
	b[881] = 1
}

func (im *Image) putPathTables(b []byte) {
	l := b[(systemArea+2)*SectorSize:]
	m := b[(systemArea+2+sectors(im.table))*SectorSize:]
	for _, d := range im.dirs {
		for i, t := range [][]byte{l, m} {
			var order binary.ByteOrder = binary.LittleEndian
			if i == 1 {
				order = binary.BigEndian
			}
			t[0] = byte(len(d.id))
			order.PutUint32(t[2:], uint32(d.sector))
			order.PutUint16(t[6:], uint16(d.parent.number))
			copy(t[8:], d.id)
		}
		n := 8 + len(d.id) + len(d.id)%2
		l, m = l[n:], m[n:]
	}
}

func putDirectory(b []byte, d *entry) {
	at := putRecord(b, d, "\x00", d.sector, d.size, false)
	at += putRecord(b[at:], d.parent, "\x01", d.parent.sector, d.parent.size, false)
	for _, c := range d.children {
		left, sector := c.size, c.sector
		for i := range c.extents() {
			n := left
			if !c.dir {
				n = min(left, maxExtent)
			}
			l := recordLength(len(c.id))
			if at%SectorSize+l > SectorSize {
				at = (at/SectorSize + 1) * SectorSize
			}
			at += putRecord(b[at:], c, c.id, sector, n, i < c.extents()-1)
			left -= n
			sector += sectors(n)
		}
	}
}

// putRecord writes one directory record (9.1) and returns its length.
func putRecord(b []byte, e *entry, id string, sector, length int64, more bool) int {
	n := recordLength(len(id))
	b[0] = byte(n)
	if length > 0 || e.dir {
		putBoth32(b[2:], uint32(sector))
	}
	putBoth32(b[10:], uint32(length))
	putWhen(b[18:25], e.when)
	if e.dir {
		b[25] |= flagDirectory
	}
	if more {
		b[25] |= flagMultiExtent
	}
	putBoth16(b[28:], 1)
	b[32] = byte(len(id))
	copy(b[33:], id)
	return n
}

type countWriter struct {
	w io.Writer
	n int64
}

func (c *countWriter) Write(b []byte) (int, error) {
	n, err := c.w.Write(b)
	c.n += int64(n)
	return n, err
}
