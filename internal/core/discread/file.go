package discread

import (
	"bytes"
	"context"
	"crypto/sha1"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"polytome/internal/core/strict"
	"polytome/internal/optical"
	"polytome/internal/plainfile"
	"polytome/internal/wholefile"
)

// Unfinished stands behind the name of an image until every block of it was read, and Map is the file beside it that
// says how each block was: no program takes the image for a whole one.
const (
	Unfinished = ".reading"
	Map        = ".reading.toml"
)

// mostText is how many bytes a map has at most.
const mostText = 64 << 20

// Result is what a reading into a file has come to.
type Result struct {
	Blocks *Blocks  `json:"blocks"`
	File   string   `json:"file"` // with [Unfinished] behind it while there are holes
	Sheet  string   `json:"sheet,omitempty"`
	CRC32  string   `json:"crc32,omitempty"`
	SHA1   string   `json:"sha1,omitempty"`
	Before int64    `json:"read-before,omitempty"` // blocks that earlier readings had
	Hit    []string `json:"files-hit,omitempty"`   // files with blocks that could not be read
	// Differed is how many blocks were other ones at the second reading.
	Differed int64 `json:"differed,omitempty"`
	// RunOut is set where the last blocks of a burnt disc cannot be read, as they are none.
	RunOut bool `json:"run-out,omitempty"`
}

// ErrTaken reports an image whose name another file has.
var ErrTaken = errors.New("is there already")

// data is the file that holds the blocks of an image: the image itself, or the one beside its cue sheet.
func data(file string) string {
	if ext := filepath.Ext(file); strings.EqualFold(ext, ".cue") {
		return strings.TrimSuffix(file, ext) + ".bin"
	}
	return file
}

// runOut is how many blocks that are none the table of a compact disc counts, where its track was burnt at once.
const runOut = 2

// Into reads a disc into an image file; a compact disc with more than data into a file of whole sectors beside a cue
// sheet, whose name ends in .cue. A reading that was begun goes on, also with another copy of the disc: some blocks are
// compared to see that it is one. When every block was read, the image gets its name, and its sums are returned; until
// then it keeps the name that [Unfinished] makes of it. A file that is there already is never written over.
func Into(ctx context.Context, d *optical.Drive, disc *Disc, file string, o Options) (r *Result, err error) {
	if disc.Whole() != strings.EqualFold(filepath.Ext(file), ".cue") {
		return nil, fmt.Errorf("the image of this disc is to end in %s", disc.Extension())
	}
	image := data(file)
	for _, name := range []string{file, image} {
		if _, err := os.Lstat(name); err == nil {
			return nil, fmt.Errorf("%s %w", name, ErrTaken)
		} else if !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
	}
	var from Drive = d
	if disc.Whole() {
		from = newWhole(d, disc, o.Offset)
	}
	count, size := disc.Blocks, disc.Size
	b, err := begun(image+Map, count, size)
	if err != nil {
		return nil, err
	}
	if info, err := os.Stat(image + Unfinished); err != nil || info.Size() != count*size { // what was read is gone
		b = NewBlocks(count, size)
	}
	f, err := os.OpenFile(image+Unfinished, os.O_RDWR|os.O_CREATE, 0o644)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	r = &Result{Blocks: b, File: image + Unfinished, Before: b.In(Good)}
	o.Keep = func(b *Blocks) error {
		if err := f.Sync(); err != nil { // what is written down as read is on the disk
			return err
		}
		return save(image+Map, b)
	}
	if err := f.Truncate(count * size); err != nil {
		return r, err
	}
	if err := same(ctx, from, f, b); err != nil {
		return r, err
	}
	if err := Read(ctx, from, f, b, o); err != nil {
		return r, err
	}
	if disc.Medium.CD() && !disc.Whole() {
		r.RunOut = b.dropRunOut()
	}
	if o.Twice && b.Whole() {
		if r.Differed, err = again(ctx, from, f, b, o); err != nil {
			return r, err
		}
	}
	if !b.Whole() {
		r.Hit = Hit(f, b)
		return r, nil
	}
	return r, finish(f, file, disc, r)
}

// dropRunOut leaves out the last blocks where these alone cannot be read.
func (b *Blocks) dropRunOut() bool {
	bad := b.Of(Bad)
	if b.Count <= runOut || len(bad) == 0 || bad[0].First != b.Count-runOut || b.In(Good) != b.Count-runOut {
		return false
	}
	b.Count -= runOut
	b.Spans = []Span{{First: 0, Count: b.Count, State: Good}}
	return true
}

// finish gives the image its name, and its sheet.
func finish(f *os.File, file string, disc *Disc, r *Result) error {
	image, b := data(file), r.Blocks
	check, sum := crc32.NewIEEE(), sha1.New()
	if err := f.Truncate(b.Count * b.Size); err != nil {
		return err
	}
	if _, err := io.Copy(io.MultiWriter(check, sum), io.NewSectionReader(f, 0, b.Count*b.Size)); err != nil {
		return err
	}
	if err := errors.Join(f.Sync(), os.Rename(image+Unfinished, image)); err != nil {
		return err
	}
	r.File, r.CRC32, r.SHA1 = image, fmt.Sprintf("%08x", check.Sum32()), hex.EncodeToString(sum.Sum(nil))
	if disc.Whole() {
		if err := wholefile.Write(file, []byte(disc.Sheet(filepath.Base(image))), 0o644); err != nil {
			return err
		}
		r.Sheet = file
	}
	return os.Remove(image + Map)
}

// again reads the whole disc once more, and has be bad what is not the same. It returns how many blocks that were.
func again(ctx context.Context, d Drive, f *os.File, b *Blocks, o Options) (differed int64, err error) {
	was, is := make([]byte, atOnce*b.Size), make([]byte, atOnce*b.Size)
	for at := int64(0); at < b.Count; at += atOnce {
		if err := ctx.Err(); err != nil {
			return differed, err
		}
		n := min(atOnce, b.Count-at)
		if err := d.Read(ctx, at, is[:n*b.Size], b.Size); unread(err) {
			continue // it was read the first time
		} else if err != nil {
			return differed, fmt.Errorf("reading block %d: %w", at, err)
		}
		if _, err := f.ReadAt(was[:n*b.Size], at*b.Size); err != nil {
			return differed, err
		}
		for k := range n {
			if !bytes.Equal(was[k*b.Size:(k+1)*b.Size], is[k*b.Size:(k+1)*b.Size]) {
				b.Doubt(at+k, 1)
				differed++
			}
		}
		if o.Again != nil {
			o.Again(at+n, b.Count)
		}
	}
	if differed > 0 {
		return differed, o.Keep(b)
	}
	return 0, nil
}

// Started is the map of a reading that was begun of an image, or one of its data file.
func Started(file string) (*Blocks, error) {
	text, err := plainfile.Read(data(file)+Map, mostText)
	if err != nil {
		return nil, err
	}
	var b Blocks
	if _, err := strict.Decode(data(file)+Map, text, &b); err != nil {
		return nil, err
	}
	if err := b.Check(); err != nil {
		return nil, fmt.Errorf("%s: %w", data(file)+Map, err)
	}
	return &b, nil
}

// begun is the map of a reading that was begun, or of one that begins.
func begun(file string, count, size int64) (*Blocks, error) {
	b, err := Started(strings.TrimSuffix(file, Map))
	if errors.Is(err, fs.ErrNotExist) {
		return NewBlocks(count, size), nil
	}
	if err != nil {
		return nil, err
	}
	if b.Count != count || b.Size != size {
		return nil, fmt.Errorf("%s was begun with a disc of %d blocks of %d bytes; this one has %d of %d: it is "+
			"another disc", file, b.Count, b.Size, count, size)
	}
	return b, nil
}

// samples is how many blocks are compared to see that a disc is the one, or a copy of it, that was read before.
const samples = 16

// same reads some of the blocks again that were read before, and reports an error where they are others.
func same(ctx context.Context, d Drive, f io.ReaderAt, b *Blocks) error {
	good := b.In(Good)
	if good == 0 {
		return nil
	}
	was, is, compared := make([]byte, b.Size), make([]byte, b.Size), 0
	for k := range int64(samples) {
		at := b.nth(Good, good*k/samples)
		err := d.Read(ctx, at, is, b.Size)
		if unread(err) { // of a copy, other blocks are bad
			continue
		}
		if err != nil {
			return fmt.Errorf("reading block %d: %w", at, err)
		}
		if _, err := f.ReadAt(was, at*b.Size); err != nil {
			return err
		}
		if !bytes.Equal(was, is) {
			return errors.New("it is another disc than the one that was read before: choose another name for its image")
		}
		compared++
	}
	if compared == 0 {
		return errors.New("nothing that was read before can be read from this disc, so it is not known whether it is " +
			"a copy of the same")
	}
	return nil
}

func save(file string, b *Blocks) error {
	text, err := toml.Marshal(b)
	if err != nil {
		return err
	}
	return wholefile.Write(file, text, wholefile.Private)
}
