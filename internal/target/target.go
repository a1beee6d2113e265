// Package target is about somewhere that gets filled: what it can hold, what is
// on it, and how bytes get there so that an interrupted run leaves no damage.
//
// [Target] is the one interface; each kind of target is a package below this one,
// and internal/target/targettest is the suite that all of them pass.
package target

import (
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"path"
	"strings"
	"time"

	"polytome/internal/size"
)

// Errors on which a run decides what to do next. Targets wrap them in what they know, so test with errors.Is.
var (
	// ErrNoSpace reports that the target is full: smaller files may still fit.
	ErrNoSpace = errors.New("the target is full")
	// ErrNoFiles reports that no file fits any longer, as the filesystem's tables are full.
	ErrNoFiles = fmt.Errorf("%w: it can hold no more files, however small", ErrNoSpace)
	// ErrReadOnly reports that nothing can be written until someone changes something.
	ErrReadOnly = errors.New("the target is read-only")
	// ErrGone reports that the target cannot be reached now. It may come back.
	ErrGone = errors.New("the target cannot be reached")
	// ErrExists reports that a file with that name already exists. It is not overwritten.
	ErrExists = errors.New("a file with that name already exists")
	// ErrChanged reports that a file is not what it was when the plan was made.
	ErrChanged = errors.New("changed since the plan was made")
	// ErrBusy reports that the target cannot do it now, but may be able to soon.
	ErrBusy = errors.New("busy")
)

// Facts are what a target can hold and how full it is.
type Facts struct {
	Filesystem Filesystem `json:"filesystem"`
	Declared   bool       `json:"declared"` // said by the user, not read off the target
	// no one reports how much space there is: Capacity is only more than anything that could be planned
	Unknown  bool   `json:"space-unknown,omitempty"`
	Capacity int64  `json:"capacity"`        // bytes in the space for files
	Free     int64  `json:"free"`            // bytes that can still be filled
	Cluster  int64  `json:"cluster"`         // allocation unit in bytes
	Label    string `json:"label,omitempty"` // of the volume, "" where it is not reported
	// Volume is what the volume is known by, wherever it is plugged in: its serial number or UUID, with [Inside] and
	// the folder for a target that is in one; or [Fixed]. "" for one that cannot be distinguished from others in its
	// place.
	Volume string `json:"volume,omitempty"`
	// Network is the kind of network filesystem that a mounted folder is from, "" for none.
	Network string `json:"network,omitempty"`
	// Unclean is set for a volume on which someone did not finish writing.
	Unclean bool `json:"unclean,omitempty"`
	// Adapter is what a drive is behind, by its numbers; "" for none.
	Adapter string `json:"adapter,omitempty"`
}

// Fixed is what a volume is known by that nobody plugs in: it is always at its address.
const Fixed = "fixed"

// Inside stands behind what a volume is known by where the target is a folder in it, and before that folder.
const Inside = ":"

// Plugged reports whether the target is a whole volume that can be recognised wherever it is plugged in.
func (f Facts) Plugged() bool {
	return f.Volume != "" && f.Volume != Fixed && !strings.Contains(f.Volume, Inside)
}

// Space is an amount of the space for files in words, such as its capacity.
func (f Facts) Space(bytes int64) string {
	if f.Unknown {
		return "not reported"
	}
	return size.Format(bytes)
}

// Used is what entries take on the target: the clusters of files, and those of folders with the
// names in them. The root folder's first cluster is no part of it; see
// [Filesystem.Structures].
func (f Facts) Used(entries []Entry) int64 {
	var n int64
	names := map[string]int64{".": -f.Filesystem.dots} // the root has no entries for itself and what is above
	for _, e := range entries {
		if e.Folder {
			names[e.Path] += 0
		} else {
			n += f.SpaceFor(e.Path, e.Size)
		}
		names[path.Dir(e.Path)] += f.Filesystem.EntryBytes(path.Base(e.Path))
	}
	for _, bytes := range names {
		n += f.Filesystem.FolderSpace(bytes, f.Cluster)
	}
	return n - f.Filesystem.FolderSpace(0, f.Cluster)
}

// SpaceFor is what a file of n bytes takes on the target.
func (f Facts) SpaceFor(path string, n int64) int64 {
	if f.Filesystem.space != nil {
		return f.Filesystem.space(path, n)
	}
	return (n + f.Cluster - 1) / f.Cluster * f.Cluster
}

// An Entry is one file or folder on a target.
type Entry struct {
	Path     string    `json:"path"` // from the target's root, with slashes
	Folder   bool      `json:"folder,omitempty"`
	Size     int64     `json:"size"`
	Modified time.Time `json:"modified"`
}

// Content is bytes that can be read at any offset, and that know where they are
// nothing but zeros.
type Content interface {
	io.ReaderAt
	io.Closer
	// Size is the number of bytes.
	Size() int64
	// Data returns the first run of data at or after off; what is between
	// is zeros. At the end it returns Size twice.
	Data(off int64) (start, end int64)
}

// A Writer takes the bytes of one new file. Nothing shows under the file's
// final name before Commit. Every Writer must be ended by Commit or Abort;
// Abort after Commit does nothing.
type Writer interface {
	io.Writer
	// Skip appends n zero bytes.
	Skip(n int64) error
	// Flush brings everything written so far to the medium.
	Flush() error
	// ReadBack opens what was written, read from the medium where the connection
	// allows it. Call Flush first.
	ReadBack() (Content, error)
	// Date gives the file a date of its last change, where the connection can. Without it that is when it was written.
	Date(t time.Time) error
	// Commit gives the file its final name, lastingly.
	Commit() error
	// Abort removes what was written.
	Abort() error
}

// A Target is somewhere that gets filled. Paths are relative to its root, with
// slashes, never climbing out of it.
type Target interface {
	// Facts reports what the target can hold; it is asked again each time. What is free on a target whose
	// space is declared depends on what is there: a listing that is available need not be made
	// again for it, and nil has it made where it is needed.
	Facts(ctx context.Context, listed []Entry) (Facts, error)
	// List returns everything on the target, sorted by path. Entries that
	// cannot be read are reported to problem, and the listing goes on.
	List(ctx context.Context, problem func(path string, err error)) ([]Entry, error)
	// Open opens a file for reading.
	Open(ctx context.Context, path string) (Content, error)
	// MakeFolder makes a folder and those above it. One that exists is fine.
	MakeFolder(ctx context.Context, path string) error
	// Create begins a new file of size bytes. It fails with ErrExists when there is one of that name; where it takes
	// longer to ask than to send a small file, that file's Commit does.
	Create(ctx context.Context, path string, size int64) (Writer, error)
	// Replace is Create for a file that is there: it stays as it is until Commit, which puts
	// the new one into its target at once, or as nearly so as the connection allows.
	Replace(ctx context.Context, path string, size int64) (Writer, error)
	// Stat looks at one file or folder. The error is fs.ErrNotExist when there is none.
	Stat(ctx context.Context, path string) (Entry, error)
	// Rename gives a file or folder another path, whose folder is there. It fails with ErrExists
	// when there is something of that name already; a change of letter case alone is none.
	Rename(ctx context.Context, from, to string) error
	// Remove removes one file, or one empty folder.
	Remove(ctx context.Context, path string) error
	// Stamp is a short text that is another one when the folders of a listing may have
	// changed since. It is much quicker to get than the listing.
	Stamp(ctx context.Context, of []Entry) (string, error)
	// Close lets go of the target.
	Close() error
}

// A Claimer is a target that one run at a time can have to itself, whichever process it is in. Those that others would
// not see are none.
type Claimer interface {
	// Claim fails with a *claim.TakenError when someone else fills the target.
	Claim() (release func(), err error)
}

// Together is how many small files are written in one group.
const Together = 512

// A BatchCommitter is a target on which many small files are written quicker together.
type BatchCommitter interface {
	// Together is how many files may wait for one another, at most; [Together] where nothing limits them.
	Together() int
	// FlushAll brings files to the medium together. Where they are to be read back, it has them be read from there in
	// one go if that is quicker. It returns what became of each.
	FlushAll(files []Writer, readBack bool) []error
	// Hold has what is committed from now on wait, until Settle makes all of it last.
	Hold()
	Settle(ctx context.Context) error
}

// A ParallelWriter is a target on which several small files are written quicker side by side.
type ParallelWriter interface {
	// AtOnce is how many.
	AtOnce() int
}

// A Suspender is a writer whose bytes can be left under their temporary name, to be resumed later.
type Suspender interface {
	// Leave ends the writer, and leaves what was written so far. Abort does nothing afterwards.
	Leave() error
}

// A Measured is a writer of a file whose length the target tells without opening it again.
type Measured interface {
	// Length is how many bytes the target has, in a file that was flushed.
	Length() (int64, error)
}

// A Resumer is a target on which a file that was interrupted can be resumed.
type Resumer interface {
	// Resume takes up what was left under the temporary name of a file, which is created, or replaced. The error is
	// fs.ErrNotExist when nothing was left, or nothing that can be resumed.
	Resume(ctx context.Context, path string, size int64, over bool) (Resumed, error)
}

// Resumed is a writer of a file of which some bytes are there. [Writer.ReadBack] reads them. Nobody knows whether they
// are the right ones before they were compared: Keep comes before the first byte that is written.
type Resumed interface {
	Writer
	Suspender
	// There is how many bytes are there.
	There() int64
	// Keep goes on behind the first n of them.
	Keep(n int64) error
}

// A Referral is a file whose bytes stay where they are.
type Referral struct {
	Path     string
	Size     int64 // bytes
	Modified time.Time
	Recipe   []byte // how its bytes come about, for whoever makes them later
	Over     bool   // in place of one that is there
}

// A Referrer is a target that has no bytes of its own: they are made when somebody reads a file.
type Referrer interface {
	Refer(ctx context.Context, f Referral) error
}

// A FragmentCounter is a target that knows in how many fragments a file is on the medium.
type FragmentCounter interface {
	Fragments(ctx context.Context, path string) (int, error)
}

// TemporaryPrefix begins the name of every file that is still being written, and
// TemporarySuffix ends it. Shares hide or refuse what ends as browsers call their half-written files.
const (
	TemporaryPrefix = "polytome-"
	TemporarySuffix = ".begun"
)

// TemporaryName is the path under which a file is written before it has its name, in the same folder. It is the same
// each time, so that what was left there is found again.
func TemporaryName(name string) string {
	h := fnv.New64a()
	_, _ = h.Write([]byte(name))
	return path.Join(path.Dir(name), fmt.Sprintf("%s%016x%s", TemporaryPrefix, h.Sum64(), TemporarySuffix))
}

// IsTemporary reports whether a path is that of a file which an interrupted run
// left behind.
func IsTemporary(path string) bool {
	name := path[strings.LastIndexByte(path, '/')+1:]
	return strings.HasPrefix(name, TemporaryPrefix) && strings.HasSuffix(name, TemporarySuffix) &&
		len(name) == len(TemporaryPrefix)+16+len(TemporarySuffix)
}
