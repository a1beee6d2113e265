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

// fixing plans the changes that fix findings, beside what else is planned.
type fixing struct {
	*maker
	from, to map[string]bool // folded paths that are changed, or go; and that something comes to
	folders  []string        // folded paths of folders that are moved
	moved    []string        // folded paths that files and folders are moved from and to
	sets     map[string]int  // folded path -> number among the texts
}

// changed is a fix with what it changes.
type changed struct {
	*fix.Fix
	key   string       // the folded path
	was   target.Entry // what is there
	there bool
	step  Step // as far as it is the same for all
}

// fixKinds are how each kind of fix is planned. They return why it cannot be made, "" for one that is planned or not
// needed any more.
var fixKinds = map[fix.Do]func(m *fixing, x *changed) (whyNot string){
	fix.Rename:     (*fixing).rename,
	fix.Write:      (*fixing).write,
	fix.Set:        (*fixing).set,
	fix.Fit:        (*fixing).fit,
	fix.Defragment: (*fixing).defragment,
	fix.Bring:      (*fixing).bring,
}

// fixes plans the changes that fix findings. One whose file has changed since, or whose new path is taken, is left out,
// with a note.
func (m *maker) fixes() {
	if len(m.o.Fixes) == 0 {
		return
	}
	f := &fixing{maker: m, from: map[string]bool{}, to: map[string]bool{}, sets: map[string]int{}}
	for _, group := range [][]Step{m.moves, m.puts, m.texts, m.listed, m.removes} {
		for i := range group {
			s := &group[i]
			f.to[m.fold(s.Path)] = true
			if s.From != "" {
				f.from[m.fold(s.From)] = true
			} else if s.Kind != Copy {
				f.from[m.fold(s.Path)] = true
			}
		}
	}
	for i := range m.o.Fixes {
		x := &m.o.Fixes[i]
		plan, known := fixKinds[x.Do]
		if !known { // the titles and marks of the bench do it
			continue
		}
		if why := f.one(x, plan); why != "" {
			m.plan.Notes = append(m.plan.Notes, fmt.Sprintf("%s was not fixed: %s. Check the target again.", x.Path,
				why))
		}
	}
}

// one plans a fix, unless its file is changed otherwise, or goes.
func (f *fixing) one(x *fix.Fix, plan func(*fixing, *changed) string) (whyNot string) {
	c := &changed{Fix: x, key: f.fold(x.Path)}
	c.was, c.there = f.sheet.At(x.Path)
	if k, has := f.sets[c.key]; has && x.Do == fix.Set && c.there { // a further value
		s := &f.texts[k]
		s.Make.With.Values = append(s.Make.With.Values, valueOf(x))
		s.Size += grown(x)
		return ""
	}
	switch {
	case f.from[c.key]:
		return ""
	case !c.there && x.Do != fix.Write && x.Do != fix.Bring:
		return "it no longer exists"
	case c.was.Folder && x.Do != fix.Rename:
		return "it is a folder"
	case c.there && !c.was.Folder && x.Changed(c.was.Size, c.was.Modified):
		return "it was changed since it was found"
	}
	c.step = Step{Kind: Replace, Path: c.was.Path, Why: x.Why, Fix: true}
	if c.there {
		was := c.was
		c.step.Was = &was
	}
	return plan(f, c)
}

// taken says that there is something else at a path, "" where it is free.
func (f *fixing) taken(to, but string) string {
	other, there := f.sheet.At(to)
	if f.to[f.fold(to)] || there && f.fold(other.Path) != but {
		return "there is something at " + to + " already"
	}
	return ""
}

func (f *fixing) rename(x *changed) string {
	if x.To == x.was.Path {
		return ""
	}
	destination := f.fold(x.To)
	if why := f.taken(x.To, x.key); why != "" {
		return why
	}
	if within(destination, x.key) && destination != x.key || f.made[destination] || f.throughFile(x.To) ||
		f.moving(f.folders, x.key, destination) || slices.ContainsFunc(f.moved,
		func(p string) bool { return p != destination && (within(destination, p) || within(p, destination)) }) {
		return "something in its way is moved, or is where a folder must be"
	}
	if x.was.Folder {
		if slices.ContainsFunc(f.moved, func(p string) bool { return within(p, x.key) }) {
			return "something in it is moved elsewhere"
		}
		f.folders = append(f.folders, x.key)
	}
	s := x.step
	s.Kind, s.From, s.Path, s.Size = Move, x.was.Path, f.at(x.To), x.was.Size
	f.moved = append(f.moved, x.key, destination)
	f.moves = append(f.moves, s)
	f.from[x.key], f.to[destination] = true, true
	return ""
}

func (f *fixing) write(x *changed) string {
	if !x.there && f.to[x.key] { // a title that is wanted brings it
		return ""
	}
	text, err := x.Content()
	if err != nil {
		return "what it shall say cannot be read: " + err.Error()
	}
	n := int64(len(text))
	if x.there && f.o.Texts[x.was.Path] == text && n > 0 {
		return ""
	}
	s := x.step
	s.Size, s.Make = n, &shape.Spec{Shape: shape.Written, Size: n, Text: shape.Text(text)}
	s.Space = f.facts.SpaceFor(x.Path, n)
	if x.there {
		s.Space -= f.facts.SpaceFor(x.was.Path, x.was.Size)
	} else {
		s.Kind, s.Path = Copy, f.at(x.Path)
	}
	f.text(x, s)
	return ""
}

// bring copies a file of this computer, over what is there.
func (f *fixing) bring(x *changed) string {
	if f.to[x.key] { // a title that is wanted brings it
		return ""
	}
	if x.there && x.was.Size == x.Bytes && x.Bytes > 0 {
		return ""
	}
	from := title.File{Path: x.Source, Entry: x.Entry, Size: x.Bytes}
	if x.Dated != nil {
		from.Modified = *x.Dated
	}
	s := x.step
	s.Size, s.Make = x.Bytes, &shape.Spec{Source: from, Size: x.Bytes}
	if x.Entry != "" {
		s.Make.Shape = shape.Unpack
	}
	s.Space = f.facts.SpaceFor(x.Path, x.Bytes)
	if x.there {
		s.Space -= f.facts.SpaceFor(x.was.Path, x.was.Size)
	} else {
		s.Kind, s.Path = Copy, f.at(x.Path)
	}
	f.text(x, s)
	return ""
}

func (f *fixing) set(x *changed) string {
	s := x.step
	s.Size, s.Merged = x.was.Size+grown(x.Fix), true
	s.Make = f.placed(shape.Set, x.was, s.Size)
	s.Make.With.Values = []shape.Value{valueOf(x.Fix)}
	f.sets[x.key] = len(f.texts)
	f.text(x, s)
	return ""
}

func (f *fixing) fit(x *changed) string {
	n, s := pictureSize(x.Fix), x.step
	s.Size, s.Make = n, f.placed(shape.Fitted, x.was, n)
	s.Make.With.Picture = x.Picture
	s.Space = f.facts.SpaceFor(x.was.Path, n) - f.facts.SpaceFor(x.was.Path, x.was.Size)
	if f.fold(x.To) != x.key {
		if why := f.taken(x.To, ""); why != "" {
			return why
		}
		s.Kind, s.Path, s.Was, s.Space = Copy, f.at(x.To), nil, f.facts.SpaceFor(x.To, n)
	}
	f.text(x, s)
	return ""
}

func (f *fixing) defragment(x *changed) string {
	s := x.step
	s.Size, s.Make = x.was.Size, f.placed(shape.Whole, x.was, x.was.Size)
	s.Make.AtMost = false
	f.puts = append(f.puts, s)
	f.from[x.key] = true
	return ""
}

// text adds what is written.
func (f *fixing) text(x *changed, s Step) {
	f.texts = append(f.texts, s)
	f.from[x.key], f.to[f.fold(s.Path)] = true, true
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
