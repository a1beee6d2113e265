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
	Blocks *Blocks `json:"blocks"`
	File   string  `json:"file"` // with [Unfinished] behind it while there are holes
	CRC32  string  `json:"crc32,omitempty"`
	SHA1   string  `json:"sha1,omitempty"`
	Before int64   `json:"read-before,omitempty"` // blocks that earlier readings had
}

// Into reads a disc into an image file. One that was begun goes on, also with another copy of the disc: some blocks are
// compared to see that it is one. When every block was read, the image gets its name, and its sums are returned; until
// then it keeps the name that [Unfinished] makes of it. A file that is there already is never written over.
func Into(ctx context.Context, d Drive, file string, count, size int64, o Options) (r *Result, err error) {
	if _, err := os.Lstat(file); !errors.Is(err, fs.ErrNotExist) {
		if err == nil {
			err = fmt.Errorf("%s is there already", file)
		}
		return nil, err
	}
	b, err := begun(file+Map, count, size)
	if err != nil {
		return nil, err
	}
	if info, err := os.Stat(file + Unfinished); err != nil || info.Size() != count*size { // what was read is gone
		b = NewBlocks(count, size)
	}
	f, err := os.OpenFile(file+Unfinished, os.O_RDWR|os.O_CREATE, 0o644)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	r = &Result{Blocks: b, File: file + Unfinished, Before: b.In(Good)}
	o.Keep = func(b *Blocks) error {
		if err := f.Sync(); err != nil { // what is written down as read is on the disk
			return err
		}
		return save(file+Map, b)
	}
	if err := f.Truncate(count * size); err != nil {
		return r, err
	}
	if err := same(ctx, d, f, b); err != nil {
		return r, err
	}
	if err := Read(ctx, d, f, b, o); err != nil || !b.Whole() {
		return r, err
	}
	check, sum := crc32.NewIEEE(), sha1.New()
	if _, err := io.Copy(io.MultiWriter(check, sum), io.NewSectionReader(f, 0, count*size)); err != nil {
		return r, err
	}
	if err := errors.Join(f.Sync(), os.Rename(file+Unfinished, file)); err != nil {
		return r, err
	}
	r.File, r.CRC32, r.SHA1 = file, fmt.Sprintf("%08x", check.Sum32()), hex.EncodeToString(sum.Sum(nil))
	return r, os.Remove(file + Map)
}

// begun is the map of a reading that was begun, or of one that begins.
func begun(file string, count, size int64) (*Blocks, error) {
	data, err := plainfile.Read(file, mostText)
	if errors.Is(err, fs.ErrNotExist) {
		return NewBlocks(count, size), nil
	}
	if err != nil {
		return nil, err
	}
	var b Blocks
	if _, err := strict.Decode(file, data, &b); err != nil {
		return nil, err
	}
	if err := b.Check(); err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	if b.Count != count || b.Size != size {
		return nil, fmt.Errorf("%s was begun with a disc of %d blocks of %d bytes; this one has %d of %d: it is "+
			"another disc", file, b.Count, b.Size, count, size)
	}
	return &b, nil
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
		var s *optical.Sense
		if errors.As(err, &s) && s.Unread() { // of a copy, other blocks are bad
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
