package archive

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"polytome/internal/format/joined"
)

// openVolumes opens all parts of an archive in parts as one; of others, the file.
func openVolumes(name string) (names []string, r io.ReaderAt, size int64, closers []io.Closer, err error) {
	names = []string{name}
	if v, ok := VolumeOf(filepath.Base(name)); ok && v.Plain {
		names = names[:0]
		for n := v.Number; ; n++ {
			part := filepath.Join(filepath.Dir(name), v.Name(n))
			if _, err := os.Stat(part); errors.Is(err, fs.ErrNotExist) && n > v.Number {
				break
			}
			names = append(names, part)
		}
	}
	var parts []joined.Part
	for _, n := range names {
		f, err := os.Open(n)
		if err != nil {
			for _, c := range closers {
				_ = c.Close()
			}
			return nil, nil, 0, nil, err
		}
		closers = append(closers, f)
		info, err := f.Stat()
		if err != nil {
			return nil, nil, 0, closers, err
		}
		if len(names) == 1 {
			all, err := zipParts(name, f, info.Size())
			if err != nil {
				_ = f.Close()
				return nil, nil, 0, nil, err
			}
			if all != nil {
				_ = f.Close()
				return openZipParts(all)
			}
		}
		parts = append(parts, joined.Part{ReaderAt: f, Size: info.Size()})
		size += info.Size()
	}
	if len(parts) == 1 {
		return names, parts[0].ReaderAt, size, closers, nil
	}
	return names, joined.New(parts...), size, closers, nil
}

// openZipParts opens a zip archive in parts as one.
func openZipParts(names []string) (_ []string, r io.ReaderAt, size int64, closers []io.Closer, err error) {
	defer func() {
		if err != nil {
			for _, c := range closers {
				_ = c.Close()
			}
			closers = nil
		}
	}()
	var parts []joined.Part
	for _, n := range names {
		f, err := os.Open(n)
		if err != nil {
			return nil, nil, 0, closers, err
		}
		closers = append(closers, f)
		info, err := f.Stat()
		if err != nil {
			return nil, nil, 0, closers, err
		}
		parts = append(parts, joined.Part{ReaderAt: f, Size: info.Size()})
	}
	r, size, err = unsplit(parts)
	return names, r, size, closers, err
}
