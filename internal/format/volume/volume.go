// Package volume is what FAT and exFAT have in common: files in clusters, folders as runs of 32-byte entries, and a
// table that says which clusters are taken. A [Format] writes these things down in one filesystem's way (packages fat
// and exfat); a [Volume] does the work: it finds space contiguous, and changes things in an order in which a cut at
// any moment leaves at worst clusters that nothing uses.
//
// The order is: a file's bytes go into free clusters; then the tables say that they are taken; then, after the device
// has all of that, the folder gets the name; and only when the name is gone are the clusters of something given back.
// Changes are gathered in memory and written by [Volume.Flush] in that order, so that many small files cost two waits
// for the device.
package volume

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"
	"sync"
	"time"

	"polytome/internal/size"
)

// A Device is what a volume is on; byte 0 is its first. Sync brings everything written to the medium.
type Device interface {
	io.ReaderAt
	io.WriterAt
	Sync() error
}

// A Zeroer is a device that can make a run of bytes zeros quicker than by writing them.
type Zeroer interface {
	Zero(off, n int64) error
}

// A Run is clusters one behind the other. The first cluster of a volume has the number 2.
type Run struct {
	First uint32 `json:"first"`
	Count uint32 `json:"count"`
}

// End is the first cluster behind the run.
func (r Run) End() uint32 { return r.First + r.Count }

// Info is what a volume tells about itself.
type Info struct {
	Filesystem string `json:"filesystem"` // fat12, fat16, fat32 or exfat
	Label      string `json:"label"`
	Serial     uint32 `json:"serial"`
	Size       int64  `json:"size"`     // bytes, of the whole volume
	Sector     int64  `json:"sector"`   // bytes
	Cluster    int64  `json:"cluster"`  // bytes
	Clusters   uint32 `json:"clusters"` // that can hold files
	Heap       int64  `json:"heap"`     // byte at which cluster 2 begins
	Tables     int    `json:"tables"`   // copies of the table of clusters
	Dirty      bool   `json:"dirty"`    // somebody did not finish writing
	ReadOnly   string `json:"read-only,omitempty"`
	Repairable bool   `json:"-"` // what makes it read-only can be repaired
}

// A Node is a file or folder.
type Node struct {
	Name     string
	Folder   bool
	Size     int64 // bytes of a file
	Valid    int64 // bytes that were written; what follows reads as zeros
	Modified time.Time
	Attr     uint16   // attribute bits, which FAT and exFAT share
	First    uint32   // first cluster, 0 for none
	Flat     bool     // its clusters lie one behind the other, and the table has no chain for them
	Short    [11]byte // FAT: the short name

	torn   bool // its entries are not whole: a change writes them again
	parent *Node
	at, n  int // its entries in the parent: where, in bytes, and how many
	runs   []Run
	runErr error
	known  bool // runs were found
	dir    *folder
}

// Path is the node's path from the root.
func (n *Node) Path() string {
	if n.parent == nil {
		return "."
	}
	return path.Join(n.parent.Path(), n.Name)
}

// Above is the first cluster of the folder that a node is in, as FAT tells it: 0 for the root folder.
func (n *Node) Above() uint32 {
	if n.parent == nil || n.parent.parent == nil {
		return 0
	}
	return n.parent.First
}

// The attribute bits (FAT specification 1.03, "DIR_Attr"; exFAT specification, 7.4.4).
const (
	ReadOnlyAttr = 0x01
	HiddenAttr   = 0x02
	SystemAttr   = 0x04
	FolderAttr   = 0x10
	ArchiveAttr  = 0x20
)

// A Format is one filesystem's way of writing things down. Its methods are named one at a time.
type Format interface {
	Chains
	Folders
	Labels
	Checks

	Info() *Info
	// LargestFile and LargestFolder are limits in bytes.
	LargestFile() int64
	LargestFolder() int64
	// Begin notes on the device that the volume is being written to, Finish that this has ended, and how many
	// clusters are free.
	Begin() error
	Finish(free uint32, next uint32) error
}

// Chains are the clusters of files and folders, and the tables that say which follow each other.
type Chains interface {
	// Free returns the clusters that nothing uses, in order.
	Free(ctx context.Context) ([]Run, error)
	// Chain follows the clusters of a node. What could be followed is returned besides an error.
	Chain(n *Node) ([]Run, error)
	// Link notes that runs are one chain. flat allows that no chain is written for a single run.
	Link(runs []Run, flat bool) error
	// Join notes that the chain which ends in last goes on at next.
	Join(last, next uint32) error
	// End notes that a chain ends in a cluster.
	End(last uint32) error
	// Release notes that runs are free.
	Release(runs []Run) error
	// WriteTables writes what was noted.
	WriteTables() error
}

// Folders are the entries of folders.
type Folders interface {
	// Root tells the root folder, and for one that is outside of the clusters, its byte and its length.
	Root() (n *Node, at, length int64)
	// Entries takes the bytes of a folder apart: what is in it, the byte at which its entries end, and what is wrong.
	// Entries that have data always make a node.
	Entries(dir *Node, data []byte) (kids []*Node, at []Slot, end int, wrong []Wrong)
	// Encode makes the entries of a node in a folder, whose short names in use are given.
	Encode(n *Node, shorts func([11]byte) bool) ([]byte, error)
	// Patch brings what changed of a node but its name into its entries.
	Patch(set []byte, n *Node)
	// Gone makes entries those of something that was removed.
	Gone(set []byte)
	// Vacant reports whether the entry that begins here is free, in the middle of a folder.
	Vacant(entry []byte) bool
	// Fold brings a name into the form in which two are the same.
	Fold(name string) string
	// NewFolder are the first bytes of a folder that has its first cluster, in a parent.
	NewFolder(n, parent *Node) []byte
	// FolderSizes reports whether a folder's entry tells its length.
	FolderSizes() bool
}

// Labels name the volume.
type Labels interface {
	// SetLabel names the volume, as far as that stands outside of the root folder; [Volume.SetLabel] does the rest.
	SetLabel(label string) error
	// LabelEntry makes the entry of the root folder that names the volume, nil for none; IsLabel tells such an entry.
	LabelEntry(label string, at time.Time) ([]byte, error)
	IsLabel(entry []byte) bool
	// CheckLabel says why the volume cannot be named so, "" for a label that it can have.
	CheckLabel(label string) string
}

// Checks are what the check of a volume asks for.
type Checks interface {
	// Reported is how many clusters the volume says are free.
	Reported() (clusters uint32, ok bool)
	// Faults are what is wrong beside files and folders, where so many clusters are free.
	Faults(ctx context.Context, free uint32) ([]Fault, error)
	// Own are the clusters of the filesystem's own tables.
	Own() []Run
	// Kept are the parts of clusters without a file that stay taken: those of the filesystem itself, and damaged ones.
	Kept(r Run) ([]Run, error)
	// IsFolder reports whether clusters that begin with these bytes can be a folder.
	IsFolder(dir *Node, data []byte) bool
	// HeadRight reports whether a folder's own entries point to it and to its parent; MarkWhole forgets
	// that someone did not finish writing.
	HeadRight(data []byte, n, parent *Node) bool
	MarkWhole()
}

// A Slot is where a node's entries lie in its folder.
type Slot struct{ At, N int } // in bytes; in entries

var (
	// ErrNoSpace reports that the volume has too few free clusters, or its folder no more space for names.
	ErrNoSpace = errors.New("the volume is full")
	// ErrReadOnly reports a volume of a kind, or in a state, that is only read here.
	ErrReadOnly = errors.New("the volume is read-only")
)

// A FragmentedError reports that the volume has enough free space, but not in one contiguous run.
type FragmentedError struct{ Need, Largest int64 } // bytes

func (e *FragmentedError) Error() string {
	return fmt.Sprintf("%s are wanted contiguous, and the largest free piece has %s", size.Format(e.Need),
		size.Format(e.Largest))
}

// A ChainError reports that the cluster chain of a file is invalid, though all of the table could be read.
type ChainError struct{ Say string }

func (e *ChainError) Error() string { return e.Say }

// A Fault is something wrong beside files and folders.
type Fault struct {
	Kind   Kind
	Say    string
	Repair string // what repairing does; "" where nothing can be done
	Fix    func() error
	// Need is how many bytes FixIn needs in free clusters, which become taken.
	Need  int64
	FixIn func(r Run) error
}

// entryLength is the length of an entry in bytes.
const entryLength = 32

// A Volume is one that was opened. Its methods may be called by several goroutines.
type Volume struct {
	// Now tells the time that files and folders get which are given none.
	Now func() time.Time

	mu       sync.Mutex
	dev      Device
	f        Format
	info     *Info
	root     *Node
	rootAt   int64 // of a root folder outside of the clusters
	space    *space
	withheld uint64 // clusters that are free, and not used for now
	begun    bool
	broken   error // a write failed: what is in memory is not what is on the device
	// rehearsal is set where only the positions of files count, and not their bytes: see [Volume.Rehearse].
	rehearsal bool

	joins   []join         // chains that go on, for the next flush
	release []Run          // clusters to give back once their names are gone
	ends    []uint32       // chains that end earlier, likewise
	dirty   map[*Node]bool // folders with changed entries
	tables  bool           // the tables changed
	// keepLost is set when something could not be found that clusters which nothing has may be of: they stay.
	keepLost bool
}

type join struct{ last, next uint32 }

// New makes a volume of a device and the format that was found on it.
func New(dev Device, f Format) *Volume {
	v := &Volume{Now: time.Now, dev: dev, f: f, info: f.Info(), dirty: map[*Node]bool{}}
	var length int64
	v.root, v.rootAt, length = f.Root()
	v.root.Folder = true
	v.root.dir = &folder{fixed: length}
	return v
}

// Info tells about the volume.
func (v *Volume) Info() Info {
	v.mu.Lock()
	defer v.mu.Unlock()
	return *v.info
}

// Format is the filesystem's own side.
func (v *Volume) Format() Format { return v.f }

// offset is the byte at which a cluster begins.
func (v *Volume) offset(cluster uint32) int64 {
	return v.info.Heap + int64(cluster-2)*v.info.Cluster
}

// FreeBytes is the space that is left.
func (v *Volume) FreeBytes(ctx context.Context) (int64, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if err := v.load(ctx); err != nil {
		return 0, err
	}
	n := v.space.free
	for _, r := range v.release {
		n += uint64(r.Count)
	}
	return int64(n) * v.info.Cluster, nil
}

// FreeReported is the space that the volume says is left, where it says so and was ejected cleanly; no table is read
// for it.
func (v *Volume) FreeReported() (bytes int64, ok bool) {
	v.mu.Lock()
	defer v.mu.Unlock()
	n, ok := v.f.Reported()
	if !ok || v.info.Dirty || n > v.info.Clusters {
		return 0, false
	}
	return int64(n) * v.info.Cluster, true
}

// FreeRuns are the free pieces, in order.
func (v *Volume) FreeRuns(ctx context.Context) ([]Run, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if err := v.load(ctx); err != nil {
		return nil, err
	}
	return append([]Run(nil), v.space.runs...), nil
}

// load reads which clusters are free, once.
func (v *Volume) load(ctx context.Context) error {
	if v.space != nil {
		return nil
	}
	runs, err := v.f.Free(ctx)
	if err != nil {
		return fmt.Errorf("reading which clusters are free: %w", err)
	}
	v.space = newSpace(runs)
	return nil
}

// beginWrite reports why nothing can be written, or begins writing.
func (v *Volume) beginWrite(ctx context.Context) error {
	if v.broken != nil {
		return v.broken
	}
	if v.info.ReadOnly != "" {
		return fmt.Errorf("%w: %s", ErrReadOnly, v.info.ReadOnly)
	}
	if err := v.load(ctx); err != nil {
		return err
	}
	if v.begun {
		return nil
	}
	if err := v.failing(v.f.Begin()); err != nil {
		return err
	}
	if err := v.failing(v.dev.Sync()); err != nil {
		return err
	}
	v.begun = true
	return nil
}

// failing notes that a write failed: then nothing more is written, as memory and device differ.
func (v *Volume) failing(err error) error {
	if err != nil && v.broken == nil {
		v.broken = fmt.Errorf("writing to the volume failed, and nothing more is written to it: %w", err)
	}
	return err
}

// find walks down to a path.
func (v *Volume) find(op, name string) (*Node, error) {
	if !fs.ValidPath(name) {
		return nil, &fs.PathError{Op: op, Path: name, Err: fs.ErrInvalid}
	}
	n := v.root
	if name == "." {
		return n, nil
	}
	for elem := range strings.SplitSeq(name, "/") {
		if !n.Folder {
			return nil, &fs.PathError{Op: op, Path: name, Err: fs.ErrNotExist}
		}
		d, err := v.open(n)
		if err != nil {
			return nil, &fs.PathError{Op: op, Path: name, Err: err}
		}
		if n = d.names[v.f.Fold(elem)]; n == nil {
			return nil, &fs.PathError{Op: op, Path: name, Err: fs.ErrNotExist}
		}
	}
	return n, nil
}

// Stat returns a copy of the node at a path.
func (v *Volume) Stat(name string) (Node, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	n, err := v.find("stat", name)
	if err != nil {
		return Node{}, err
	}
	return *n, nil
}

// runsOf follows the clusters of a node, once.
func (v *Volume) runsOf(n *Node) ([]Run, error) {
	if n.dir != nil && n.dir.fixed > 0 {
		return nil, nil // it is outside of the clusters
	}
	if !n.known {
		n.runs, n.runErr = v.f.Chain(n)
		n.known = true
	}
	return n.runs, n.runErr
}

// Extents are the runs of clusters of the file or folder at a path.
func (v *Volume) Extents(name string) ([]Run, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	n, err := v.find("look at", name)
	if err != nil {
		return nil, err
	}
	runs, err := v.runsOf(n)
	return append([]Run(nil), runs...), err
}

// clusters is how many clusters so many bytes take.
func (v *Volume) clusters(n int64) int64 {
	k := n / v.info.Cluster
	if n%v.info.Cluster > 0 {
		k++
	}
	return k
}

// Close writes what is outstanding, and notes that the volume is whole.
func (v *Volume) Close() error {
	v.mu.Lock()
	defer v.mu.Unlock()
	if !v.begun || v.broken != nil {
		return v.broken
	}
	if err := v.flush(); err != nil {
		return err
	}
	next := uint32(2)
	if len(v.space.runs) > 0 {
		next = v.space.runs[0].First
	}
	if err := v.failing(v.f.Finish(uint32(v.space.free+v.withheld), next)); err != nil {
		return err
	}
	v.begun = false
	return v.failing(v.dev.Sync())
}
