package plan

import (
	"fmt"
	"slices"
	"strings"

	"polytome/internal/core/fix"
	"polytome/internal/core/layout"
	"polytome/internal/core/shape"
	"polytome/internal/core/title"
	"polytome/internal/target"
)

// fixes plans the changes that fix findings. One whose file has changed since, or whose new path is taken, is left out,
// with a note.
func (m *maker) fixes() {
	from, to := map[string]bool{}, map[string]bool{}
	for _, group := range [][]Step{m.moves, m.puts, m.texts, m.listed, m.removes} {
		for i := range group {
			s := &group[i]
			to[m.fold(s.Path)] = true
			if s.From != "" {
				from[m.fold(s.From)] = true
			} else if s.Kind != Copy {
				from[m.fold(s.Path)] = true
			}
		}
	}
	var folders []string     // folded paths of folders that are moved
	var moved []string       // folded paths that files and folders are moved from and to
	sets := map[string]int{} // folded path -> number among the texts
	for i := range m.o.Fixes {
		x := &m.o.Fixes[i]
		if x.Choice() { // the titles and marks of the bench do it
			continue
		}
		key := m.fold(x.Path)
		was, there := m.sheet.At(x.Path)
		not := func(why string) {
			m.plan.Notes = append(m.plan.Notes, fmt.Sprintf("%s was not fixed: %s. Check the target again.", x.Path,
				why))
		}
		switch {
		case x.Do == fix.Set && there && hasSet(sets, key):
			s := &m.texts[sets[key]]
			s.Make.With.Values = append(s.Make.With.Values, valueOf(x))
			s.Size += grown(x)
			continue
		case from[key]:
			continue // it is changed otherwise, or goes
		case !there && x.Do != fix.Write:
			not("it no longer exists")
			continue
		case was.Folder && x.Do != fix.Rename:
			not("it is a folder")
			continue
		case there && !was.Folder && x.Changed(was.Size, was.Modified):
			not("it was changed since it was found")
			continue
		}
		s := Step{Kind: Replace, Path: was.Path, Why: x.Why, Fix: true}
		if there {
			was := was
			s.Was = &was
		}
		switch x.Do {
		case fix.Rename:
			if x.To == was.Path {
				continue
			}
			destination := m.fold(x.To)
			if other, taken := m.sheet.At(x.To); to[destination] || taken && m.fold(other.Path) != key {
				not("there is something at " + x.To + " already")
				continue
			}
			if within(destination, key) && destination != key || m.made[destination] || m.throughFile(x.To) ||
				m.moving(folders, key, destination) || slices.ContainsFunc(moved,
				func(p string) bool { return p != destination && (within(destination, p) || within(p, destination)) }) {
				not("something in its way is moved, or is where a folder must be")
				continue
			}
			if was.Folder && slices.ContainsFunc(moved, func(p string) bool { return within(p, key) }) {
				not("something in it is moved elsewhere")
				continue
			}
			if was.Folder {
				folders = append(folders, key)
			}
			s.Kind, s.From, s.Path, s.Size = Move, was.Path, m.at(x.To), was.Size
			to[destination] = true
			moved = append(moved, key, destination)
			m.moves = append(m.moves, s)
		case fix.Write:
			n := int64(len(x.Text))
			if there && m.o.Texts[was.Path] == x.Text && n > 0 {
				continue
			}
			s.Size, s.Make, s.Space = n, &shape.Spec{Shape: shape.Written, Size: n, Text: x.Text}, m.facts.SpaceFor(n)
			if there {
				s.Space -= m.facts.SpaceFor(was.Size)
			} else {
				s.Kind, s.Path = Copy, m.at(x.Path)
			}
			to[m.fold(s.Path)] = true
			m.texts = append(m.texts, s)
		case fix.Set:
			s.Size = was.Size + grown(x)
			s.Merged = true
			s.Make = m.placed(shape.Set, was, s.Size)
			s.Make.With.Values = []shape.Value{valueOf(x)}
			sets[key] = len(m.texts)
			m.texts = append(m.texts, s)
		case fix.Fit:
			n := pictureSize(x)
			s.Size, s.Make = n, m.placed(shape.Fitted, was, n)
			s.Make.With.Picture = x.Picture
			s.Space = m.facts.SpaceFor(n) - m.facts.SpaceFor(was.Size)
			if m.fold(x.To) != key {
				if _, taken := m.sheet.At(x.To); taken || to[m.fold(x.To)] {
					not("there is something at " + x.To + " already")
					continue
				}
				s.Kind, s.Path, s.Was, s.Space = Copy, m.at(x.To), nil, m.facts.SpaceFor(n)
			}
			to[m.fold(s.Path)] = true
			m.texts = append(m.texts, s)
		case fix.Defragment:
			s.Size, s.Make = was.Size, m.placed(shape.Whole, was, was.Size)
			s.Make.AtMost = false
			m.puts = append(m.puts, s)
		default:
			continue
		}
		from[key] = true
	}
}

// within reports whether a path is below a folder, or is it.
func within(file, folder string) bool {
	return file == folder || strings.HasPrefix(file, folder+"/")
}

// throughFile reports whether a file is where a folder above a path would have to be.
func (m *maker) throughFile(file string) bool {
	return slices.ContainsFunc(layout.Folders(file), func(dir string) bool {
		e, there := m.sheet.At(dir)
		return there && !e.Folder
	})
}

// moving reports whether one of two paths is in a folder that is moved.
func (m *maker) moving(folders []string, from, to string) bool {
	return slices.ContainsFunc(folders, func(f string) bool { return within(from, f) || within(to, f) })
}

func hasSet(sets map[string]int, key string) bool {
	_, ok := sets[key]
	return ok
}

func valueOf(x *fix.Fix) shape.Value {
	return shape.Value{Syntax: x.Syntax, Section: x.Section, Key: x.Key, Value: x.Value}
}

// grown is how many bytes a value adds to a text at most.
func grown(x *fix.Fix) int64 { return int64(len(x.Section)+len(x.Key)+len(x.Value)) + 16 }

// pictureSize is how many bytes a picture has at most, as a rule.
func pictureSize(x *fix.Fix) int64 {
	if x.Picture.Largest > 0 {
		return x.Picture.Largest
	}
	pixels := int64(max(x.Picture.Width, 1)) * int64(max(x.Picture.Height, 1))
	if x.Picture.Format == "png" {
		return pixels * 2
	}
	return pixels / 4
}

// placed is what is made of a file of the target itself.
func (m *maker) placed(as shape.Name, of target.Entry, size int64) *shape.Spec {
	return &shape.Spec{Shape: as, Source: title.File{Path: of.Path, Size: of.Size, Modified: of.Modified}, Size: size,
		AtMost: true, With: &shape.With{Placed: true}}
}
