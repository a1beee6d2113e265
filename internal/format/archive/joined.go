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
		parts = append(parts, joined.Part{ReaderAt: f, Size: info.Size()})
		size += info.Size()
	}
	if len(parts) == 1 {
		return names, parts[0].ReaderAt, size, closers, nil
	}
	return names, joined.New(parts...), size, closers, nil
}
