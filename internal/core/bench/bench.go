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
	"reflect"
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
	Format int    `toml:"format"`
	Name   string `toml:"name"`
	// Lists are CSV files with proper names of titles.
	Lists []string `toml:"lists,omitempty"`
	// Passwords are tried on encrypted archives. They are kept as they are: who can read the bench
	// can read them.
	Passwords []string `toml:"passwords,omitempty"`
	Sources   []Source `toml:"source"`
	Places    []Place  `toml:"place"`
	// Edits are what was set by hand for titles.
	Edits []title.Edit `toml:"edit,omitempty"`

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
	files := map[string]bool{}
	for i := range b.Edits {
		e, at := &b.Edits[i], fmt.Sprintf("edit.%d", i)
		if e.File == "" || files[e.File] {
			fail(at, "an edit needs a file of its own")
		}
		files[e.File] = true
		for _, f := range e.Locked {
			if e.Value(f) == nil {
				fail(at+".locked", "%q is no field that can be locked; those are: %s", f, strings.Join(title.Editable, ", "))
			}
		}
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

// Choices are which titles are wanted at each place, and what was set by hand for titles: what
// undo goes back to.
type Choices struct {
	places    []Place
	edits     []title.Edit
	passwords []string
	lists     []string
}

// Choices copies the present ones.
func (b *Bench) Choices() Choices {
	return Choices{slices.Clone(b.Places), slices.Clone(b.Edits), slices.Clone(b.Passwords), slices.Clone(b.Lists)}
}

// Restore goes back to earlier choices. It reports whether what was set by hand is another now.
func (b *Bench) Restore(c Choices) (edited bool) {
	edited = !reflect.DeepEqual(b.Edits, c.edits) || !slices.Equal(b.Passwords, c.passwords) || !slices.Equal(b.Lists, c.lists)
	b.Places, b.Edits, b.Passwords, b.Lists = slices.Clone(c.places), slices.Clone(c.edits), slices.Clone(c.passwords), slices.Clone(c.lists)
	return edited
}

// Edit changes what was set by hand for the title of a file, a path of this computer; see
// [title.Title.Where]. An edit that says nothing any more is forgotten.
func (b *Bench) Edit(where, sign string, change func(*title.Edit)) {
	file := b.relative(where)
	i := slices.IndexFunc(b.Edits, func(e title.Edit) bool { return e.File == file })
	e := title.Edit{File: file, Sign: sign}
	b.Edits = slices.Clone(b.Edits) // earlier choices share it
	if i >= 0 {
		e = b.Edits[i]
		b.Edits = slices.Delete(b.Edits, i, i+1)
	}
	change(&e)
	if e.Sign == "" {
		e.Sign = sign
	}
	if !e.Empty() {
		b.Edits = append(b.Edits, e)
		slices.SortFunc(b.Edits, func(x, y title.Edit) int { return strings.Compare(x.File, y.File) })
	}
}

// EditOf is what was set by hand for the title of a file; an empty one for nothing.
func (b *Bench) EditOf(where string) title.Edit {
	file := b.relative(where)
	if i := slices.IndexFunc(b.Edits, func(e title.Edit) bool { return e.File == file }); i >= 0 {
		return b.Edits[i]
	}
	return title.Edit{File: file}
}

// relative is a path as the bench keeps it: the opposite of [Bench.Resolve].
func (b *Bench) relative(path string) string {
	if b.file == "" {
		return path
	}
	file, entry, packed := strings.Cut(path, title.EntryMark)
	if rel, err := filepath.Rel(filepath.Dir(b.file), file); err == nil && filepath.IsLocal(rel) {
		file = rel
	}
	if packed {
		file += title.EntryMark + entry
	}
	return file
}

// ResolvedEdits are the edits with paths of this computer.
func (b *Bench) ResolvedEdits() []title.Edit {
	out := slices.Clone(b.Edits)
	for i := range out {
		file, entry, packed := strings.Cut(out[i].File, title.EntryMark)
		out[i].File = b.Resolve(file)
		if packed {
			out[i].File += title.EntryMark + entry
		}
	}
	return out
}

// AddList adds a file with the user's list of titles, a path of this computer. It reports whether it was
// not there yet.
func (b *Bench) AddList(path string) bool {
	list := b.relative(path)
	if slices.Contains(b.Lists, list) {
		return false
	}
	b.Lists = append(slices.Clone(b.Lists), list)
	return true
}

// ListPaths lists the files with the user's lists of titles.
func (b *Bench) ListPaths() []string {
	var out []string
	for _, l := range b.Lists {
		out = append(out, b.Resolve(l))
	}
	return out
}

// Wanted reports, by index, whether a title is wanted at place number p.
func (b *Bench) Wanted(p int, titles []title.Title) func(i int) bool {
	return func(i int) bool { return b.Places[p].Wants(titles[i].Key) }
}

// Clone copies the bench, so that one goroutine can work on it while another
// changes the choices.
func (b *Bench) Clone() *Bench {
	c := *b
	c.Sources, c.Places = slices.Clone(b.Sources), slices.Clone(b.Places)
	c.Edits, c.Passwords, c.Lists = slices.Clone(b.Edits), slices.Clone(b.Passwords), slices.Clone(b.Lists)
	return &c
}
