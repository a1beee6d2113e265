// Package plainfile reads files that someone names: plain ones only, of a sensible length. A pipe or a device under
// such a name would have the program wait, or read, for ever.
package plainfile

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"

	"polytome/internal/size"
)

// Open opens a plain file for reading, without waiting for anybody.
func Open(name string) (*os.File, error) {
	f, err := os.OpenFile(name, os.O_RDONLY|NonBlock, 0)
	if err != nil {
		return nil, err
	}
	if err := Check(f); err != nil {
		_ = f.Close()
		return nil, err
	}
	return f, nil
}

// ErrNotPlain reports a path that is not a regular file.
var ErrNotPlain = errors.New("not a regular file")

// Check fails for an opened file that is no plain one.
func Check(f *os.File) error {
	info, err := f.Stat()
	if err != nil {
		return err
	}
	if !info.Mode().IsRegular() {
		say := ErrNotPlain
		if info.IsDir() {
			say = fmt.Errorf("%w but a folder", ErrNotPlain)
		}
		return &fs.PathError{Op: "open", Path: f.Name(), Err: say}
	}
	return nil
}

// Read reads all of a plain file that has so many bytes at most.
func Read(name string, most int64) ([]byte, error) {
	f, err := Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	b, err := io.ReadAll(io.LimitReader(f, most+1))
	if err == nil && int64(len(b)) > most {
		err = &fs.PathError{Op: "read", Path: name, Err: fmt.Errorf("it has more than %s, too much for such a file",
			size.Format(most))}
	}
	return b, err
}
