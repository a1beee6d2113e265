// Package archive opens zip, 7z, RAR and LHA archives, in one file or in volumes, with or
// without a password, and shows what is in them as an [io/fs.FS]. Files in it can be read
// at any offset; packed ones are unpacked as far as is asked for, and nothing is written to
// disk.
//
// Zip archives may use the methods store, deflate, deflate64, bzip2, LZMA and zstd, Zip64, parts (.z01 …), and the
// traditional or AES encryption. What 7z and RAR archives may hold is up to the libraries that read them.
package archive

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"sync/atomic"
	"time"

	"polytome/internal/format/fstree"
)

// An Archive is an opened archive.
type Archive struct {
	*fstree.FS
	// Kind is the extension that archives of its format have, such as ".zip".
	Kind string
	// Entries are the files in it, in the archive's order. Folders are in the tree only.
	Entries []Entry
	// Volumes are the paths of the files that it consists of.
	Volumes []string
	// Unsafe are names that would lead out of a folder that the archive is unpacked
	// to. They are in no tree.
	Unsafe []string
	// Renamed are the files that are named otherwise in the tree: none vanishes.
	Renamed []Renamed
	// Damage is why the list may not be whole; nil for a good one.
	Damage error

	allow  bool
	budget atomic.Int64 // bytes that may still be unpacked
	close  []io.Closer
}

// An Entry is a file in an archive.
type Entry struct {
	Name      string // a path in the tree
	Size      int64  // unpacked, in bytes
	Modified  time.Time
	Encrypted bool
	CRC       uint32 // CRC-32 of the content
	HasCRC    bool

	open   func() (io.ReadCloser, error)
	direct func() io.ReaderAt // for content that is in the archive as it is; may be nil
}

// Options are how an archive is opened.
type Options struct {
	Passwords []string // tried one after another
	// Allow opens archives that are much larger inside than outside, and unpacks
	// without end.
	Allow bool
}

// Limits of what is unpacked without being allowed.
const (
	maxRatio   = 1000     // of unpacked to packed bytes, where more than
	ratioFrom  = 16 << 30 // is unpacked
	maxTotal   = 1 << 40
	maxEntries = 1 << 20
)

// Errors that someone decides on.
var (
	ErrNotArchive = errors.New("not an archive of a known kind")
	ErrPassword   = errors.New("encrypted, and no known password opens it")
)

// A MissingPart is a volume of the archive that is not there.
type MissingPart struct{ Name string }

func (e *MissingPart) Error() string { return fmt.Sprintf("its part %s is missing", e.Name) }

// A TooLarge is an archive that is much larger inside than outside.
type TooLarge struct {
	Packed, Unpacked int64 // in bytes
	Entries          int
}

func (e *TooLarge) Error() string {
	if e.Entries > maxEntries {
		return fmt.Sprintf("it lists %d files", e.Entries)
	}
	return fmt.Sprintf("it has %d bytes and would unpack to %d, %d times as much", e.Packed, e.Unpacked,
		e.Unpacked/max(1, e.Packed))
}

// Signatures at the beginning of archives.
var signatures = []struct{ kind, magic string }{
	{".zip", "PK\x03\x04"}, {".zip", "PK\x05\x06"}, {".zip", "PK\x07\x08"},
	{".7z", "7z\xBC\xAF\x27\x1C"},
	{".rar", "Rar!\x1A\x07\x00"}, {".rar", "Rar!\x1A\x07\x01\x00"},
}

// Extension reports whether a file's extension, in lower case and with its dot, is that of an archive.
func Ext(end string) bool { return slices.Contains(Extensions(), end) }

// Extensions are those of archives, in lower case and with their dots.
func Extensions() []string { return []string{".zip", ".7z", ".rar", ".lha"} }

// KindOf tells the kind of archive by its first bytes, at least eight of them; "" for none.
func KindOf(head []byte) string {
	for _, s := range signatures {
		if bytes.HasPrefix(head, []byte(s.magic)) {
			return s.kind
		}
	}
	if len(head) >= 7 && head[2] == '-' && head[3] == 'l' && head[6] == '-' {
		return ".lha"
	}
	return ""
}

// Open opens the archive whose first volume is the named file. Besides the errors above
// it returns those of the formats, and of the disk.
func Open(name string, o Options) (a *Archive, err error) {
	defer recovered(&err)
	volumes, r, size, closers, err := openVolumes(name)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			for _, c := range closers {
				_ = c.Close()
			}
		}
	}()
	return open(r, size, name, volumes, closers, o)
}

// New opens the archive in the size bytes of r. RAR archives need to be files; see [Open].
func New(r io.ReaderAt, size int64, o Options) (a *Archive, err error) {
	defer recovered(&err)
	return open(r, size, "", nil, nil, o)
}

func open(r io.ReaderAt, size int64, name string, volumes []string, closers []io.Closer, o Options) (a *Archive,
	err error) {
	head := make([]byte, 8)
	if n, err := r.ReadAt(head, 0); n == 0 && err != io.EOF {
		return nil, err
	}
	a = &Archive{Kind: KindOf(head), Volumes: volumes, close: closers, allow: o.Allow}
	var entries []Entry
	switch a.Kind {
	case ".zip":
		entries, err = zipEntries(r, size, o.Passwords)
	case ".7z":
		entries, err = sevenEntries(r, size, o.Passwords)
	case ".rar":
		if name == "" {
			return nil, errors.New("a RAR archive can only be opened as a file")
		}
		entries, a.Volumes, err = rarEntries(name, o.Passwords)
	case ".lha":
		entries, a.Damage, err = lhaEntries(r, size)
	default:
		return nil, ErrNotArchive
	}
	if err != nil {
		var short *cutShort
		if v, ok := VolumeOf(filepath.Base(name)); ok && v.Plain && (errors.As(err, &short) ||
			errors.Is(err, zip.ErrFormat)) {
			err = &MissingPart{v.Name(v.Number + len(volumes))}
		}
		return nil, err
	}
	packed, unpacked := size, int64(0)
	if len(a.Volumes) > 1 && a.Kind == ".rar" {
		packed = 0
		for _, v := range a.Volumes {
			if info, err := os.Stat(v); err == nil {
				packed += info.Size()
			}
		}
	}
	for _, e := range entries {
		unpacked += max(0, e.Size)
	}
	if !o.Allow && (len(entries) > maxEntries || unpacked < 0 || unpacked > maxTotal || unpacked > ratioFrom &&
		unpacked/max(1, packed) > maxRatio) {
		return nil, &TooLarge{packed, unpacked, len(entries)}
	}
	a.budget.Store(max(ratioFrom, packed*maxRatio))
	a.plant(entries)
	return a, nil
}

// Close closes the archive's files.
func (a *Archive) Close() error {
	var all []error
	for _, c := range a.close {
		all = append(all, c.Close())
	}
	return errors.Join(all...)
}

// Read unpacks an entry from its beginning. The reader fails where the content is not what the
// archive tells: it must be read to its end to know.
func (a *Archive) Read(e *Entry) (r io.ReadCloser, err error) {
	defer recovered(&err)
	if r, err = e.open(); err != nil {
		return nil, err
	}
	return &bounded{r: r, a: a, e: e, crc: newCRC(e)}, nil
}

// bounded keeps an entry to the length that the archive tells, checks its CRC, and counts
// what is unpacked.
type bounded struct {
	r   io.ReadCloser
	a   *Archive
	e   *Entry
	n   int64
	crc interface {
		io.Writer
		Sum32() uint32
	}
}

func (b *bounded) Read(p []byte) (n int, err error) {
	defer recovered(&err)
	if left := b.e.Size - b.n; int64(len(p)) > left+1 {
		p = p[:left+1] // one more, to see that there is none
	}
	if len(p) == 0 {
		return 0, nil
	}
	n, err = b.r.Read(p)
	b.n += int64(n)
	if b.n > b.e.Size {
		return 0, fmt.Errorf("%s is longer than the %d bytes that the archive declares", b.e.Name, b.e.Size)
	}
	_, _ = b.crc.Write(p[:n])
	if !b.a.allow && b.a.budget.Add(-int64(n)) < 0 {
		return n, &TooLarge{Unpacked: b.n, Entries: len(b.a.Entries)}
	}
	if err == io.EOF {
		switch {
		case b.n < b.e.Size:
			err = fmt.Errorf("%s ends after %d bytes instead of %d: %w", b.e.Name, b.n, b.e.Size, io.ErrUnexpectedEOF)
		case b.e.HasCRC && b.crc.Sum32() != b.e.CRC:
			err = fmt.Errorf("%s has the CRC %08X instead of %08X", b.e.Name, b.crc.Sum32(), b.e.CRC)
			if b.e.Encrypted {
				err = fmt.Errorf("%w (%w)", err, ErrPassword)
			}
		}
	}
	return n, err
}

func (b *bounded) Close() error { return b.r.Close() }

// recovered turns a failure in a library, which some strange file brings to light, into an
// error.
func recovered(err *error) {
	if r := recover(); r != nil {
		*err = fmt.Errorf("the archive is damaged in a way that its reader cannot bear: %v", r)
	}
}

// Test unpacks everything and throws it away; each is named before an entry, and bytes
// after each piece. It returns the first fault.
func (a *Archive) Test(each func(*Entry), bytes func(n int64) error) error {
	buf := make([]byte, 256<<10)
	for i := range a.Entries {
		e := &a.Entries[i]
		each(e)
		r, err := a.Read(e)
		if err != nil {
			return err
		}
		for err == nil {
			var n int
			n, err = r.Read(buf)
			if stop := bytes(int64(n)); stop != nil {
				err = stop
			}
		}
		_ = r.Close()
		if err != io.EOF {
			return err
		}
	}
	return a.Damage
}
