// Package discs does what people do with discs and drives: it finds out which title lies in the tray, reads it into a
// folder under its name, a whole shelf one after the other, and finds what is to be burnt.
package discs

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"path"
	"path/filepath"
	"strings"
	"time"

	"polytome/internal/core/discread"
	"polytome/internal/core/loader"
	"polytome/internal/core/sanitize"
	"polytome/internal/core/scan"
	"polytome/internal/core/title"
	"polytome/internal/optical"
)

// Identify finds out which title lies in a drive, by the few blocks that say so; nil for none that the set knows. What
// is wrong with the disc elsewhere is not seen.
func Identify(ctx context.Context, d *optical.Drive, disc *discread.Disc, set *loader.Set) (*title.Title, error) {
	r := discread.ReaderAt(ctx, d, disc)
	size := disc.Blocks * disc.Size
	if !disc.Whole() {
		return scan.Identify(r, size, "disc.iso", set)
	}
	t, err := scan.IdentifyTracks(tray{r, size, []byte(disc.Sheet("disc.bin"))}, "disc.cue", set)
	if t != nil && t.Name == "disc" {
		t.Name = ""
	}
	return t, err
}

// tray shows a disc as a cue sheet and its file.
type tray struct {
	r     io.ReaderAt
	size  int64
	sheet []byte
}

func (t tray) Open(name string) (fs.File, error) {
	switch name {
	case ".":
		return &inTray{name: name, dir: []fs.DirEntry{entry{"disc.bin", t.size}, entry{"disc.cue",
			int64(len(t.sheet))}}}, nil
	case "disc.cue":
		return &inTray{name: name, size: int64(len(t.sheet)), SectionReader: io.NewSectionReader(
			strings.NewReader(string(t.sheet)), 0, int64(len(t.sheet)))}, nil
	case "disc.bin":
		return &inTray{name: name, size: t.size, SectionReader: io.NewSectionReader(t.r, 0, t.size)}, nil
	}
	return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
}

// inTray is an open file, or the folder.
type inTray struct {
	*io.SectionReader
	name string
	size int64
	dir  []fs.DirEntry
}

func (f *inTray) Close() error               { return nil }
func (f *inTray) Stat() (fs.FileInfo, error) { return entry{f.name, f.size}, nil }
func (f *inTray) ReadDir(int) ([]fs.DirEntry, error) {
	out := f.dir
	f.dir = nil
	return out, nil
}

// entry is what is known of a file in the tray.
type entry struct {
	name string
	size int64
}

func (e entry) Name() string               { return e.name }
func (e entry) Size() int64                { return e.size }
func (e entry) ModTime() time.Time         { return time.Time{} }
func (e entry) Sys() any                   { return nil }
func (e entry) Info() (fs.FileInfo, error) { return e, nil }
func (e entry) Type() fs.FileMode          { return e.Mode().Type() }
func (e entry) IsDir() bool                { return e.name == "." }
func (e entry) Mode() fs.FileMode {
	if e.IsDir() {
		return fs.ModeDir | 0o755
	}
	return 0o644
}

// FileName is the name of the image of a disc in a folder of games: by the title that is on it, its number where there
// are several, and else by what the volume or the drive says.
func FileName(disc *discread.Disc, t *title.Title) string {
	name := ""
	if t != nil {
		if name = t.Name; name == "" {
			name = t.ID
		}
		if n := t.Discs[0].Number; t.Of > 1 || n > 1 {
			name += fmt.Sprintf(" (Disc %d)", n)
		}
	}
	name = strings.Trim(sanitize.Write(name, func(r rune) bool {
		return r >= ' ' && r != 0x7F && !strings.ContainsRune(`/\:*?"<>|`, r)
	}), " .")
	if name == "" {
		name = fmt.Sprintf("disc of %d blocks", disc.Blocks)
	}
	return name + disc.Extension()
}

// Into is the path of the image of a disc in a folder.
func Into(dir string, disc *discread.Disc, t *title.Title) string {
	return filepath.Join(dir, path.Base(FileName(disc, t)))
}
