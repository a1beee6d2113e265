package archive

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"github.com/nwaples/rardecode/v2"
)

// maxDictionary bounds the memory that unpacking a RAR archive may take, in bytes.
const maxDictionary = 512 << 20

// rarEntries lists a RAR archive, over all of its volumes.
func rarEntries(name string, passwords []string) (out []Entry, volumes []string, err error) {
	var seen *volumeLog
	var files []*rardecode.File
	var options []rardecode.Option
	for _, p := range append([]string{""}, passwords...) {
		seen = &volumeLog{}
		options = []rardecode.Option{rardecode.MaxDictionarySize(maxDictionary), rardecode.FileSystem(seen)}
		if p != "" {
			options = append(options, rardecode.Password(p))
		}
		if files, err = rardecode.List(name, options...); err == nil && (p != "" || !secret(files)) {
			if err = tryRAR(files, name, options); err == nil {
				break
			}
		} else if err == nil && len(passwords) == 0 {
			break
		}
		if err != nil && !needsPassword(err) && !(p != "" && wrongPassword(err)) {
			return nil, nil, seen.missing(err)
		}
	}
	if err != nil {
		if needsPassword(err) || wrongPassword(err) {
			err = ErrPassword
		}
		return nil, nil, seen.missing(err)
	}
	for _, f := range files {
		if f.LinkType != rardecode.LinkTypeNone || f.Mode()&fs.ModeSymlink != 0 {
			continue
		}
		e := Entry{Name: f.Name, Size: f.UnPackedSize, Modified: f.ModificationTime, Encrypted: f.Encrypted ||
			f.HeaderEncrypted}
		if f.IsDir {
			e.Name = strings.TrimSuffix(e.Name, "/") + "/"
		}
		e.open = func() (io.ReadCloser, error) { return openRAR(f, name, options, seen) }
		out = append(out, e)
	}
	volumes = seen.opened
	if len(volumes) == 0 {
		volumes = []string{name}
	}
	return out, volumes, nil
}

func secret(files []*rardecode.File) bool {
	for _, f := range files {
		if f.Encrypted {
			return true
		}
	}
	return false
}

// tryRAR reads the beginning of the first encrypted file, to see whether the password is
// right.
func tryRAR(files []*rardecode.File, name string, options []rardecode.Option) error {
	for _, f := range files {
		if !f.Encrypted || f.IsDir || f.UnPackedSize == 0 {
			continue
		}
		r, err := openRAR(f, name, options, nil)
		if err != nil {
			return err
		}
		defer r.Close()
		if f.UnPackedSize <= probe {
			_, err = io.Copy(io.Discard, r)
		} else {
			_, err = io.ReadFull(r, make([]byte, probe))
		}
		return err
	}
	return nil
}

// openRAR unpacks a file. One of a solid archive needs those before it.
func openRAR(f *rardecode.File, name string, options []rardecode.Option, seen *volumeLog) (io.ReadCloser, error) {
	fail := func(err error) error {
		if needsPassword(err) {
			err = ErrPassword
		}
		if seen != nil {
			err = seen.missing(err)
		}
		return err
	}
	r, err := f.Open()
	if errors.Is(err, rardecode.ErrSolidOpen) {
		all, err := rardecode.OpenReader(name, options...)
		if err != nil {
			return nil, fail(err)
		}
		for {
			h, err := all.Next()
			if err != nil {
				_ = all.Close()
				return nil, fail(err)
			}
			if h.Name == f.Name {
				return &rarReader{all, fail}, nil
			}
		}
	}
	if err != nil {
		return nil, fail(err)
	}
	return &rarReader{r, fail}, nil
}

// rarReader says in our words what is wrong.
type rarReader struct {
	io.ReadCloser
	say func(error) error
}

func (r *rarReader) Read(b []byte) (int, error) {
	n, err := r.ReadCloser.Read(b)
	if err != nil && err != io.EOF {
		err = r.say(err)
	}
	return n, err
}

func needsPassword(err error) bool {
	return errors.Is(err, ErrPassword) || errors.Is(err, rardecode.ErrArchiveEncrypted) ||
		errors.Is(err, rardecode.ErrArchivedFileEncrypted) || errors.Is(err, rardecode.ErrBadPassword)
}

// wrongPassword reports what a wrong password looks like in archives that cannot tell it.
func wrongPassword(err error) bool {
	return errors.Is(err, rardecode.ErrBadFileChecksum) || errors.Is(err, rardecode.ErrBadHeaderCRC) ||
		errors.Is(err, rardecode.ErrCorruptBlockHeader) ||
		errors.Is(err, rardecode.ErrHuffDecodeFailed) || errors.Is(err, rardecode.ErrCorruptDecodeHeader) ||
		errors.Is(err, rardecode.ErrInvalidLengthTable) ||
		errors.Is(err, rardecode.ErrCorruptPPM) || errors.Is(err, rardecode.ErrDecoderOutOfData) ||
		errors.Is(err, rardecode.ErrShortFile)
}

// volumeLog opens volumes for the reader, and notes which, and which is missing.
type volumeLog struct {
	mu     sync.Mutex
	opened []string
	lacks  string
}

// Open opens a volume.
func (v *volumeLog) Open(name string) (fs.File, error) {
	f, err := os.Open(name)
	v.mu.Lock()
	defer v.mu.Unlock()
	switch {
	case err == nil:
		if !slices.Contains(v.opened, name) {
			v.opened = append(v.opened, name)
		}
		return f, nil
	case errors.Is(err, fs.ErrNotExist):
		v.lacks = name
	}
	return nil, err
}

// missing names the volume at which the archive ended too early.
func (v *volumeLog) missing(err error) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.lacks != "" && (errors.Is(err, rardecode.ErrUnexpectedArcEnd) || errors.Is(err, rardecode.ErrMultiVolume) ||
		errors.Is(err, fs.ErrNotExist)) {
		return &MissingPart{filepath.Base(v.lacks)}
	}
	return err
}
