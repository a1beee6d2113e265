package loader

import (
	"slices"
	"strings"
)

// Guess finds the loader that a target was prepared for, by the files and folders on
// it. It returns nil when nothing tells, or several loaders are reported alike.
func (s *Set) Guess(paths []string) *Profile {
	there := map[string]bool{}
	for _, p := range paths {
		there[strings.ToUpper(p)] = true
	}
	var best *Profile
	most, tie := 0, false
	for _, p := range s.Profiles {
		n := 0
		for _, path := range s.emitTales(p) {
			if there[strings.ToUpper(path)] {
				n++
			}
		}
		switch {
		case n > most:
			best, most, tie = p, n, false
		case n == most:
			tie = true
		}
	}
	if most == 0 || tie {
		return nil
	}
	return best
}

// Folders lists the folders in which titles of a rule lie, as far as its platforms and
// their kinds of discs tell.
func (s *Set) Folders(a *Accept) []string {
	values := map[Field][]string{FieldPlatform: a.Platforms}
	for _, name := range a.Platforms {
		if known := s.Platform(name); known != nil {
			for _, k := range known.Kinds {
				values[FieldKind] = append(values[FieldKind], k.Name)
			}
		}
	}
	return a.Path.Folders(values)
}

// emitTales are the paths by which a target of the loader can be reported.
func (s *Set) emitTales(p *Profile) []string {
	var out []string
	add := func(path string) {
		for at := range path {
			if path[at] == '/' && !slices.Contains(out, path[:at]) {
				out = append(out, path[:at])
			}
		}
		if path != "" && !slices.Contains(out, path) {
			out = append(out, path)
		}
	}
	for i := range p.Accepts {
		for _, f := range s.Folders(&p.Accepts[i]) {
			add(f)
		}
	}
	for _, f := range p.Kit.Files {
		add(f.To)
	}
	for _, x := range p.Settings {
		add(x.File)
	}
	for _, f := range p.FirstBoot.Folders {
		if !f.Uses(FieldPlatform) {
			add(f.String())
		}
	}
	return out
}
