// Package reading takes values such as an ID or a name out of a game's files, as the description of a platform says:
// from texts of all sorts, from bytes at a place or behind a pattern, from names. It knows no game itself.
package reading

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/format/dump"
	"polytome/internal/size"
)

// A Source is a file that values are read from: a game's own, or one inside its image, folder or package. It is read
// piece by piece, and no more of it than is asked for. One goroutine uses it at a time.
type Source struct {
	// Name is the file's, for evidence.
	Name string
	// Size is that of the file, and Game that of the whole game's file, in bytes.
	Size, Game int64
	// Called is the name of the game's own file or folder, with its extension, and CalledFrom what that is, for
	// evidence.
	Called, CalledFrom string
	// Volume is the volume identifier of the image (ECMA-119, 8.4.7), "" without one.
	Volume string
	// FS is what the file is in, or, of a game's own file, what is in that; nil for neither.
	FS fs.FS

	r     io.ReaderAt // nil where it is opened again for each piece
	path  string      // in FS
	head  []byte
	read  bool // head was read
	texts map[string]string
}

// Of is a game's own file.
func Of(r io.ReaderAt, size int64, name string) *Source {
	return &Source{Name: name, Size: size, Game: size, Called: name, CalledFrom: "the name of the file", r: r}
}

// As is the game in a file that is a dump.
func (s *Source) As(l dump.Layout) *Source {
	r := dump.New(s.r, s.Size, l)
	game := Of(r, r.Size(), s.Name)
	game.FS, game.Volume = s.FS, s.Volume
	return game
}

// In finds a file of an image, folder or package without regard to letter case, as different makers spell it
// differently; * in the pattern stands for any name. It returns nil when the file is not there, or several fit.
func In(fsys fs.FS, pattern string) (*Source, error) {
	at, err := LookFor(fsys, pattern)
	if at == "" {
		return nil, err
	}
	info, err := fs.Stat(fsys, at)
	if err != nil {
		return nil, err
	}
	s := &Source{Name: path.Base(at), Size: info.Size(), FS: fsys, path: at}
	_, err = s.at(0, min(headLength, s.Size)) // what cannot be read is reported here
	return s, err
}

// beside is another file where this one is, for values that stand there.
func (s *Source) beside(pattern string) (*Source, error) {
	if s.FS == nil {
		return nil, nil
	}
	o, err := In(s.FS, pattern)
	if o != nil {
		o.Game, o.Called, o.CalledFrom, o.Volume = s.Game, s.Called, s.CalledFrom, s.Volume
	}
	return o, err
}

const (
	headLength = 4 << 10 // what is read of a file at once at first
	// Most is how many bytes from a file's begin or end are looked at.
	Most = loader.MostLooked
)

// errShort is that a file ends before what is asked for.
var errShort = errors.New("the file ends before")

// at reads n bytes at an offset; a negative one counts from the end.
func (s *Source) at(offset, n int64) ([]byte, error) {
	if offset < 0 {
		offset += s.Size
	}
	if offset < 0 || offset+n > s.Size {
		return nil, errShort
	}
	if !s.read {
		s.read = true
		var err error
		if s.head, err = s.piece(0, min(headLength, s.Size)); err != nil {
			s.head = nil
			return nil, err
		}
	}
	if end := offset + n; end <= int64(len(s.head)) {
		return s.head[offset:end], nil
	}
	return s.piece(offset, n)
}

func (s *Source) piece(offset, n int64) ([]byte, error) {
	b := make([]byte, n)
	if s.r != nil {
		return full(s.r, b, offset)
	}
	f, err := s.FS.Open(s.path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if r, ok := f.(io.ReaderAt); ok {
		return full(r, b, offset)
	}
	if _, err := io.CopyN(io.Discard, f, offset); err != nil {
		return nil, err
	}
	_, err = io.ReadFull(f, b)
	return b, err
}

func full(r io.ReaderAt, b []byte, offset int64) ([]byte, error) {
	n, err := r.ReadAt(b, offset)
	if n == len(b) {
		return b, nil
	}
	if err == nil || errors.Is(err, io.EOF) {
		err = errShort
	}
	return nil, err
}

// longestText is the longest text that values are read from: a longer one is no list of values.
const longestText = 64 << 10

// text is the whole file as text.
func (s *Source) text(encoding string) (string, error) {
	if t, ok := s.texts[encoding]; ok {
		return t, nil
	}
	if s.Size > longestText {
		return "", fmt.Errorf("it has more than %s", size.Format(longestText))
	}
	b, err := s.at(0, s.Size)
	if err != nil {
		return "", err
	}
	if s.texts == nil {
		s.texts = map[string]string{}
	}
	s.texts[encoding] = strings.TrimPrefix(decodeText(b, encoding), "\uFEFF")
	return s.texts[encoding], nil
}

// LookFor is the path of the file that a pattern names, whatever its letter case; "" for none, and where several could
// be meant.
func LookFor(fsys fs.FS, pattern string) (string, error) {
	all, err := find(fsys, pattern, false)
	if len(all) == 1 {
		return all[0], nil
	}
	return "", err
}

// find lists the files, and with folders those too, that a pattern names. More than two are not listed: a marker is
// one file, and a folder of many is a collection.
func find(fsys fs.FS, pattern string, folders bool) ([]string, error) {
	dirs := []string{"."}
	parts := strings.Split(strings.ToLower(pattern), "/")
	for i, want := range parts {
		last, most := i == len(parts)-1, 64
		if last {
			most = 2
		}
		var next []string
		for _, dir := range dirs {
			entries, err := fs.ReadDir(fsys, dir)
			for _, e := range entries {
				ok, _ := path.Match(want, strings.ToLower(e.Name()))
				if ok && e.Type()&fs.ModeSymlink == 0 && (e.IsDir() != last || last && folders) && len(next) < most {
					next = append(next, path.Join(dir, e.Name()))
				}
			}
			if err != nil && len(next) == 0 && !errors.Is(err, fs.ErrNotExist) {
				return nil, err
			}
		}
		if dirs = next; len(dirs) == 0 {
			return nil, nil
		}
	}
	return dirs, nil
}

// A Lack is what of a marker is not there.
type Lack struct {
	what string // a sentence, with %s for what it is about
	of   string
}

// Say is the lack in a sentence.
func (l Lack) Say() string { return fmt.Sprintf(l.what, l.of) }

// Marked is the source from which the values of a platform are read, where its marker is there; it is s itself for
// one of the game's own file. Without the marker it is nil, and lack is what is not there. An error is one of a
// marker's file that cannot be read.
func (s *Source) Marked(m *loader.Marker) (at *Source, lack Lack, err error) {
	if m.Volume.Regexp != nil && (s.Volume == "" || !m.Volume.MatchString(s.Volume)) {
		return nil, Lack{"the volume identifier is not as wanted, but %q", s.Volume}, nil
	}
	if m.Named.Regexp != nil && !m.Named.MatchString(s.Called) {
		return nil, Lack{"the name is not as wanted, but %s", s.Called}, nil
	}
	if at = s; m.File != "" {
		if at, err = s.beside(m.File); at == nil || err != nil {
			return nil, Lack{"there is no %s in it, or several", m.File}, err
		}
	}
	for _, want := range m.With {
		if there, _ := s.lies(want); !there {
			return nil, Lack{"there is no %s in it", want}, nil
		}
	}
	for _, not := range m.Without {
		if there, _ := s.lies(not); there {
			return nil, Lack{"there is %s in it", not}, nil
		}
	}
	if len(m.Lead()) > 0 {
		b, err := at.at(m.Offset, int64(len(m.Lead())))
		if err != nil || !m.Lead().Fit(b) { // a file that is too short has other bytes
			return nil, Lack{"%s has other bytes at the place", at.Name}, nil
		}
	}
	if m.Pattern.Regexp != nil {
		found, err := at.search(m.Pattern, m.Offset, m.Length, m.Encoding)
		if err != nil && !errors.Is(err, errShort) && m.File != "" {
			return nil, Lack{}, err
		}
		if !found {
			return nil, Lack{"nothing in %s is as the pattern wants", at.Name}, nil
		}
	}
	return at, Lack{}, nil
}

// lies reports whether something lies in the image, folder or package.
func (s *Source) lies(pattern string) (bool, error) {
	if s.FS == nil {
		return false, nil
	}
	all, err := find(s.FS, pattern, true)
	return len(all) > 0, err
}

// search looks for a pattern in bytes of the file, or in all of its text.
func (s *Source) search(p loader.Pattern, offset, length int64, encoding string) (bool, error) {
	if length == 0 {
		text, err := s.text(encoding)
		return err == nil && p.MatchString(text), err
	}
	b, err := s.window(offset, length)
	return err == nil && p.MatchString(decodeText(b, encoding)), err
}

// window reads up to so many bytes: a file may end within them.
func (s *Source) window(offset, length int64) ([]byte, error) {
	if offset < 0 {
		offset = max(0, offset+s.Size)
	}
	return s.at(offset, max(0, min(length, s.Size-offset)))
}

// Kind is the first kind of game whose conditions hold for a game with an ID, of those that have some; "" for none.
func (s *Source) Kind(p *loader.Platform, id string) string {
	for i := range p.Kinds {
		k := &p.Kinds[i]
		if !k.Conditional() || s.Game < k.Smallest || k.Largest > 0 && s.Game > k.Largest ||
			k.ID.Regexp != nil && !k.ID.MatchString(id) {
			continue
		}
		if k.File != "" {
			if there, _ := s.lies(k.File); !there {
				continue
			}
		}
		return k.Name
	}
	return ""
}
