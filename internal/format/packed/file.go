package packed

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"polytome/internal/format/joined"
)

// A File is a packed image on disk, with its further parts.
type File struct {
	*Image
	Names []string // of its files, in order
	files []*os.File
}

// PartName is the name of part n of a packed image that is cut, from 1: game.pkd, game.2.pkd and so on (3).
func PartName(name string, n int) string {
	if n < 2 {
		return name
	}
	ext := filepath.Ext(name)
	return fmt.Sprintf("%s.%d%s", strings.TrimSuffix(name, ext), n, ext)
}

// OpenFile opens a packed image, and the further parts that are beside it.
func OpenFile(name string) (f *File, err error) {
	f = &File{}
	var parts []joined.Part
	for n := 1; ; n++ {
		part := PartName(name, n)
		in, err := os.Open(part)
		if n > 1 && errors.Is(err, fs.ErrNotExist) {
			break
		}
		if err != nil {
			return nil, errors.Join(err, f.Close())
		}
		f.files, f.Names = append(f.files, in), append(f.Names, part)
		info, err := in.Stat()
		if err != nil {
			return nil, errors.Join(err, f.Close())
		}
		parts = append(parts, joined.Part{ReaderAt: in, Size: info.Size()})
	}
	all := joined.New(parts...)
	if f.Image, err = Open(all, all.Size()); err != nil {
		_ = f.Close()
		return nil, err
	}
	return f, nil
}

// Close closes the files.
func (f *File) Close() error {
	var all []error
	if f.Image != nil {
		all = append(all, f.Image.Close())
	}
	for _, in := range f.files {
		all = append(all, in.Close())
	}
	return errors.Join(all...)
}
