// Package loader reads the two kinds of files that hold all rules: platform
// descriptions (which files are a game, and where its ID lies) and loader
// profiles (what a loader accepts, and where it wants it).
package loader

import (
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"polytome/internal/core/title"
	"polytome/internal/nearest"
	"polytome/internal/plainfile"
)

// FormatVersion is the version of both file formats that this package reads.
const FormatVersion = 1

//go:embed platforms/*.toml profiles/*.toml
var shipped embed.FS

// A Set is everything that is known about loaders and platforms.
type Set struct {
	Platforms []*Platform // by name
	Profiles  []*Profile  // by name
	Broken    []Broken    // files of the user's that could not be read
}

// A Broken file is one of the user's that is left out, with what is wrong in it.
type Broken struct {
	File string
	Err  error
}

const (
	PlatformDir = "platforms"
	ProfileDir  = "profiles"
)

// Shipped reads the descriptions that come with Polytome.
func Shipped() (*Set, error) {
	s := &Set{}
	s.read(shipped, ".", false)
	for _, b := range s.Broken {
		return nil, b.Err
	}
	return s, nil
}

// Known reads what ships, and then the user's own files below dir: those in its
// folders platforms and profiles add to what ships, and replace what has the same name.
// A file with a mistake in it is listed as broken, and the rest works. A
// folder that is not there is empty.
func Known(dir string) (*Set, error) {
	s, err := Shipped()
	if err != nil || dir == "" {
		return s, err
	}
	s.read(os.DirFS(dir), dir, true)
	return s, nil
}

// read takes in the files of the two folders of fsys. Shown is where that lies.
func (s *Set) read(fsys fs.FS, shown string, own bool) {
	for _, dir := range []string{PlatformDir, ProfileDir} {
		files, err := fs.ReadDir(fsys, dir)
		if err != nil {
			if !errors.Is(err, fs.ErrNotExist) {
				s.Broken = append(s.Broken, Broken{filepath.Join(shown, dir), err})
			}
			continue
		}
		for _, f := range files {
			if f.IsDir() || !strings.HasSuffix(f.Name(), ".toml") || strings.HasPrefix(f.Name(), ".") {
				continue
			}
			name := filepath.ToSlash(filepath.Join(shown, dir, f.Name()))
			var data []byte
			if own {
				data, err = plainfile.Read(filepath.Join(shown, dir, f.Name()), MostText)
			} else {
				data, err = fs.ReadFile(fsys, path.Join(dir, f.Name()))
			}
			if err == nil {
				err = s.add(dir, name, data, own)
			}
			if err != nil {
				s.Broken = append(s.Broken, Broken{name, err})
			}
		}
	}
}

// add takes in one file.
func (s *Set) add(dir, file string, data []byte, own bool) error {
	if dir == PlatformDir {
		p, err := ParsePlatform(file, data)
		if err != nil {
			return err
		}
		p.Own = own
		s.Platforms = put(s.Platforms, p, func(p *Platform) string { return p.Name })
		return nil
	}
	p, err := ParseProfile(file, data)
	if err == nil {
		err = s.Check(p)
	}
	if err != nil {
		return err
	}
	p.Own = own
	s.Profiles = put(s.Profiles, p, func(p *Profile) string { return p.Name })
	return nil
}

// put adds to a list sorted by name, or replaces what has that name.
func put[T any](list []T, x T, name func(T) string) []T {
	i, found := slices.BinarySearchFunc(list, name(x), func(a T, n string) int { return strings.Compare(name(a), n) })
	if found {
		list[i] = x
		return list
	}
	return slices.Insert(list, i, x)
}

// formsOf are the forms of a rule's platforms.
func (s *Set) formsOf(a *Accept) (out []title.Form) {
	for _, form := range title.Forms {
		if slices.ContainsFunc(a.Platforms, func(name string) bool {
			p := s.Platform(name)
			return p != nil && p.Has(form)
		}) {
			out = append(out, form)
		}
	}
	return out
}

// Check holds a profile against the platforms of the set: each that it names must
// be described, in a form that the rule is about. Rules that name no form get those of their platforms.
func (s *Set) Check(p *Profile) error {
	src := p.source
	var all []error
	look := func(at string, names []string, m *Scope) {
		for _, name := range names {
			known := s.Platform(name)
			if known == nil {
				e := src.Errorf(at+".platforms", "unknown platform %q", name)
				if e.Meant = s.NearestPlatform(name); e.Meant == "" {
					e.Say += "; describe it in a file in the folder " + PlatformDir
				}
				all = append(all, e)
				continue
			}
			if m != nil && len(m.Forms) > 0 && !slices.ContainsFunc(m.Forms, known.Has) {
				all = append(all, src.Errorf(at+".forms", "games of the platform %s have other forms: %v", name,
					known.Forms))
			}
		}
	}
	for i := range p.Refusals {
		look(at("refuse", i), p.Refusals[i].Platforms, &p.Refusals[i].Scope)
	}
	for i := range p.Accepts {
		look(at("accept", i), p.Accepts[i].Platforms, &p.Accepts[i].Scope)
		if len(p.Accepts[i].Forms) == 0 { // one that was checked before is only read
			p.Accepts[i].Forms = s.formsOf(&p.Accepts[i])
		}
	}
	for i := range p.Companions {
		look(at("companion", i), p.Companions[i].Platforms, nil)
	}
	for i := range p.Lists {
		look(at("list", i), p.Lists[i].Platforms, nil)
	}
	for i := range p.Kit.Files {
		look(at("kit.file", i), p.Kit.Files[i].Platforms, nil)
	}
	for i := range p.Examples {
		look(at("example", i), []string{p.Examples[i].Platform}, nil)
	}
	for i := range p.Saves {
		look(at("save", i), p.Saves[i].Platforms, nil)
	}
	for i := range p.Discs {
		look(at("disc", i), p.Discs[i].Platforms, nil)
	}
	for i := range p.Models {
		if m := &p.Models[i]; m.Platform != "" {
			look(at("model", i), []string{m.Platform}, nil)
		}
	}
	look("first-boot", p.FirstBoot.Platforms, nil)
	return errors.Join(all...)
}

// DescribesPlatform reports whether a file is the description of a platform, and not a loader's profile, by the tables
// in it. A file with mistakes that is not even TOML is taken for a profile.
func DescribesPlatform(data []byte) bool {
	var all map[string]any
	if toml.Unmarshal(data, &all) != nil {
		return false
	}
	has := func(names ...string) bool {
		return slices.ContainsFunc(names, func(name string) bool { _, ok := all[name]; return ok })
	}
	return !has("attachment", "accept") && has("marker", "field", "forms", "extensions", "packages")
}

// With is the set with another platform in it, in the place of one with its name.
func (s *Set) With(p *Platform) *Set {
	c := *s
	c.Platforms = put(slices.Clone(s.Platforms), p, func(p *Platform) string { return p.Name })
	return &c
}

// PlatformNames are the names of all platforms.
func (s *Set) PlatformNames() (out []string) {
	for _, p := range s.Platforms {
		out = append(out, p.Name)
	}
	return out
}

// Platform returns the platform of that name, or nil.
func (s *Set) Platform(name string) *Platform {
	i, found := slices.BinarySearchFunc(s.Platforms, name,
		func(p *Platform, n string) int { return strings.Compare(p.Name, n) })
	if !found {
		return nil
	}
	return s.Platforms[i]
}

// PlatformShown is how the platform of that name is written for people; a set that does not know it, or none, gives the
// name itself.
func (s *Set) PlatformShown(name string) string {
	if s != nil {
		if p := s.Platform(name); p != nil {
			return p.Shown
		}
	}
	return name
}

// MostText is how many bytes a profile or platform has at most.
const MostText = 1 << 20

// ReadProfile reads and checks a profile from a file.
func (s *Set) ReadProfile(file string) (*Profile, error) {
	data, err := plainfile.Read(file, MostText)
	if err != nil {
		return nil, fmt.Errorf("reading the loader profile: %w", err)
	}
	p, err := ParseProfile(file, data)
	if err != nil {
		return nil, err
	}
	p.Own = true
	return p, s.Check(p)
}

// IsFile reports whether the name of a loader is that of a profile's file.
func IsFile(name string) bool {
	return strings.HasSuffix(name, ".toml") || strings.ContainsRune(name, filepath.Separator) ||
		strings.ContainsRune(name, '/')
}

// Profile returns the profile of that name. A name with a path separator or
// the extension .toml is read as a file of the user's.
func (s *Set) Profile(name string) (*Profile, error) {
	if IsFile(name) {
		return s.ReadProfile(name)
	}
	var names []string
	for _, p := range s.Profiles {
		if p.Name == name {
			return p, nil
		}
		names = append(names, p.Name)
	}
	for _, b := range s.Broken {
		if strings.TrimSuffix(path.Base(b.File), ".toml") == name {
			return nil, fmt.Errorf("the profile of the loader %q has a mistake: %w", name, b.Err)
		}
	}
	return nil, fmt.Errorf("%w (give your own profile by its file, such as ./mine.toml)", nearest.Unknown("loader",
		name, names))
}

// Text returns the text of a platform, as shipped or as the user has it.
func (p *Platform) Text() ([]byte, error) {
	if !p.Own {
		return shipped.ReadFile(p.File)
	}
	return plainfile.Read(p.File, MostText)
}

// Text returns the text of a profile, as shipped or as the user has it.
func (p *Profile) Text() ([]byte, error) {
	if !p.Own {
		return shipped.ReadFile(p.File)
	}
	return plainfile.Read(p.File, MostText)
}
