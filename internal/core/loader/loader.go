// Package loader reads the two kinds of files that hold all rules: platform
// descriptions (which files are a game, and where its ID lies) and loader
// profiles (what a loader accepts, and where it wants it).
package loader

import (
	"embed"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"polytome/internal/core/strict"
)

// FormatVersion is the version of both file formats that this package reads.
const FormatVersion = 1

//go:embed platforms/*.toml profiles/*.toml
var shipped embed.FS

// A Set is everything that is known about loaders and platforms.
type Set struct {
	Platforms []*Platform // by name
	Profiles  []*Profile  // by name
}

// Shipped reads the descriptions that come with Polytome.
func Shipped() (*Set, error) {
	s := &Set{}
	for _, dir := range []string{"platforms", "profiles"} {
		files, err := shipped.ReadDir(dir)
		if err != nil {
			return nil, err
		}
		for _, f := range files {
			name := path.Join(dir, f.Name())
			data, err := shipped.ReadFile(name)
			if err != nil {
				return nil, err
			}
			if dir == "platforms" {
				p, err := ParsePlatform(name, data)
				if err != nil {
					return nil, err
				}
				s.Platforms = append(s.Platforms, p)
				continue
			}
			p, err := ParseProfile(name, data)
			if err != nil {
				return nil, err
			}
			s.Profiles = append(s.Profiles, p)
		}
	}
	return s, nil
}

// Platform returns the platform of that name, or nil.
func (s *Set) Platform(name string) *Platform {
	for _, p := range s.Platforms {
		if p.Name == name {
			return p
		}
	}
	return nil
}

// Profile returns the profile of that name. A name with a path separator or
// the ending .toml is read as a file of the user's.
func (s *Set) Profile(name string) (*Profile, error) {
	if strings.HasSuffix(name, ".toml") || strings.ContainsRune(name, filepath.Separator) {
		data, err := os.ReadFile(name)
		if err != nil {
			return nil, fmt.Errorf("reading the loader profile: %w", err)
		}
		return ParseProfile(name, data)
	}
	var names []string
	for _, p := range s.Profiles {
		if p.Name == name {
			return p, nil
		}
		names = append(names, p.Name)
	}
	slices.Sort(names)
	say := fmt.Sprintf("the loader %q is not known; known are: %s", name, strings.Join(names, ", "))
	if near := strict.Nearest(name, names); near != "" {
		say += fmt.Sprintf("; did you mean %q?", near)
	}
	return nil, fmt.Errorf("%s (a profile of your own is given by its file, such as ./mine.toml)", say)
}
