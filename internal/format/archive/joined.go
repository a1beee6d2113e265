package archive

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
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
	var parts joined
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
		parts = append(parts, part{f, size, info.Size()})
		size += info.Size()
	}
	if len(parts) == 1 {
		return names, parts[0].r, size, closers, nil
	}
	return names, parts, size, closers, nil
}

// joined are several files as one.
type joined []part

type part struct {
	r        io.ReaderAt
	at, size int64
}

func (j joined) ReadAt(b []byte, off int64) (done int, err error) {
	i, _ := slices.BinarySearchFunc(j, off, func(p part, off int64) int {
		if p.at+p.size <= off {
			return -1
		}
		return 1
	})
	for ; i < len(j) && done < len(b); i++ {
		p := j[i]
		at := off + int64(done) - p.at
		want := min(int64(len(b)-done), p.size-at)
		n, err := p.r.ReadAt(b[done:done+int(want)], at)
		done += n
		if int64(n) < want {
			return done, err
		}
	}
	if done < len(b) {
		return done, io.EOF
	}
	return done, nil
}
