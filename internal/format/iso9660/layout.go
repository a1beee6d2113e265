package iso9660

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"polytome/internal/format/udf"
)

// Options are how a volume is made.
type Options struct {
	VolumeID      string    // at most 32 characters, made legal by upper-casing
	ApplicationID string    // at most 128 characters
	Created       time.Time // the zero time writes "not specified"
	// Level is the interchange level (10): 1 has names of eight and three characters, 1 and 2 files of less
	// than 4 GiB, 3 of any length. 0 is 3.
	Level int
	// Joliet adds a second tree with names of 64 characters, RockRidge the whole names and dates to the
	// first one, UDF that filesystem's structures for the same files (a bridge).
	Joliet, RockRidge, UDF bool
	// Order are the paths of files whose data lie in front, in this order; the others follow as the
	// tree lists them.
	Order []string
}

// An Image is a laid out volume, ready to be written as often as wanted. It is made by [Lay].
type Image struct {
	fsys    fs.FS
	opts    Options
	root    *entry
	spaces  []*space // the primary name space, and Joliet's
	files   []*entry // in the order of their data
	bridge  *udf.Bridge
	meta    int64 // sector of the bridge's structures
	head    []byte
	total   int64  // sectors
	Renamed int    // names that the primary name space holds otherwise
	Notes   string // what of the volume is outside the standard, in words
}

// entry is a file or directory on its way into an image.
type entry struct {
	source   string // path in the source tree
	name     string
	dir      bool
	when     time.Time
	size     int64 // bytes of the data
	sector   int64
	parent   *entry
	children []*entry
	node     *udf.Node
	in       [2]record2
}

// record2 is how an entry stands in one name space.
type record2 struct {
	id     string // identifier as written, with version
	number int    // in the path table, from 1
	sector int64  // of a directory's records
	size   int64  // bytes of a directory's records
	kids   []*entry
	use    []byte // system use field, of the record in its directory
	self   [2][]byte
}

// A space is a name space: a tree of directory records with its path tables.
type space struct {
	n     int      // index into the entries' records
	dirs  []*entry // in path table order (6.9.1)
	table int64    // bytes in one path table
	at    int64    // sector of its first path table
}

// maxWriteDepth is the deepest hierarchy that the standard allows (6.8.2.1), and the deepest that is written.
const (
	standardDepth = 8
	maxWriteDepth = 64
)

// Lay reads the tree of fsys and decides where everything goes: the size is exact then. File names are
// brought into the primary name space: upper case, letters, digits and underscores, unique in their
// directory. Irregular files, and files too large for the level, are an error. The same tree and options give the same
// bytes.
func Lay(fsys fs.FS, opts Options) (*Image, error) {
	if opts.Level == 0 {
		opts.Level = 3
	}
	if opts.Level < 1 || opts.Level > 3 {
		return nil, fmt.Errorf("there is no interchange level %d: those are 1 to 3", opts.Level)
	}
	im := &Image{fsys: fsys, opts: opts, root: &entry{source: ".", dir: true, when: opts.Created}}
	im.root.parent = im.root
	depth, err := im.scan(im.root, 1)
	if err != nil {
		return nil, err
	}
	if depth > standardDepth {
		if !opts.RockRidge && !opts.Joliet && !opts.UDF {
			return nil, fmt.Errorf("folders nest deeper than %d levels, and ISO 9660 alone allows no more: add "+
				"Joliet, Rock Ridge or UDF", standardDepth)
		}
		im.Notes = fmt.Sprintf("Folders nest %d levels deep; ISO 9660 allows %d, and few readers mind.", depth,
			standardDepth)
	}
	im.name()
	if err := im.assign(); err != nil {
		return nil, err
	}
	if im.total > 1<<32-1 {
		return nil, fmt.Errorf("the volume would have %d sectors, more than ISO 9660 can count", im.total)
	}
	return im, nil
}

// Size is the exact length of the image in bytes.
func (im *Image) Size() int64 { return im.total * SectorSize }

func (im *Image) scan(d *entry, depth int) (deepest int, err error) {
	if depth > maxWriteDepth {
		return depth, fmt.Errorf("%s: folders nest deeper than %d levels", d.source, maxWriteDepth)
	}
	deepest = depth
	list, err := fs.ReadDir(im.fsys, d.source)
	if err != nil {
		return depth, err
	}
	for _, e := range list {
		info, err := e.Info()
		if err != nil {
			return depth, err
		}
		if !e.IsDir() && !info.Mode().IsRegular() {
			return depth, fmt.Errorf("%s: only files and folders can go into an image", path.Join(d.source, e.Name()))
		}
		c := &entry{source: path.Join(d.source, e.Name()), name: e.Name(), dir: e.IsDir(), when: info.ModTime(),
			parent: d}
		if c.dir {
			below, err := im.scan(c, depth+1)
			if err != nil {
				return depth, err
			}
			deepest = max(deepest, below)
		} else if c.size = info.Size(); c.size > maxExtent && im.opts.Level < 3 {
			return depth, fmt.Errorf("%s has %d bytes, and level %d allows files of at most %d: use level 3", c.source,
				c.size, im.opts.Level, maxExtent)
		}
		d.children = append(d.children, c)
	}
	return deepest, nil
}

// extents returns the number of directory records that a file needs.
func (e *entry) extents() int {
	return max(1, int((e.size+maxExtent-1)/maxExtent))
}

// A bridge's structures lie where UDF wants them: the main and the reserve volume descriptor sequence, the
// logical volume's integrity, the anchor. Behind it begins the partition (UDF 2.2.3; ECMA-167, 3/8.4.2).
const (
	udfMain      = 32
	udfReserve   = 48
	udfIntegrity = 64
	udfAnchor    = 256
	udfPartition = udfAnchor + 1
)

// assign gives every directory and file its sectors, and builds everything in front of the files.
func (im *Image) assign() error {
	im.spaces = []*space{{n: 0}}
	if im.opts.Joliet {
		im.spaces = append(im.spaces, &space{n: 1})
	}
	at := int64(systemArea + 1 + len(im.spaces)) // the descriptors, and their end
	if im.opts.UDF {
		at = udfPartition
	}
	for _, s := range im.spaces {
		s.order(im.root)
		s.at = at
		at += 2 * sectors(s.table)
	}
	rr := &continuations{}
	if im.opts.RockRidge {
		rr.build(im.root, im.opts)
	}
	for _, s := range im.spaces {
		for _, d := range s.dirs {
			r := &d.in[s.n]
			r.size = directoryBytes(d, s.n)
			r.sector = at
			at += sectors(r.size)
		}
	}
	rr.assign(at)
	at += sectors(int64(len(rr.data)))
	if im.opts.UDF {
		label := im.opts.VolumeID
		im.root.node = nodeOf(im.root)
		var err error
		if im.bridge, err = udf.NewBridge(im.root.node, label, im.opts.Created); err != nil {
			return err
		}
		im.meta = at
		at += im.bridge.Sectors()
	}
	head := at
	im.order()
	for _, f := range im.files {
		f.sector = at
		if f.node != nil {
			f.node.Sector = at
		}
		at += sectors(f.size)
	}
	if im.opts.UDF {
		at++ // the second anchor, in the last sector
	}
	im.total = at
	im.head = make([]byte, head*SectorSize)
	im.putHead(rr)
	return nil
}

// nodeOf is an entry as UDF knows it.
func nodeOf(e *entry) *udf.Node {
	n := &udf.Node{Name: e.name, Dir: e.dir, Size: e.size, Modified: e.when}
	for _, c := range e.children {
		c.node = nodeOf(c)
		n.Children = append(n.Children, c.node)
	}
	return n
}

// order decides in which order the files' data lie.
func (im *Image) order() {
	first := map[string]int{}
	for i, p := range im.opts.Order {
		first[strings.Trim(path.Clean(p), "/")] = i + 1
	}
	for _, d := range im.spaces[0].dirs {
		for _, c := range d.in[0].kids {
			if !c.dir {
				im.files = append(im.files, c)
			}
		}
	}
	if len(first) == 0 {
		return
	}
	rank := func(e *entry) int {
		if n := first[e.source]; n > 0 {
			return n
		}
		return len(im.opts.Order) + 1
	}
	slices.SortStableFunc(im.files, func(a, b *entry) int { return rank(a) - rank(b) })
}

// order numbers the directories of a name space, level by level.
func (s *space) order(root *entry) {
	level := []*entry{root}
	for len(level) > 0 {
		var next []*entry
		for _, d := range level {
			s.dirs = append(s.dirs, d)
			r := &d.in[s.n]
			r.number = len(s.dirs)
			id := int64(max(1, len(r.id)))
			s.table += 8 + id + id%2
			for _, c := range r.kids {
				if c.dir {
					next = append(next, c)
				}
			}
		}
		level = next
	}
}

func recordLength(idLen, use int) int {
	n := recordFixed + idLen + (idLen+1)%2 + use
	return n + n%2
}

// directoryBytes is the length of a directory's extent: records never cross a
// sector (6.8.1.1).
func directoryBytes(d *entry, space int) int64 {
	r := &d.in[space]
	n := recordLength(1, len(r.self[0])) + recordLength(1, len(r.self[1]))
	for _, c := range r.kids {
		for range c.extents() {
			l := recordLength(len(c.in[space].id), len(c.in[space].use))
			if n%SectorSize+l > SectorSize {
				n = (n/SectorSize + 1) * SectorSize
			}
			n += l
		}
	}
	return sectors(int64(n)) * SectorSize
}

// errIrregular reports a source that cannot be read at any offset.
var errIrregular = errors.New("a source file must be an io.ReaderAt")
