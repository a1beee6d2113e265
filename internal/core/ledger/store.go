package ledger

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
	"unicode"

	"github.com/adrg/xdg"
	"github.com/pelletier/go-toml/v2"

	"polytome/internal/plainfile"
	"polytome/internal/wholefile"
)

// A Store is a folder with a file for each volume, and one with the names that people gave them.
type Store struct{ Dir string }

// largest is how many bytes a file of the ledger has at most.
const largest = 64 << 20

// names is the file with what people call volumes, which they may edit.
const names = "names.toml"

// A named volume is one that somebody gave a name or a place.
type named struct {
	ID    string `toml:"id"`
	Name  string `toml:"name,omitempty"`
	Place string `toml:"place,omitempty"`
}

// ErrUnknown reports that the ledger has no such volume.
var ErrUnknown = errors.New("the ledger knows no such volume")

// file is where a volume stands.
func (s Store) file(id string) string {
	name := strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) || r == '-' {
			return r
		}
		return '_'
	}, id)
	return filepath.Join(s.Dir, name+".json")
}

// Note takes over a volume as it was just seen. Ours says that it is as a run of Polytome has left it; else, where
// something else is on it than the last time, that is noted.
func (s Store) Note(v Volume, ours bool) error {
	if v.ID == "" {
		return nil
	}
	if err := os.MkdirAll(s.Dir, 0o700); err != nil {
		return fmt.Errorf("making the ledger: %w", err)
	}
	switch was, err := s.read(s.file(v.ID)); {
	case err == nil:
		v.Written, v.Changed = was.Written, was.Changed
		if v.Check == nil {
			v.Check = was.Check
		}
		if !ours && was.Print != "" && was.Print != v.Print {
			v.Changed = v.Seen
		}
	case !errors.Is(err, fs.ErrNotExist): // it is written again
	}
	if ours {
		v.Written, v.Changed = v.Seen, time.Time{}
	}
	v.Name, v.Place = "", ""
	data, err := json.MarshalIndent(v, "", " ")
	if err != nil {
		return fmt.Errorf("writing the ledger: %w", err)
	}
	if err := wholefile.Write(s.file(v.ID), append(data, '\n'), wholefile.Private); err != nil {
		return fmt.Errorf("writing the ledger: %w", err)
	}
	return nil
}

// Volume is what is remembered of a volume; fs.ErrNotExist for nothing.
func (s Store) Volume(id string) (Volume, error) { return s.read(s.file(id)) }

// Usual is the ledger of the user.
func Usual() Store { return Store{Dir: filepath.Join(xdg.DataHome, "polytome", "ledger")} }

func (s Store) read(file string) (v Volume, err error) {
	data, err := plainfile.Read(file, largest)
	if err != nil {
		return v, err
	}
	if err := json.Unmarshal(data, &v); err != nil {
		return v, fmt.Errorf("%s is no file of the ledger: %w", file, err)
	}
	return v, nil
}

// All are the volumes, the newest look first, with their names. What cannot be read is left out, and reported.
func (s Store) All() ([]Volume, error) {
	r, err := s.Read(nil)
	return r.Volumes, err
}

// A Reading is what the ledger held at some time. It is not changed.
type Reading struct {
	Volumes []Volume // the newest look first
	files   map[string]readFile
}

// readFile is a volume's file as it was read.
type readFile struct {
	info   fs.FileInfo
	volume Volume
}

// is reports whether the file is the same still. Files are replaced as a whole.
func (f *readFile) is(now fs.FileInfo) bool {
	return os.SameFile(f.info, now) && f.info.Size() == now.Size() && f.info.ModTime().Equal(now.ModTime())
}

// Read is All, and takes from an earlier reading what has not changed since; nil for none.
func (s Store) Read(earlier *Reading) (*Reading, error) {
	out := &Reading{files: map[string]readFile{}}
	entries, err := os.ReadDir(s.Dir)
	if errors.Is(err, fs.ErrNotExist) {
		return out, nil
	}
	if err != nil {
		return out, fmt.Errorf("reading the ledger: %w", err)
	}
	given, err := s.named()
	problems := []error{err}
	for _, e := range entries {
		if e.IsDir() || filepath.Ext(e.Name()) != ".json" {
			continue
		}
		f, err := s.readFile(e, earlier)
		if err != nil {
			problems = append(problems, fmt.Errorf("reading the ledger: %w", err))
			continue
		}
		out.files[e.Name()] = f
		v := f.volume
		if i := slices.IndexFunc(given, func(n named) bool { return n.ID == v.ID }); i >= 0 {
			v.Name, v.Place = given[i].Name, given[i].Place
		}
		out.Volumes = append(out.Volumes, v)
	}
	slices.SortStableFunc(out.Volumes, func(a, b Volume) int {
		return cmp.Or(b.Seen.Compare(a.Seen), strings.Compare(a.ID, b.ID))
	})
	return out, errors.Join(problems...)
}

func (s Store) readFile(e fs.DirEntry, earlier *Reading) (readFile, error) {
	info, err := e.Info() // before it is read: what changes meanwhile is read again the next time
	if err != nil {
		return readFile{}, err
	}
	if earlier != nil {
		if was, ok := earlier.files[e.Name()]; ok && was.is(info) {
			return was, nil
		}
	}
	v, err := s.read(filepath.Join(s.Dir, e.Name()))
	return readFile{info, v}, err
}

// Find is the volume of a name, label, ID or address, without regard to letter case.
func Find(all []Volume, word string) (*Volume, error) {
	for _, is := range []func(v *Volume) string{
		func(v *Volume) string { return v.Name }, func(v *Volume) string { return v.ID },
		func(v *Volume) string { return v.Target }, func(v *Volume) string { return v.Label },
		func(v *Volume) string { return v.Address },
	} {
		var found []*Volume
		for i := range all {
			if word != "" && strings.EqualFold(is(&all[i]), word) {
				found = append(found, &all[i])
			}
		}
		if len(found) == 1 {
			return found[0], nil
		}
		if len(found) > 1 {
			return nil, fmt.Errorf("%d volumes have the name %s: use the ID, such as %s", len(found), word, found[0].ID)
		}
	}
	return nil, fmt.Errorf("%s: %w", word, ErrUnknown)
}

func (s Store) named() (all []named, err error) {
	data, err := plainfile.Read(filepath.Join(s.Dir, names), largest)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("reading the names of volumes: %w", err)
	}
	var file struct {
		Volume []named `toml:"volume"`
	}
	if err := toml.Unmarshal(data, &file); err != nil {
		return nil, fmt.Errorf("reading the names of volumes: %s: %w", filepath.Join(s.Dir, names), err)
	}
	return file.Volume, nil
}

// Name gives a volume a name and a place; nil leaves one as it is, and "" takes it away.
func (s Store) Name(id string, name, place *string) error {
	all, err := s.named()
	if err != nil {
		return err
	}
	i := slices.IndexFunc(all, func(n named) bool { return n.ID == id })
	if i < 0 {
		i, all = len(all), append(all, named{ID: id})
	}
	if name != nil {
		all[i].Name = strings.TrimSpace(*name)
	}
	if place != nil {
		all[i].Place = strings.TrimSpace(*place)
	}
	if all[i].Name == "" && all[i].Place == "" {
		all = slices.Delete(all, i, i+1)
	}
	data, err := toml.Marshal(struct {
		Volume []named `toml:"volume"`
	}{all})
	if err != nil {
		return fmt.Errorf("writing the names of volumes: %w", err)
	}
	if err := os.MkdirAll(s.Dir, 0o700); err != nil {
		return fmt.Errorf("making the ledger: %w", err)
	}
	if err := wholefile.Write(filepath.Join(s.Dir, names), data, wholefile.Private); err != nil {
		return fmt.Errorf("writing the names of volumes: %w", err)
	}
	return nil
}

// Reformatted forgets volumes that are no longer there. The new one in their place gets the name and the place that the
// first of them had: that is written on the stick.
func (s Store) Reformatted(lost []string, now string) error {
	if s.Dir == "" {
		return nil
	}
	given, err := s.named()
	if err != nil {
		return err
	}
	had := func(id string) int { return slices.IndexFunc(given, func(n named) bool { return n.ID == id }) }
	for _, volume := range lost {
		id := OfStick(volume)
		if volume == now {
			continue
		}
		if i := had(id); i >= 0 {
			if now != "" && had(OfStick(now)) < 0 {
				if err := s.Name(OfStick(now), &given[i].Name, &given[i].Place); err != nil {
					return err
				}
			}
			none := ""
			if err := s.Name(id, &none, &none); err != nil {
				return err
			}
			if given, err = s.named(); err != nil {
				return err
			}
		}
		if err := s.Forget(id); err != nil && !errors.Is(err, ErrUnknown) {
			return err
		}
	}
	return nil
}

// Forget drops what is known of a volume; its name stays.
func (s Store) Forget(id string) error {
	err := os.Remove(s.file(id))
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%s: %w", id, ErrUnknown)
	}
	return err
}
