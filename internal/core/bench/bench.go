// Package bench keeps the working state: where the games are, what shall be
// filled, and what was chosen for each place. It is one TOML file that a person
// can read and keep in git.
package bench

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"polytome/internal/core/strict"
	"polytome/internal/core/title"
	"polytome/internal/size"
)

// FormatVersion is the version of the bench file that is read and written.
const FormatVersion = 1

// A Bench is the working state. Paths in it are relative to the file's folder,
// or absolute.
type Bench struct {
	Format  int      `toml:"format"`
	Name    string   `toml:"name"`
	Sources []Source `toml:"source"`
	Places  []Place  `toml:"place"`

	file string // "" for a bench that is not saved
}

// A Source is a folder where titles are found.
type Source struct {
	Path string `toml:"path"`
}

// A Place is something to be filled.
type Place struct {
	Name       string `toml:"name"`
	At         string `toml:"at"`
	Loader     string `toml:"loader"`
	Road       string `toml:"road,omitempty"` // "" for the loader's usual one
	As         string `toml:"as,omitempty"`   // declares the filesystem
	Room       Size   `toml:"room,omitempty"` // declares the capacity
	Rate       Size   `toml:"rate,omitempty"` // writes at most so much a second
	Everything bool   `toml:"everything"`     // all titles are wanted, but for Without
	Without    Keys   `toml:"without,omitempty"`
	Titles     Keys   `toml:"titles,omitempty"` // what is wanted when not everything is
	// Names are those that titles have been given where several wanted one, by
	// their keys: they keep them.
	Names map[string]string `toml:"names,omitempty"`
}

// Keys are the keys of titles, sorted.
type Keys []string

// Size is an amount of bytes, written like "58GiB".
type Size int64

// UnmarshalText reads a size.
func (s *Size) UnmarshalText(b []byte) error {
	n, err := size.Parse(string(b))
	*s = Size(n)
	return err
}

// MarshalText writes a size so that it reads back exactly.
func (s Size) MarshalText() ([]byte, error) {
	n := int64(s)
	for _, u := range []struct {
		bytes int64
		name  string
	}{{size.TiB, "TiB"}, {size.GiB, "GiB"}, {size.MiB, "MiB"}, {size.KiB, "KiB"}} {
		if n != 0 && n%u.bytes == 0 {
			return fmt.Appendf(nil, "%d%s", n/u.bytes, u.name), nil
		}
	}
	return fmt.Appendf(nil, "%d", n), nil
}

// Wants reports whether a title is chosen for the place.
func (p *Place) Wants(key string) bool {
	if p.Everything {
		return !p.Without.has(key)
	}
	return p.Titles.has(key)
}

// Want puts titles on the place's list, or takes them off.
func (p *Place) Want(wanted bool, keys ...string) {
	if p.Everything {
		p.Without = p.Without.with(!wanted, keys)
	} else {
		p.Titles = p.Titles.with(wanted, keys)
	}
}

func (k Keys) has(key string) bool {
	_, ok := slices.BinarySearch(k, key)
	return ok
}

// with returns a changed copy, so that what was shared before stays as it was.
func (k Keys) with(in bool, keys []string) Keys {
	if in {
		all := append(slices.Clone(k), keys...)
		slices.Sort(all)
		return slices.Compact(all)
	}
	out := Keys(slices.Sorted(slices.Values(keys)))
	return slices.DeleteFunc(slices.Clone(k), out.has)
}

// Load reads a bench file. Mistakes in it are [*strict.Error].
func Load(file string) (*Bench, error) {
	data, err := os.ReadFile(file)
	if err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			return nil, fmt.Errorf("there is no bench %s: %w", file, fs.ErrNotExist)
		}
		return nil, fmt.Errorf("reading the bench: %w", err)
	}
	b := &Bench{file: file}
	src, err := strict.Decode(file, data, b)
	if err != nil {
		return nil, err
	}
	var all []error
	fail := func(at, format string, args ...any) { all = append(all, src.Errorf(at, format, args...)) }
	if b.Format != FormatVersion {
		fail("format", "this is format %d, and this version reads format %d", b.Format, FormatVersion)
	}
	names := map[string]bool{}
	for i := range b.Places {
		p, at := &b.Places[i], fmt.Sprintf("place.%d", i)
		if p.Name == "" || p.At == "" || p.Loader == "" {
			fail(at, "a place needs a name, where it is (at), and a loader")
		}
		if names[strings.ToLower(p.Name)] {
			fail(at+".name", "there are two places called %q", p.Name)
		}
		names[strings.ToLower(p.Name)] = true
		if p.Room < 0 || p.Rate < 0 {
			fail(at, "room and rate cannot be negative")
		}
		slices.Sort(p.Without)
		slices.Sort(p.Titles)
	}
	return b, errors.Join(all...)
}

// New makes an empty bench that will be saved to a file; with "" it never is.
func New(file string) *Bench {
	name := strings.TrimSuffix(filepath.Base(file), filepath.Ext(file))
	return &Bench{Format: FormatVersion, Name: name, file: file}
}

// File is where the bench is saved, "" for nowhere.
func (b *Bench) File() string { return b.file }

// Resolve turns a path of the bench into one for the system.
func (b *Bench) Resolve(path string) string {
	if b.file == "" || filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(filepath.Dir(b.file), path)
}

// SourcePaths lists the source folders.
func (b *Bench) SourcePaths() []string {
	var out []string
	for _, s := range b.Sources {
		out = append(out, b.Resolve(s.Path))
	}
	return out
}

const heading = `# A Polytome bench: where the games are, what shall be filled, and what was chosen.
# Polytome rewrites this file on every change; paths are relative to it.

`

// Save writes the file anew, at once or not at all.
func (b *Bench) Save() error {
	if b.file == "" {
		return nil
	}
	text, err := toml.Marshal(b)
	if err != nil {
		return fmt.Errorf("saving the bench: %w", err)
	}
	f, err := os.CreateTemp(filepath.Dir(b.file), ".bench-*")
	if err != nil {
		return fmt.Errorf("saving the bench: %w", err)
	}
	_, err = f.Write(append([]byte(heading), text...))
	err = errors.Join(err, f.Chmod(0o644), f.Sync(), f.Close())
	if err == nil {
		err = os.Rename(f.Name(), b.file)
	}
	if err != nil {
		_ = os.Remove(f.Name())
		return fmt.Errorf("saving the bench %s: %w", b.file, err)
	}
	return nil
}

// Remember keeps names that titles were told apart by. It reports whether any of them is
// new.
func (p *Place) Remember(names map[string]string) bool {
	fresh := false
	for key, name := range names {
		if p.Names[key] == name {
			continue
		}
		if !fresh {
			p.Names = maps.Clone(p.Names) // earlier choices share it
			if p.Names == nil {
				p.Names = map[string]string{}
			}
		}
		p.Names[key], fresh = name, true
	}
	return fresh
}

// Choices are which titles are wanted at each place: what undo goes back to.
type Choices []Place

// Choices copies the present ones.
func (b *Bench) Choices() Choices { return slices.Clone(b.Places) }

// Restore goes back to earlier choices.
func (b *Bench) Restore(c Choices) { b.Places = slices.Clone(c) }

// Wanted reports, by index, whether a title is wanted at place number p.
func (b *Bench) Wanted(p int, titles []title.Title) func(i int) bool {
	return func(i int) bool { return b.Places[p].Wants(titles[i].Key) }
}

// Clone copies the bench, so that one goroutine can work on it while another
// changes the choices.
func (b *Bench) Clone() *Bench {
	c := *b
	c.Sources, c.Places = slices.Clone(b.Sources), slices.Clone(b.Places)
	return &c
}
