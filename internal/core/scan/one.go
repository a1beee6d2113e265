package scan

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/title"
	"polytome/internal/format/archive"
)

// One finds out what a single file or folder is, whatever lies beside it: nil for nothing that the set knows. Discs of
// a title that lie in other files are not looked for.
func One(file string, set *loader.Set) (*title.Title, error) {
	full, err := filepath.Abs(file)
	if err != nil {
		return nil, err
	}
	info, err := os.Stat(full)
	if err != nil {
		return nil, err
	}
	beside, name := os.DirFS(filepath.Dir(full)), filepath.Base(full)
	var t *title.Title
	switch {
	case info.IsDir():
		t, err = IdentifyFolder(beside, name, set)
		if t != nil && err == nil {
			t.Discs[0].Parts, err = partsOf(full)
		}
	case !info.Mode().IsRegular():
		return nil, fmt.Errorf("%s is neither a file nor a folder", file)
	case len(tracksOf(strings.ToLower(filepath.Ext(name)), set)) > 0:
		t, err = tracks(diskShelf(filepath.Dir(full)), name, set)
	default:
		t, err = oneFile(full, info.Size(), set)
	}
	if t == nil || err != nil {
		return nil, err
	}
	t.Key = full
	t.Discs[0].File.Path, t.Discs[0].File.Modified = full, info.ModTime()
	if !info.IsDir() {
		t.Discs[0].File.Size = info.Size()
	}
	return t, nil
}

func oneFile(full string, size int64, set *loader.Set) (*title.Title, error) {
	f, err := os.Open(full)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	head := make([]byte, 8)
	if n, _ := f.ReadAt(head, 0); n == len(head) && archive.KindOf(head) != "" {
		if t, err := IdentifyPacked(f, size, full, set); t != nil || err != nil {
			return t, err
		}
	}
	return Identify(f, size, full, set)
}

// partsOf are all files below a folder.
func partsOf(dir string) (out []title.Part, err error) {
	err = fs.WalkDir(os.DirFS(dir), ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		out = append(out, title.Part{Name: name, File: title.File{Path: filepath.Join(dir, filepath.FromSlash(name)),
			Size: info.Size(), Modified: info.ModTime()}})
		return nil
	})
	return out, err
}
