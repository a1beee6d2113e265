// Package sparse finds the holes of files, runs of zeros that take no space on
// the disk, so that they need be neither read nor written.
package sparse

import "os"

// Data returns the first run of data in f at or after off, where f has size
// bytes. What is between off and start is zeros. Past the last data it
// returns size twice. Where the system cannot tell, the rest of the file is one run.
func Data(f *os.File, off, size int64) (start, end int64) {
	if off >= size {
		return size, size
	}
	start, end, ok := seekData(f, off, size)
	if !ok {
		return off, size
	}
	return min(start, size), min(end, size)
}

// Extend gives a file a length. What is new of it is a hole where the filesystem has holes, and else takes up space.
func Extend(f *os.File, size int64) error {
	_ = Allow(f) // a filesystem without holes is none to wait for
	return f.Truncate(size)
}

// A File is an opened file that knows its holes.
type File struct {
	*os.File
	size int64
}

// Open opens a file for reading.
func Open(name string) (*File, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	return Of(f)
}

// Of wraps an opened file. It is closed where that fails.
func Of(f *os.File) (*File, error) {
	info, err := f.Stat()
	if err != nil {
		_ = f.Close()
		return nil, err
	}
	return &File{f, info.Size()}, nil
}

// Size is the file's length in bytes, as it was when it was opened.
func (f *File) Size() int64 { return f.size }

// Data returns the first run of data at or after off; see [Data].
func (f *File) Data(off int64) (start, end int64) { return Data(f.File, off, f.size) }

// Section is the file itself, at any byte.
func (f *File) Section(off int64) (of *os.File, at, n int64, ok bool) {
	return f.File, off, f.size - off, true
}
